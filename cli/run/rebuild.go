package run

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"yardtide/cli"
	"yardtide/engine/records"
	"yardtide/service"
)

func rebuildCommand() cli.Command {
	return cli.Command{
		Name: "rebuild", Usage: "[-data DIRECTORY] [-all]", Short: "begin damaged records anew, and keep what is at the " +
			"storages",
		Long: `Looks the records of every device in the data directory through, while no
service uses it. Damaged ones are put aside, never removed, and begun anew with
what can still be read of them. At its next start the service finds the files on
the device again, lists what is at the storages and reads the open records there:
a file that is there is compared with its original, by a checksum that the storage
computes or by reading it back, and is not sent again. -all begins all records
anew, whole ones too.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, cli.Env, []string) error {
			data := fs.String("data", defaultData(), "the data `directory`")
			all := fs.Bool("all", false, "also records that are whole")
			return func(ctx context.Context, e cli.Env, args []string) (err error) {
				if err := cli.NoArguments(args); err != nil {
					return err
				}
				files, err := filepath.Glob(filepath.Join(*data, "devices", "*", "records.db"))
				if err != nil || len(files) == 0 {
					return errors.Join(err, fmt.Errorf("there are no records in %s; name the data directory with -data", *data))
				}
				lock := flock.New(filepath.Join(*data, "lock"), flock.SetPermissions(0o600))
				locked, err := lock.TryLock()
				if err != nil {
					return fmt.Errorf("locking the data directory %s: %w", *data, err)
				}
				if !locked {
					return fmt.Errorf("the data directory %s: %w", *data, service.ErrInUse)
				}
				defer func() { err = errors.Join(err, lock.Close()) }()
				for _, file := range files {
					if err := rebuild(ctx, e, file, *all); err != nil {
						return err
					}
				}
				return nil
			}
		},
	}
}

func rebuild(ctx context.Context, e cli.Env, file string, anyway bool) error {
	device := filepath.Base(filepath.Dir(file))
	r, err := records.Open(ctx, file)
	if err == nil {
		err = r.Close()
	}
	switch {
	case err == nil && !anyway:
		fmt.Fprintf(e.Out, "%s: the records are whole; nothing was done (-all begins them anew all the same)\n", device)
		return nil
	case err != nil && !records.IsDamage(err):
		return fmt.Errorf("%s: %w", device, err)
	}
	aside, lost, err := records.Rebuild(ctx, file, time.Now())
	if err != nil {
		return fmt.Errorf("%s: %w", device, err)
	}
	fmt.Fprintf(e.Out, "%s: the records are begun anew; the old ones are kept in %s\n", device, aside)
	for _, what := range lost {
		fmt.Fprintf(e.Out, "  ! this could not be read of them: %s\n", what)
	}
	fmt.Fprintln(e.Out, "  Start Yard Tide: it looks at the storages first, and sends nothing that is there.")
	return nil
}

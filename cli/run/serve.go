package run

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/cli"
	"yardtide/console"
	"yardtide/core/plan"
	"yardtide/engine/awake"
	"yardtide/engine/sensor"
	"yardtide/engine/volume"
	"yardtide/service"
	"yardtide/service/api"
)

func serveCommand() cli.Command {
	return cli.Command{
		Name: "serve", Usage: "[flags]", Short: "run the service, with this computer as a device",
		Long: `Runs until interrupted. The data directory holds the plan, the records and
the token; one process uses it at a time. This computer is the device of the
plan that -device names. The console's one-time link is printed at the start;
yardtide link prints another.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, cli.Env, []string) error {
			data := fs.String("data", defaultData(), "the data `directory`")
			listen := fs.String("listen", "127.0.0.1:7400", "the loopback `address` to listen on")
			name := fs.String("device", hostName(), "this computer's `name` in the plan")
			root := fs.String("root", homeDir(), "the `folder` below which relative sources lie")
			home := fs.String("home-network", "", "the `address` at which devices elsewhere reach the service, such as "+
				"192.168.1.20:7443; it is kept")
			system := fs.String("system", "", "the `accounts` of this computer, with commas: each has a worker under its "+
				"own uid (Linux, as root)")
			runDir := fs.String("run", "/run/yardtide", "with -system: the `folder` of the socket by which the workers call")
			homes := fs.String("homes", "", "with -system: the `folder` of the accounts' home folders, where those of the "+
				"system are not meant")
			return func(ctx context.Context, e cli.Env, args []string) error {
				if err := cli.NoArguments(args); err != nil {
					return err
				}
				if !plan.IsName(*name) {
					return cli.WrongUse("%q cannot be the name of a device: use letters, digits, dots and dashes", *name)
				}
				absolute, err := filepath.Abs(*root)
				if err != nil {
					return fmt.Errorf("finding the root: %w", err)
				}
				if joined, err := service.ReadJoined(*data); err != nil || joined != nil {
					return errors.Join(err, fmt.Errorf("the data directory %s is that of a device that joined a service: "+
						"yardtide device run", *data))
				}
				log := slog.New(slog.NewTextHandler(e.Err, nil))
				var beside func(context.Context, *service.Service) error
				var planned func(*plan.Plan)
				if *system != "" {
					planned = func(p *plan.Plan) { ownPlaces(p, *name, strings.Split(*system, ","), log) }
					beside = func(ctx context.Context, s *service.Service) error {
						return accounts(ctx, s, *name, strings.Split(*system, ","), *runDir, *homes, log)
					}
				}
				return serve(ctx, e, *listen, service.Options{Dir: *data, Log: log, Beside: beside, Planned: planned,
					Members: []service.Local{{Name: *name, Root: absolute, Sensor: sensor.System(), Awake: awake.Here(),
						Volumes: volume.Mounted{}}}},
					func(s *service.Service, url string) error {
						fmt.Fprintf(e.Out, "device    %s, sources below %s\n", *name, absolute)
						if *home != "" {
							if err := s.Household.SetHomeNetwork(*home); err != nil {
								return err
							}
						}
						if s.Book.Plan() == nil {
							fmt.Fprintln(e.Out, "plan      none yet: open the console's link below, which asks for it step by step")
						}
						return nil
					})
			}
		},
	}
}

func defaultData() string {
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "yardtide")
	}
	return filepath.Join(homeDir(), ".local", "share", "yardtide")
}

func homeDir() string {
	home, err := os.UserHomeDir()
	if err != nil {
		return "."
	}
	return home
}

func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return "computer"
	}
	short, _, _ := strings.Cut(name, ".")
	return short
}

// serve runs a service until it is interrupted. begin runs once everything
// is open, before the devices start.
func serve(ctx context.Context, e cli.Env, listen string, o service.Options,
	begin func(s *service.Service, url string) error) (err error) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	l, err := api.Listen(listen) // first: an address that is none leaves nothing behind
	if err != nil {
		return err
	}
	o.Version = api.Version
	s, err := service.Open(ctx, o)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	files, err := console.Files()
	if err != nil {
		return errors.Join(fmt.Errorf("reading the console: %w", err), l.Close())
	}
	page, err := console.Phone()
	if err != nil {
		return errors.Join(fmt.Errorf("reading the page for phones: %w", err), l.Close())
	}
	server := api.New(s, files, o.Log)
	url := "http://" + l.Addr().String()
	if err := begin(s, url); err != nil {
		return errors.Join(err, l.Close())
	}
	fmt.Fprintf(e.Out, "service   %s, data in %s\n", url, o.Dir)
	fmt.Fprintf(e.Out, "terminal  export YARDTIDE_URL=%s YARDTIDE_TOKEN=$(cat %s)\n", url, filepath.Join(o.Dir, "token"))
	fmt.Fprintf(e.Out, "console   %s/open?code=%s\n", url, s.Keys.NewLink(time.Now()))
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return s.Run(ctx) })
	g.Go(func() error { return server.Serve(ctx, l) })
	if o.Joined == nil {
		g.Go(func() error { return api.NewHome(s, page, o.Log).Run(ctx) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	fmt.Fprintln(e.Out, "stopped")
	return nil
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"yardtide/core/media"
	"yardtide/core/words"
	"yardtide/wire"
)

func straysCommand() Command {
	return Command{
		Name: "strays", Usage: "[-device NAME]", Short: "pictures and clips that no folder of the plan takes up",
		Long: `Looks through a device's own folder by the names of the files, and tells where pictures
and clips lie that no source takes up, the newest first, and what it did not look into:
hidden folders, caches, folders of programs, other disks. Of every device without -device.
It changes nothing.

  yardtide strays -device chart-table
  yardtide source add Downloads -device chart-table -rule bench     # take a folder up
  yardtide device set chart-table -let-be "Downloads,Scans/Icons"   # or never mention it again`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			device := fs.String("device", "", "the `device` to look through")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) > 0 {
					return WrongUse("name a device with -device")
				}
				c := r.client(e)
				var names []string
				if *device != "" {
					names = append(names, *device)
				} else {
					y, err := c.Status(ctx)
					if err != nil {
						return err
					}
					for _, d := range y.Devices {
						names = append(names, d.Name)
					}
				}
				all, missing := []wire.Strays{}, []string{}
				for _, name := range names {
					found, err := c.Strays(ctx, name)
					if err != nil && len(names) == 1 {
						return err
					}
					if err != nil {
						missing = append(missing, fmt.Sprintf("%s: %s", name, err))
						continue
					}
					all = append(all, found)
				}
				if r.json {
					return asJSON(e.Out, all)
				}
				p := newPage(e, c.URL)
				for i, s := range all {
					if i > 0 {
						p.line(0, "")
					}
					printStrays(p, s)
				}
				for _, m := range missing {
					p.line(0, "! %s", plain(m))
				}
				return nil
			}
		},
	}
}

// kindsOf are the kinds in a folder with strays.
func kindsOf(f wire.StrayFolder) (kinds []media.Kind) {
	for _, k := range f.Kinds {
		kinds = append(kinds, k.Kind)
	}
	return kinds
}

func printStrays(p page, s wire.Strays) {
	p.line(0, "%s", plain(s.Says))
	for _, f := range s.Folders {
		name := plain(f.Folder)
		if f.Alone {
			name += " itself"
		}
		p.line(2, "%s  %9s  %-18s  %s", f.Newest.Format("2006-01-02"), bytes(f.Bytes), words.Things(f.N, kindsOf(f)...), name)
	}
	for _, f := range s.Folders {
		if len(f.Libraries) > 0 {
			p.line(2, "%s", p.paint(quiet, fmt.Sprintf("%s holds a closed library: -originals-only %q takes only its originals",
				plain(f.Folder), plain(strings.Join(f.Libraries, ",")))))
		}
	}
	for _, l := range s.Libraries {
		p.line(2, "%s %s", p.paint(asks, "?"), plain(l.Says))
		p.line(4, "%s", p.paint(quiet, fmt.Sprintf("yardtide source change %q -device %s -originals-only %q", plain(l.Source),
			plain(s.Device), plain(l.Folder))))
	}
	if len(s.Unseen) > 0 {
		var said []string
		for _, u := range s.Unseen[:min(len(s.Unseen), mostLines)] {
			said = append(said, fmt.Sprintf("%s (%s)", plain(u.Path), u.Says))
		}
		p.line(2, "%s", p.paint(quiet, "Not looked into: "+strings.Join(said, ", ")+"."))
		more(p, len(s.Unseen)+s.Left)
	}
}

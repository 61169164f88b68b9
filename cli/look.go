package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/words"
	"yardtide/wire"
)

func lookCommand() Command {
	return Command{
		Name: "look", Usage: "[FOLDER] [-device NAME]", Short: "what is in a folder, before it is taken up or as it is",
		Long: `Tells how many files of which kind and year are in a folder and below, which of its
folders are large, what would be left out and by what, what cannot be read, what is
safe already, and whether the rest fits where it would go. It tells while it counts and
changes nothing. A folder of the plan is looked at as the plan has it. Without a folder
it lists those in which people mostly keep their things.

  yardtide look PICTURES
  yardtide look -folders PICTURES     # which folders lie in it, told at once
  yardtide look /srv/scans -leave-out "*.tmp"`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var o wire.LookOrder
			fs.StringVar(&o.Device, "device", "", "the `device` whose folder it is")
			var set given
			folders := fs.Bool("folders", false, "only list the folders in it, with the pictures and clips in each by name")
			keyFlags(fs, &set, partKeys("devices", "sources"), "folder", "rules")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) > 1 {
					return WrongUse("name one folder")
				}
				c := r.client(e)
				y, err := c.Status(ctx)
				if err != nil {
					return err
				}
				if o.Device == "" {
					if len(y.Devices) != 1 {
						return WrongUse("name a device with -device")
					}
					o.Device = y.Devices[0].Name
				}
				if *folders {
					return listFolders(ctx, e, c, o.Device, strings.Join(args, ""), r.json)
				}
				if len(args) == 0 {
					return listUsual(ctx, e, c, o.Device, r.json)
				}
				o.Folder = args[0]
				if len(set.edits) > 0 {
					o.Set = set.whole()
				}
				return lookAt(ctx, e, c, o, y, r.json)
			}
		},
	}
}

func listFolders(ctx context.Context, e Env, c client.Client, device, folder string, json bool) error {
	b, err := c.Browse(ctx, device, folder)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, b)
	}
	if b.Problem != "" {
		return errors.New(b.Problem)
	}
	p := newPage(e, c.URL)
	p.line(0, "%s: %s, %s, in the folder itself.", p.paint(strong, plain(b.Path)), words.Things(b.Here.N),
		words.Bytes(b.Here.Bytes))
	for _, f := range b.Folders {
		var notes []string
		if !f.Whole {
			notes = append(notes, "and more: it was not counted whole")
		}
		if f.Closed {
			notes = append(notes, "a closed library")
		}
		if f.Source != "" {
			notes = append(notes, "in the plan as "+plain(f.Source))
		}
		p.line(2, "%-32s %s, %s %s", plain(f.Folder), words.Things(f.N), words.Bytes(f.Bytes),
			p.paint(quiet, strings.Join(notes, "; ")))
	}
	return nil
}

func listUsual(ctx context.Context, e Env, c client.Client, device string, json bool) error {
	usual, err := c.Usual(ctx, device)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, usual)
	}
	p := newPage(e, c.URL)
	if len(usual) == 0 {
		p.line(0, "%s has none of the usual folders; name one.", device)
	}
	for _, u := range usual {
		taken := ""
		if u.Source != "" {
			taken = "  in the plan as " + plain(u.Source)
		}
		p.line(0, "%-10s %s%s", u.Folder, plain(u.Path), p.paint(quiet, taken))
	}
	return nil
}

func lookAt(ctx context.Context, e Env, c client.Client, o wire.LookOrder, y wire.Yard, json bool) error {
	j, err := c.Look(ctx, o)
	if err != nil {
		return err
	}
	p := newPage(e, c.URL)
	show := func(j wire.Job) bool {
		if p.width > 0 && !json && j.Look != nil { // on one line, until it is known
			fmt.Fprintf(e.Out, "\r\x1b[K%s", p.cut(plain(j.Says)))
		}
		return false
	}
	j, ended, err := follow(ctx, e, c, j, show)
	if p.width > 0 && !json {
		fmt.Fprint(e.Out, "\r\x1b[K")
	}
	if err != nil || !ended || j.Look == nil {
		return err
	}
	if json {
		return asJSON(e.Out, j.Look)
	}
	printLook(p, *j.Look, y)
	return nil
}

const (
	mostLines = 10 // of folders, reasons and problems that are told
	barCells  = 24
)

func printLook(p page, l wire.Look, y wire.Yard) {
	p.line(0, "%s  %s", p.paint(strong, plain(l.Folder)), p.paint(quiet, plain(l.Path)))
	says := fmt.Sprintf("%s, %s", count(l.All.N, "file"), bytes(l.All.Bytes))
	if l.Source != "" {
		says += fmt.Sprintf("; taken up by the plan, as %s", plain(l.Source))
	}
	p.line(2, "%s", says)
	kinds := make([]string, 0, len(l.Kinds))
	for _, k := range l.Kinds {
		kinds = append(kinds, fmt.Sprintf("%s (%s)", count(k.N, k.Kind.Singular()), bytes(k.Bytes)))
	}
	if len(kinds) > 0 {
		p.line(2, "to take up: %s", words.And(kinds))
	}
	printBars(p, l)
	if len(l.Folders) > 1 {
		p.head("The largest folders")
		for _, f := range l.Folders[:min(len(l.Folders), mostLines)] {
			name := plain(f.Name)
			if name == "." {
				name = "files in it"
			}
			p.line(2, "%9s  %13s  %s", bytes(f.Bytes), count(f.N, "file"), name)
		}
		more(p, len(l.Folders))
	}
	printLibraries(p, l)
	if len(l.LeftOut) > 0 {
		p.head("Left out")
		for _, o := range l.LeftOut[:min(len(l.LeftOut), mostLines)] {
			p.line(2, "%9s  %13s  %s", bytes(o.Bytes), count(o.N, "file"), plain(o.Why))
		}
		more(p, len(l.LeftOut))
	}
	if l.Unreadable > 0 {
		p.head("Cannot be read: " + words.Count(l.Unreadable))
		for _, u := range l.Unread[:min(len(l.Unread), mostLines)] {
			p.line(2, "%s %s: %s", p.paint(asks, "!"), plain(u.Path), plain(u.Says))
		}
		more(p, int(l.Unreadable))
	}
	if len(y.Destinations) > 0 {
		p.head("Where it could go")
	}
	for _, d := range y.Destinations {
		p.line(2, "%s", wouldTake(d, l))
	}
}

// printLibraries shows the closed libraries in a folder, what is unclear of them, and how only their originals are
// taken.
func printLibraries(p page, l wire.Look) {
	if len(l.Libraries) == 0 {
		return
	}
	p.head("Closed libraries")
	var names []string
	for _, one := range l.Libraries[:min(len(l.Libraries), mostLines)] {
		p.line(2, "%s", plain(one.Says))
		for _, d := range one.Doubts[:min(len(one.Doubts), mostLines)] {
			p.line(2, "%s %s", p.paint(asks, "?"), plain(d.Says+" "+d.Todo))
		}
		if one.Smaller.N > 0 && (l.Source == "" || !one.Only) {
			names = append(names, one.Folder)
		}
	}
	more(p, len(l.Libraries))
	if len(names) > 0 {
		what := "add"
		if l.Source != "" {
			what = "change"
		}
		p.line(2, "%s", p.paint(quiet, fmt.Sprintf(
			"yardtide source %s %q -originals-only %q takes only originals of it", what, plain(l.Folder),
			plain(strings.Join(names, ",")))))
	}
}

// wouldTake tells what a folder would take of a destination's room.
func wouldTake(d wire.DestinationStatus, l wire.Look) string {
	says, need := d.Name+": ", l.Takes.Bytes
	for _, s := range l.SafeAt {
		if s.Destination == d.Name {
			says += fmt.Sprintf("%s of it safe there already, %s; ", words.Things(s.N, kindsIn(l)...), bytes(s.Bytes))
			need -= s.Bytes
		}
	}
	left := d.Space.Free - d.KeepFree
	switch {
	case need <= 0:
		return says + "nothing more to send"
	case d.Space.Free < 0:
		return says + fmt.Sprintf("%s more; it does not tell its room", bytes(need))
	case need > left:
		return says + fmt.Sprintf("%s more do not fit: it has room for %s", bytes(need), bytes(max(0, left)))
	}
	return says + fmt.Sprintf("%s more fit: it has room for %s", bytes(need), bytes(left))
}

func more(p page, n int) {
	if n > mostLines {
		p.line(2, "and %s more", words.Count(int64(n-mostLines)))
	}
}

// printBars shows how much was taken in which year.
func printBars(p page, l wire.Look) {
	if len(l.Years) < 2 {
		return
	}
	p.head("By year")
	most := int64(1)
	for _, y := range l.Years {
		most = max(most, y.N)
	}
	for _, y := range l.Years {
		p.line(2, "%d  %7s  %9s  %s", y.Year, words.Count(y.N), bytes(y.Bytes), p.meter(y.N, most, barCells))
	}
}

func kindsIn(l wire.Look) (kinds []media.Kind) {
	for _, k := range l.Kinds {
		kinds = append(kinds, k.Kind)
	}
	return kinds
}

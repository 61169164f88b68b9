package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/wire"
	"yardtide/wire/roomwire"
)

func roomCommand() Command {
	return Command{
		Name: "room", Usage: "[plan DEVICE | make DEVICE | held DEVICE | back DEVICE [KEY ...] | ledger DEVICE] [flags]",
		Short: "make room on a device: what is proven elsewhere goes, through a holding place",
		Long: `Without more it tells how much is free on each device. plan tells what could go from one,
and why the rest stays; make has it go. Only what is proven at two places at least (-places),
as shot at one of them, goes: each is proven again at that moment, lies in the holding place
for seven days (-held), is proven once more and only then removed. Until then back puts it
where it lay, at once; afterwards bring-back does. Every file that went stands in the ledger
with the proofs on which it did.

  yardtide room
  yardtide room plan galley-phone -keep 90 -free "20 GB"
  yardtide room make galley-phone -keep 90 -kind video -small
  yardtide room back galley-phone
  yardtide room ledger galley-phone

What is to go by itself stands in the plan:
  yardtide device set galley-phone room.free="20 GB" room.keep="90 days"`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var a roomwire.RoomAsked
			free := fs.String("free", "", "until so `much` is free on each disk, such as \"20 GB\": the oldest go")
			larger := fs.String("larger", "", "only what is larger than this `size`")
			fs.IntVar(&a.Keep, "keep", 0, "what was taken in the last `days` stays")
			fs.Func("kind", "only this `kind`; may be said more than once", func(kind string) error {
				a.Kinds = append(a.Kinds, kind)
				return nil
			})
			fs.StringVar(&a.Folder, "folder", "", "only what lies in this `folder` of the device, or below")
			fs.IntVar(&a.Places, "places", 0, "only what is proven at so `many` places; 2 without")
			fs.IntVar(&a.Held, "held", 0, "`days` in the holding place; 7 without")
			fs.BoolVar(&a.Small, "small", false, "a smaller picture stays in the place of each")
			fs.BoolVar(&a.Metered, "metered", false, "also prove over a network that may cost")
			return func(ctx context.Context, e Env, args []string) error {
				for _, kind := range a.Kinds {
					if err := oneOf("kind", kind, media.Kinds); err != nil {
						return err
					}
				}
				for _, size := range []struct {
					name, text string
					into       *int64
				}{{"free", *free, &a.Free}, {"larger", *larger, &a.Larger}} {
					if size.text == "" {
						continue
					}
					n, err := plan.ParseSize(size.text)
					if err != nil {
						return WrongUse("-%s: %v", size.name, err)
					}
					*size.into = int64(n)
				}
				return doRoom(ctx, e, r, a, args)
			}
		},
	}
}

func doRoom(ctx context.Context, e Env, r reach, a roomwire.RoomAsked, args []string) error {
	c := r.client(e)
	verb, args := first(args)
	if verb == "" {
		return roomOverview(ctx, e, c, r.json)
	}
	device, args := first(args)
	if device == "" {
		return WrongUse("name the device: yardtide room %s DEVICE", verb)
	}
	a.Device = device
	if len(args) > 0 && verb != "back" {
		return WrongUse("only one device is named at a time")
	}
	switch verb {
	case "plan":
		p, err := c.Room().Plan(ctx, a)
		if err != nil {
			return err
		}
		if r.json {
			return asJSON(e.Out, p)
		}
		printRoomPlan(e.Out, p)
		return nil
	case "make":
		return makeRoom(ctx, e, c, r.json, a)
	case "held", "ledger":
		return roomLedger(ctx, e, c, r.json, device, verb == "held")
	case "back":
		back, err := c.Room().TakeBack(ctx, device, args)
		if err != nil {
			return err
		}
		if r.json {
			return asJSON(e.Out, back)
		}
		fmt.Fprintf(e.Out, "%s where they lay.\n", words.Things(back.N))
		return nil
	}
	return WrongUse("say plan, make, held, back or ledger")
}

func roomOverview(ctx context.Context, e Env, c client.Client, json bool) error {
	o, err := c.Room().Overview(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, o)
	}
	for i, d := range o.Devices {
		if i > 0 {
			fmt.Fprintln(e.Out)
		}
		fmt.Fprintln(e.Out, plain(d.Device))
		printDisks(e.Out, d.Disks)
		if d.Held.N > 0 {
			fmt.Fprintf(e.Out, "  %s, %s, in the holding place; the first go %s\n", words.Things(d.Held.N), words.Bytes(d.Held.Bytes),
				d.Until.Local().Format("on 2 Jan 2006, 15:04"))
		}
		if d.Removed.N > 0 {
			fmt.Fprintf(e.Out, "  %s, %s, went\n", words.Things(d.Removed.N), words.Bytes(d.Removed.Bytes))
		}
		fmt.Fprintln(e.Out, "  "+plain(cmp.Or(d.By, d.Standing)))
	}
	return nil
}

func printDisks(w io.Writer, disks []roomwire.RoomDisk) {
	for _, d := range disks {
		free := "how much is free is not known"
		if d.Free >= 0 {
			free = words.Bytes(d.Free) + " free"
		}
		if d.Total > 0 {
			free += " of " + words.Bytes(d.Total)
		}
		if d.Held > 0 {
			free += ", and " + words.Bytes(d.Held) + " once the holding place is empty"
		}
		fmt.Fprintf(w, "  %s: %s\n", plain(strings.Join(d.Sources, ", ")), free)
	}
}

func printRoomPlan(w io.Writer, p roomwire.RoomPlan) {
	fmt.Fprintln(w, p.Says)
	for _, f := range p.Folders {
		fmt.Fprintf(w, "  from %s: %s, %s\n", plain(f.Folder), words.Things(f.N), words.Bytes(f.Bytes))
	}
	if p.N > 0 {
		fmt.Fprintf(w, "  taken from %s to %s\n", p.From.Local().Format(time.DateOnly), p.To.Local().Format(time.DateOnly))
	}
	printDisks(w, p.Disks)
	if len(p.Stays) > 0 {
		fmt.Fprintln(w, "What stays:")
	}
	for _, s := range p.Stays {
		fmt.Fprintf(w, "  %s (%s)\n", plain(strings.TrimSuffix(s.Says, ".")), words.Bytes(s.Bytes))
	}
	if p.Problem != "" && p.N > 0 {
		fmt.Fprintln(w, p.Problem)
	}
}

// makeRoom begins, and waits until what may go is in the holding place.
func makeRoom(ctx context.Context, e Env, c client.Client, json bool, a roomwire.RoomAsked) error {
	j, err := c.Room().Make(ctx, a)
	if err != nil {
		return err
	}
	return finishJob(ctx, e, c, j, json, func(j wire.Job) []string {
		if j.Room == nil {
			return nil
		}
		return j.Room.Says
	})
}

// ledgerPart is how many files are read at a time.
const ledgerPart = 1000

func roomLedger(ctx context.Context, e Env, c client.Client, json bool, device string, held bool) error {
	all := roomwire.RoomLedger{Files: []roomwire.RoomFile{}}
	for below := int64(0); ; {
		l, err := c.Room().Ledger(ctx, device, held, below, ledgerPart)
		if err != nil {
			return err
		}
		if json {
			all.Files = append(all.Files, l.Files...)
		} else {
			for _, f := range l.Files {
				printCleared(e.Out, f)
			}
		}
		if below = l.Below; below == 0 {
			break
		}
	}
	if json {
		return asJSON(e.Out, all.Files)
	}
	return nil
}

func printCleared(w io.Writer, f roomwire.RoomFile) {
	on := func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }
	how := "in the holding place since " + on(f.Since) + ", until " + on(f.Until)
	switch {
	case f.State == "back":
		how = "back since " + on(f.Back)
	case f.State == "removed" && !f.Back.IsZero():
		how = "removed " + on(f.Removed) + ", brought back " + on(f.Back)
	case f.State == "removed":
		how = "removed " + on(f.Removed)
	}
	fmt.Fprintf(w, "%s  %s  %s\n", plain(f.Path), words.Bytes(f.Bytes), how)
	if f.Says != "" {
		fmt.Fprintf(w, "    %s\n", plain(f.Says))
	}
	for _, p := range f.Proofs {
		form := "smaller"
		if p.AsShot {
			form = "as shot"
		}
		fmt.Fprintf(w, "    %s: %s, %s, %s, %s\n", p.Destination, plain(p.Path), form, plain(p.Way), on(p.At))
	}
	fmt.Fprintf(w, "    key %s\n", f.Key)
}

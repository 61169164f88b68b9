package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/wire"
)

func queueCommand() Command {
	return Command{
		Name: "queue", Usage: "[flags]", Short: "list pictures and clips, newest first",
		Long: `Lists pictures and clips, each once, with how all its copies together stand, its
size, when it was taken, and where it is safe, waits or is stuck, and why. The
filters can be combined. In a terminal a long list is read page by page (PAGER,
or less).

states  ` + listed(queue.States) + `
gates   ` + listed(gate.Names),
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			var f wire.Filter
			r.flags(fs, true)
			fs.StringVar(&f.Device, "device", "", "only of this `device`")
			fs.StringVar(&f.State, "state", "", "only in this `state`; unsafe is all that are not safe yet")
			fs.StringVar(&f.Kind, "kind", "", "only this `kind`: photo or video")
			fs.StringVar(&f.Hold, "hold", "", "only what this `gate` holds")
			fs.StringVar(&f.Destination, "destination", "", "only what is at this `destination`, or goes there")
			fs.IntVar(&f.Limit, "n", 50, "how many at the most, 0 for all")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				if f.Limit < 0 {
					return WrongUse("-n cannot be negative")
				}
				if err := oneOf("state", f.State, append(slices.Clone(queue.States), queue.Unsafe)); err != nil {
					return err
				}
				if err := oneOf("kind", f.Kind, media.Kinds); err != nil {
					return err
				}
				if err := oneOf("hold", f.Hold, gate.Names); err != nil {
					return err
				}
				c := r.client(e)
				items, more, err := list(ctx, c, f)
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.Out, items)
				}
				return paged(e, c.URL, func(p page) error {
					printItems(p, items)
					if more {
						p.line(0, "and more: -n 0 lists all")
					}
					return nil
				})
			}
		},
	}
}

// oneOf refuses a filter's value that is none of the known ones.
func oneOf[T ~string](flag, value string, known []T) error {
	if value == "" || slices.Contains(known, T(value)) {
		return nil
	}
	return WrongUse("-%s is one of %s, and not %q", flag, listed(known), value)
}

func listed[T ~string](known []T) string {
	words := make([]string, len(known))
	for i, k := range known {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}

// list reads pages up to the filter's limit; more tells that it stopped there.
func list(ctx context.Context, c client.Client, f wire.Filter) (items []wire.Item, more bool, err error) {
	const most = 500
	want := f.Limit
	items = []wire.Item{}
	for {
		f.Limit = most
		if want > 0 {
			f.Limit = min(most, want-len(items))
		}
		page, err := c.Items(ctx, f)
		if err != nil {
			return nil, false, err
		}
		items = append(items, page.Items...)
		if page.Next == "" {
			return items, false, nil
		}
		if want > 0 && len(items) >= want {
			return items, true, nil
		}
		f.After = page.Next
	}
}

func printItems(p page, items []wire.Item) {
	if len(items) == 0 {
		p.line(0, "nothing")
		return
	}
	for _, it := range items {
		p.line(0, "%s %8s  %s  %s  %s", p.paint(tones[it.State], fmt.Sprintf("%-9s", it.State)), bytes(it.Bytes),
			it.TakenAt.Format("2006-01-02 15:04"),
			p.item(it.Device, it.Key, p.paint(strong, plain(it.Device+":"+it.Path))), p.paint(quiet, plain(reason(it))))
	}
}

// reason is where an item stands and why, in a line.
func reason(it wire.Item) string {
	now := time.Now()
	says := []string{it.Says}
	told := map[string]bool{}
	for _, c := range it.Copies {
		if c.Shelf != "" {
			continue
		}
		why := c.Says + " " + c.Todo
		switch {
		case len(c.Holds) > 0:
			why = c.Holds[0].Says
			if at := opens(c.Holds[0], now); at != "" {
				why += " [" + at + "]"
			}
		case c.State == "waiting":
			why = "Next in line."
		case c.State != "stuck" && c.State != "skipped":
			continue
		}
		if !told[why] {
			told[why] = true
			says = append(says, strings.TrimSpace(why))
		}
	}
	return strings.Join(says, " ")
}

func whyCommand() Command {
	return Command{
		Name: "why", Usage: "ITEM [flags]", Short: "why an item is safe, waits or is stuck",
		Long: `ITEM is a file's name, its path on the device from the source on (as the queue
prints it, with the device before it), or a part of its name. Prints the item
with its copy at each place: where it lies, how it was proven, every gate that
holds it and when that opens, and what to do; then its story.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) != 1 {
					return WrongUse("name one item")
				}
				c := r.client(e)
				items, err := find(ctx, c, args[0])
				if err != nil {
					return err
				}
				stories := []wire.Story{}
				for _, one := range items {
					s, err := c.Story(ctx, one.Device, one.Key)
					if err != nil {
						return err
					}
					stories = append(stories, s)
				}
				if r.json {
					return asJSON(e.Out, stories)
				}
				return paged(e, c.URL, func(p page) error {
					for i, s := range stories {
						if i > 0 {
							p.space()
						}
						printStory(p, s)
					}
					return nil
				})
			}
		},
	}
}

// find finds items by what a person calls them; none is an error.
func find(ctx context.Context, c client.Client, text string) ([]wire.Item, error) {
	page, err := c.Find(ctx, text)
	if err != nil {
		return nil, err
	}
	if len(page.Items) == 0 {
		return nil, fmt.Errorf("no item is called %q; give a file's name or a part of it (yardtide queue lists them)", text)
	}
	return page.Items, nil
}

func printStory(p page, s wire.Story) {
	it, now := s.Item, time.Now()
	p.line(0, "%s  %s", p.item(it.Device, it.Key, p.paint(strong, plain(it.Device+":"+it.Path))),
		p.paint(tones[it.State], it.State))
	p.line(2, "%s, %s, taken %s%s", it.Kind, bytes(it.Bytes), it.TakenAt.Format("2 Jan 2006 15:04:05 -07:00"),
		map[string]string{
			"header-nz": " (the camera wrote no zone; the device's is assumed)", "file": " (the file's own time; its header " +
				"has none)"}[it.TakenFrom])
	if it.Gone {
		p.line(2, "The file is no longer on the device, or has another content now.")
	}
	for _, part := range it.Parts {
		p.line(2, "with %s, %s, %s", plain(part.Name), part.Kind, bytes(part.Bytes))
	}
	if len(it.Copies) == 0 {
		p.line(2, "%s", plain(it.Says))
	}
	for _, c := range it.Copies {
		printCopy(p, c, now)
	}
	if it.State == "waiting" {
		p.line(2, "send-now  %s", s.Cost.Says)
	}
	p.line(2, "%s", p.paint(quiet, "its story"))
	for _, ev := range s.Story {
		at := ""
		if ev.Destination != "" {
			at = ev.Destination + ": "
			if ev.Shelf != "" {
				at = ev.Destination + ", " + ev.Shelf.Label() + ": "
			}
			if ev.Part != "" {
				at = ev.Part + ", " + at
			}
		}
		p.line(4, "%s  %-9s %s%s", p.paint(quiet, ev.At.Local().Format("2006-01-02 15:04:05")), ev.State, at, plain(ev.Says))
	}
}

func printCopy(p page, c wire.Copy, now time.Time) {
	state, name := p.paint(tones[c.State], fmt.Sprintf("%-9s", c.State)), p.paint(strong, c.Destination)
	if c.Shelf != "" {
		name += ", " + c.Shelf.Label()
	}
	if c.Part != "" {
		name += " (" + plain(c.Part) + ")"
	}
	if c.Remote == "" {
		p.line(2, "%s to %s", state, name)
	} else {
		p.line(2, "%s at %s: %s", state, name, plain(c.Remote))
	}
	if c.Proof != "" {
		p.line(4, "proof     %s, %s", c.Proof, when(c.ProvenAt, now))
		p.line(4, "sha256    %s", c.SHA256)
	}
	for _, h := range c.Holds {
		line := h.Says
		if !h.Since.IsZero() {
			line += " Since " + when(h.Since, now) + "."
		}
		if !h.Opens.IsZero() {
			line += " Opens " + when(h.Opens, now) + "."
		}
		p.line(4, "held by   %s: %s", h.Gate, plain(line))
	}
	if len(c.Holds) == 0 && c.Says != "" && c.State != "safe" {
		p.line(4, "because   %s", plain(c.Says))
	}
	if c.Todo != "" {
		p.line(4, "to do     %s", plain(c.Todo))
	}
}

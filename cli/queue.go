package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
)

func queueCommand() command {
	return command{
		name: "queue", usage: "[flags]", short: "list copies, newest first",
		long: `Lists copies with their state, size, capture time and why they are where they
are. The filters can be combined; hold is the name of a gate: network,
metered, roaming, power, hours, idle, allowance, kind, pause, trouble, retry,
proof, space, place.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			var f client.Filter
			r.flags(fs, true)
			fs.StringVar(&f.Device, "device", "", "only of this `device`")
			fs.StringVar(&f.State, "state", "", "only in this `state`")
			fs.StringVar(&f.Kind, "kind", "", "only this `kind`: photo or video")
			fs.StringVar(&f.Hold, "hold", "", "only what this `gate` holds")
			fs.IntVar(&f.Limit, "n", 50, "how many at the most, 0 for all")
			return func(ctx context.Context, e env, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				if f.Limit < 0 {
					return wrongUse("-n cannot be negative")
				}
				if err := oneOf("state", f.State, queue.States); err != nil {
					return err
				}
				if err := oneOf("kind", f.Kind, media.Kinds); err != nil {
					return err
				}
				if err := oneOf("hold", f.Hold, gate.Names); err != nil {
					return err
				}
				copies, more, err := list(ctx, r.client(e), f)
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.out, copies)
				}
				printCopies(e.out, copies)
				if more {
					fmt.Fprintf(e.out, "and more: -n 0 lists all\n")
				}
				return nil
			}
		},
	}
}

// oneOf refuses a filter's value that is none of the known ones.
func oneOf[T ~string](flag, value string, known []T) error {
	if value == "" || slices.Contains(known, T(value)) {
		return nil
	}
	words := make([]string, len(known))
	for i, k := range known {
		words[i] = string(k)
	}
	return wrongUse("-%s is one of %s, and not %q", flag, strings.Join(words, ", "), value)
}

// list reads pages up to the filter's limit; more tells that it stopped there.
func list(ctx context.Context, c client.Client, f client.Filter) (copies []client.Copy, more bool, err error) {
	const most = 500
	want := f.Limit
	copies = []client.Copy{}
	for {
		f.Limit = most
		if want > 0 {
			f.Limit = min(most, want-len(copies))
		}
		page, err := c.Copies(ctx, f)
		if err != nil {
			return nil, false, err
		}
		copies = append(copies, page.Copies...)
		if page.Next == "" {
			return copies, false, nil
		}
		if want > 0 && len(copies) >= want {
			return copies, true, nil
		}
		f.After = page.Next
	}
}

func printCopies(w io.Writer, copies []client.Copy) {
	if len(copies) == 0 {
		fmt.Fprintln(w, "nothing")
		return
	}
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, c := range copies {
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", c.State, bytes(c.Bytes), c.TakenAt.Format("2006-01-02 15:04"), plain(c.Device+":"+c.Path), plain(reason(c)))
	}
	_ = t.Flush() // the terminal went away
}

// reason is why a copy is where it is, in a line.
func reason(c client.Copy) string {
	now := time.Now()
	switch {
	case len(c.Holds) > 0:
		says := c.Holds[0].Says
		if at := opens(c.Holds[0], now); at != "" {
			says += " [" + at + "]"
		}
		return says
	case c.State == "safe":
		return "as " + c.Remote
	case c.Says != "" && c.Todo != "":
		return c.Says + " " + c.Todo
	case c.State == "waiting":
		return "next in line"
	}
	return c.Says
}

func whyCommand() command {
	return command{
		name: "why", usage: "ITEM [flags]", short: "why an item is safe, waits or is stuck",
		long: `ITEM is a file's name, its path on the device from the source on (as the queue
prints it, with the device before it), or a part of its name. Prints where each of its copies stands, every gate that holds it
and when that opens, what to do, and its story.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e env, args []string) error {
				if len(args) != 1 {
					return wrongUse("name one item")
				}
				c := r.client(e)
				copies, err := item(ctx, c, args[0])
				if err != nil {
					return err
				}
				stories := []client.Story{}
				for _, one := range copies {
					s, err := c.Story(ctx, one.Device, one.ID)
					if err != nil {
						return err
					}
					stories = append(stories, s)
				}
				if r.json {
					return asJSON(e.out, stories)
				}
				for i, s := range stories {
					if i > 0 {
						fmt.Fprintln(e.out)
					}
					printStory(e.out, s)
				}
				return nil
			}
		},
	}
}

// item finds the copies of an item; none is an error.
func item(ctx context.Context, c client.Client, text string) ([]client.Copy, error) {
	page, err := c.Find(ctx, text)
	if err != nil {
		return nil, err
	}
	if len(page.Copies) == 0 {
		return nil, fmt.Errorf("no item is called %q; give a file's name or a part of it (yardtide queue lists them)", text)
	}
	return page.Copies, nil
}

func printStory(w io.Writer, s client.Story) {
	c, now := s.Copy, time.Now()
	fmt.Fprintf(w, "%s on %s, %s, %s\n", plain(c.Path), c.Device, c.Kind, bytes(c.Bytes))
	fmt.Fprintf(w, "  taken     %s%s\n", c.TakenAt.Format("2 Jan 2006 15:04:05 -07:00"), map[string]string{
		"header-nz": " (the camera wrote no zone; the device's is assumed)", "file": " (the file's own time; its header has none)"}[c.TakenFrom])
	fmt.Fprintf(w, "  state     %s\n", c.State)
	if c.Remote != "" {
		fmt.Fprintf(w, "  at        %s: %s\n", c.Destination, plain(c.Remote))
	} else {
		fmt.Fprintf(w, "  goes to   %s\n", c.Destination)
	}
	if c.Proof != "" {
		fmt.Fprintf(w, "  proof     %s, %s\n  sha256    %s\n", c.Proof, when(c.ProvenAt, now), c.SHA256)
	}
	for _, h := range c.Holds {
		line := h.Says
		if !h.Since.IsZero() {
			line += " Since " + when(h.Since, now) + "."
		}
		if !h.Opens.IsZero() {
			line += " Opens " + when(h.Opens, now) + "."
		}
		fmt.Fprintf(w, "  held by   %s: %s\n", h.Gate, plain(line))
	}
	if len(c.Holds) == 0 && c.Says != "" {
		fmt.Fprintf(w, "  because   %s\n", plain(c.Says))
	}
	if c.Todo != "" {
		fmt.Fprintf(w, "  to do     %s\n", c.Todo)
	}
	if c.State == "waiting" {
		fmt.Fprintf(w, "  send-now  %s\n", s.Cost.Says)
	}
	for _, ev := range s.Story {
		fmt.Fprintf(w, "  %-19s  %-9s %s\n", ev.At.Local().Format("2006-01-02 15:04:05"), ev.State, plain(ev.Says))
	}
}

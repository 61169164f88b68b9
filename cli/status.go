package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"yardtide/client"
	"yardtide/core/queue"
	"yardtide/engine/device"
)

func statusCommand() command {
	return command{
		name: "status", usage: "[flags]", short: "what is safe, what waits, and why",
		long: `Prints each device with its network and power, its copies by state, what is
being sent, and the reasons for which copies wait, with when each opens if
that can be known; then each destination with its room.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e env, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				s, err := r.client(e).Status(ctx)
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.out, s)
				}
				printStatus(e.out, s)
				return nil
			}
		},
	}
}

func printStatus(w io.Writer, s client.Yard) {
	name := s.Yard
	if name == "" {
		name = "A yard without a plan"
	}
	fmt.Fprintf(w, "%s, %s\n", plain(name), s.Time.Local().Format("Mon 2 Jan 2006 15:04:05"))
	if s.Problem != "" {
		fmt.Fprintf(w, "\n! %s\n", s.Problem)
	}
	for _, d := range s.Devices {
		printDevice(w, d, s)
	}
	for _, name := range s.Absent {
		fmt.Fprintf(w, "\n%s\n  not here: no process runs this device\n", name)
	}
	for _, d := range s.Destinations {
		fmt.Fprintf(w, "\n%s (%s, %s)\n  %s\n", d.Name, d.Kind, d.Where, room(d))
		printTroubles(w, "  ", d)
	}
}

// printTroubles says what is wrong with a destination, what to do, and what
// else its sends say, a line each.
func printTroubles(w io.Writer, indent string, d client.DestinationStatus) {
	for _, says := range []string{d.Problem, d.Todo, d.Says} {
		if says != "" {
			fmt.Fprintf(w, "%s! %s\n", indent, plain(says))
		}
	}
}

func room(d client.DestinationStatus) string {
	kept := ""
	if d.KeepFree > 0 {
		kept = fmt.Sprintf(", %s of it kept so", bytes(d.KeepFree))
	}
	switch {
	case d.Space.Free < 0 && d.Space.Used < 0:
		return "does not tell how much room it has"
	case d.Space.Used < 0:
		return bytes(d.Space.Free) + " free" + kept
	}
	return fmt.Sprintf("%s free%s, %s used", bytes(d.Space.Free), kept, bytes(d.Space.Used))
}

func printDevice(w io.Writer, d device.Status, s client.Yard) {
	fmt.Fprintf(w, "\n%s: %s\n", d.Name, conditions(d.Conditions))
	if d.Problem != "" {
		fmt.Fprintf(w, "  ! %s\n", plain(d.Problem))
	}
	var parts []string
	for _, state := range queue.States {
		if a := d.States[state]; a.N > 0 {
			parts = append(parts, fmt.Sprintf("%s %d (%s)", state, a.N, bytes(a.Bytes)))
		}
	}
	if len(parts) == 0 {
		parts = []string{"nothing found yet"}
	}
	fmt.Fprintf(w, "  %s\n", strings.Join(parts, ", "))
	for _, one := range d.Sends {
		fmt.Fprintf(w, "  %-9s %s to %s  %s of %s%s\n", one.State, plain(one.Name), one.Destination, bytes(one.Sent), bytes(one.Bytes), rate(one))
		if one.BeginsAnew {
			fmt.Fprintf(w, "            %s cannot go on after a cut: it would begin anew\n", one.Destination)
		}
	}
	if d.Going.N > 0 {
		fmt.Fprintf(w, "  next in line: %d (%s)\n", d.Going.N, bytes(d.Going.Bytes))
	}
	for _, h := range d.Holds {
		says := fmt.Sprintf("%d wait (%s): %s", h.N, bytes(h.Bytes), plain(h.Says))
		if h.N == 1 {
			says = strings.Replace(says, "1 wait ", "1 waits ", 1)
		}
		if at := opens(h.Hold, s.Time); at != "" {
			says += " [" + at + "]"
		}
		fmt.Fprintf(w, "  %s\n", says)
		if h.Todo != "" {
			fmt.Fprintf(w, "    %s\n", h.Todo)
		}
	}
	if n := d.States[queue.Stuck].N; n > 0 {
		fmt.Fprintf(w, "  ! %d stuck: yardtide queue -state stuck tells what to do\n", n)
	}
	for _, src := range d.Sources {
		for _, p := range src.Problems {
			fmt.Fprintf(w, "  ! %s: %s %s\n", plain(p.Path), p.Says, p.Todo)
		}
	}
}

func rate(s device.Send) string {
	if s.Rate == 0 || s.Sent >= s.Bytes {
		return ""
	}
	return ", " + bytes(s.Rate) + "/s"
}

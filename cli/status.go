package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

func statusCommand() Command {
	return Command{
		Name: "status", Usage: "[flags]", Short: "what is safe, what waits, and why",
		Long: `Prints the glance: whether everything is safe; what needs you, and what to do;
what is on its way; what waits, why, and until when if that can be known; then
each device with its network and power, and each storage with its room. What is
counted is pictures and clips, each once, at however many places it is to lie.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				c := r.client(e)
				s, err := c.Status(ctx)
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.Out, s)
				}
				printStatus(newPage(e, c.URL), s)
				return nil
			}
		},
	}
}

// printStatus prints the glance: is everything safe; what needs the keeper; what is
// on its way; what waits, why and until when; then each device and each storage.
func printStatus(p page, y wire.Yard) {
	name := y.Yard
	if name == "" {
		name = "A yard without a plan"
	}
	p.line(0, "%s", p.paint(quiet, plain(name)+", "+y.Time.Local().Format("Mon 2 Jan 2006 15:04:05")))
	p.line(0, "%s", p.paint(strong, y.Says))
	if y.Home != nil {
		p.line(0, "%s", plain(strings.TrimSpace(y.Home.Says+" "+y.Home.Problem)))
	}
	if len(y.Needs) > 0 {
		p.head("Needs you")
		for _, n := range y.Needs {
			p.line(2, "%s %s", p.paint(asks, "!"), plain(strings.TrimSpace(n.Says+" "+n.Todo)))
		}
	}
	printSends(p, y)
	printHolds(p, y)
	if len(y.Devices) > 0 {
		p.head("Devices")
	}
	for _, d := range y.Devices {
		p.line(2, "%s: %s. %s%s", p.paint(strong, d.Name), conditions(d.Conditions), states(p, d), lastHeard(p, d))
		if d.InSmall.N > 0 {
			p.line(4, "%s safe in small, not yet whole", words.Count(d.InSmall.N))
		}
		if len(d.Beside) > 0 {
			says := make([]string, len(d.Beside))
			for i, b := range d.Beside {
				says[i] = b.Says
			}
			p.line(4, "beside the copies: %s", strings.Join(says, " "))
		}
		for _, says := range slices.Concat([]string{d.Problem, d.Awake.Says, strayed(d)}, appeared(d), carded(d), doubled(d)) {
			if says != "" {
				p.line(4, "%s", plain(says))
			}
		}
	}
	if len(y.Destinations) > 0 {
		p.head("Storage")
	}
	for _, d := range y.Destinations {
		p.line(2, "%s: holds %s, %s; %s. %s", p.paint(strong, d.Name), words.Things(d.Held.N, kindsAt(d)...),
			bytes(d.Held.Bytes), room(d), p.paint(quiet, fmt.Sprintf("%s, %s", d.Kind, d.Where)))
	}
}

// strayed tells of media that no source takes up, and how to see them.
func strayed(d wire.Device) string {
	if d.Strays == nil || d.Strays.Says == "" {
		return ""
	}
	return d.Strays.Says + " See them: yardtide strays -device " + d.Name
}

// appeared tells of folders that are new, and how each is answered.
func appeared(d wire.Device) (says []string) {
	if d.Strays == nil {
		return nil
	}
	for _, f := range d.Strays.New {
		says = append(says, fmt.Sprintf("The folder %s is new: %s, %s. Take it up: yardtide source add %q -device %s -rule NAME. Or let "+
			"it be: let-be of the device.", f.Folder, words.Things(f.N, kindsOf(f)...), bytes(f.Bytes), f.Folder, d.Name))
	}
	return says
}

// carded tells of the cards, cameras and phones on a cable that are in a device and not left alone.
func carded(d wire.Device) (says []string) {
	for _, c := range d.Cards {
		switch c.State {
		case cardwire.Asks:
			says = append(says, c.Says+" Answer: yardtide card list")
		case cardwire.Left, cardwire.Away:
		default:
			says = append(says, c.Says)
		}
	}
	return says
}

// doubled tells what lies at places twice.
func doubled(d wire.Device) (says []string) {
	for _, one := range d.Doubles {
		says = append(says, one.Says)
	}
	return says
}

// lastHeard tells when a device elsewhere was heard of, unless that was just now.
func lastHeard(p page, d wire.Device) string {
	if d.Link == nil || d.Link.Connected {
		return ""
	}
	return " " + p.paint(quiet, plain(d.Link.Says))
}

// states tells a device's items by state.
func states(p page, d wire.Device) string {
	var parts []string
	for _, state := range queue.States {
		if a := d.States[state]; a.N > 0 {
			parts = append(parts, fmt.Sprintf("%s %s (%s)", p.paint(tones[string(state)], string(state)), words.Count(a.N),
				bytes(a.Bytes)))
		}
	}
	if len(parts) == 0 {
		return "Nothing found yet."
	}
	return strings.Join(parts, ", ")
}

// kindsAt are the kinds of what lies at a destination.
func kindsAt(d wire.DestinationStatus) (kinds []media.Kind) {
	for _, share := range d.There {
		kinds = append(kinds, share.Kind)
	}
	return kinds
}

// mostSends is how many of what is on its way are told each by itself.
const mostSends = 8

func printSends(p page, y wire.Yard) {
	n := 0
	var going wire.Amount
	var kinds []media.Kind
	for _, d := range y.Devices {
		kinds = append(kinds, d.Kinds...)
		going = going.Plus(d.Going.N, d.Going.Bytes)
		for _, s := range d.Sends {
			if n++; n == 1 {
				p.head("On the way")
			}
			if n <= mostSends {
				printSend(p, d.Name, s)
			}
		}
	}
	if n > mostSends {
		p.line(2, "and %d more", n-mostSends)
	}
	if going.N > 0 {
		if n == 0 {
			p.head("On the way")
		}
		p.line(2, "next in line: %s, %s", words.Things(going.N, kinds...), bytes(going.Bytes))
	}
}

func printSend(p page, device string, s wire.Send) {
	name := fmt.Sprintf("%s from %s to %s", p.item(device, s.Item, plain(s.Name)), device, s.Destination)
	if s.Shelf != "" {
		name += ", " + s.Shelf.Label()
	}
	switch s.State {
	case queue.Sending:
		says := fmt.Sprintf("%s of %s", bytes(s.Sent), bytes(s.Bytes))
		if s.Rate > 0 && s.Sent < s.Bytes {
			says += fmt.Sprintf(", %s/s, %s still", bytes(s.Rate),
				short(time.Duration(s.Bytes-s.Sent)*time.Second/time.Duration(s.Rate)))
		}
		if s.BeginsAnew {
			says += "; after a cut it would begin anew"
		}
		p.line(2, "%s %s  %s", p.meter(s.Sent, s.Bytes, 16), name, p.paint(quiet, says))
	case queue.Proving:
		p.line(2, "%s %s  %s", p.meter(1, 1, 16), name, p.paint(quiet, "being proven"))
	case queue.Preparing:
		says := "being read"
		if s.Sent > 0 {
			says = fmt.Sprintf("being made smaller, %s", percent(s.Sent, s.Bytes))
		}
		p.line(2, "%s %s  %s", p.meter(s.Sent, max(1, s.Bytes), 16), name, p.paint(quiet, says))
	default:
		p.line(2, "%s %s  %s", p.meter(0, 1, 16), name, p.paint(quiet, "being read"))
	}
}

// printHolds prints why items wait; what needs the keeper stands above.
func printHolds(p page, y wire.Yard) {
	if len(y.Holds) > 0 {
		p.head("Waits")
	}
	for _, h := range y.Holds {
		says := fmt.Sprintf("%s of %s for %s, %s: %s", words.Things(h.N, h.Kinds...), words.And(h.Devices),
			words.And(h.Destinations), bytes(h.Bytes), plain(h.Says))
		if at := opens(h.Hold, y.Time); at != "" {
			says += " [" + at + "]"
		}
		p.line(2, "%s %s", p.paint(waits, "·"), says)
	}
}

// printTroubles says what is wrong with a destination, what to do, and what
// else its sends say, a line each.
func printTroubles(w io.Writer, indent string, d wire.DestinationStatus) {
	for _, says := range []string{d.Problem, d.Todo, d.Says} {
		if says != "" {
			fmt.Fprintf(w, "%s! %s\n", indent, plain(says))
		}
	}
}

func room(d wire.DestinationStatus) string {
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

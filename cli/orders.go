package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"time"

	"yardtide/client"
	"yardtide/wire"
)

func pauseCommand() Command {
	return Command{
		Name: "pause", Usage: "[-for TIME] [-device DEVICE]", Short: "hold everything",
		Long: `Sends that are under way stop and go on later. Without -for it lasts until
yardtide resume.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, false)
			device := fs.String("device", "", "only this `device`")
			span := fs.Duration("for", 0, "how long, such as 45m or 2h")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				if *span < 0 {
					return WrongUse("-for cannot be negative")
				}
				var until time.Time
				if *span > 0 {
					until = time.Now().Add(*span)
				}
				if err := r.client(e).Pause(ctx, *device, until); err != nil {
					return err
				}
				if until.IsZero() {
					fmt.Fprintln(e.Out, "paused until yardtide resume")
					return nil
				}
				fmt.Fprintf(e.Out, "paused until %s\n", when(until, time.Now()))
				return nil
			}
		},
	}
}

func resumeCommand() Command {
	return Command{
		Name: "resume", Usage: "[-device DEVICE]", Short: "end a pause",
		Long: "What waits goes on as its gates allow.",
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, false)
			device := fs.String("device", "", "only this `device`")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				if err := r.client(e).Resume(ctx, *device); err != nil {
					return err
				}
				fmt.Fprintln(e.Out, "resumed")
				return nil
			}
		},
	}
}

func sendNowCommand() Command {
	return Command{
		Name: "send-now", Usage: "ITEM [-metered]", Short: "send an item whatever its gates say",
		Long: `ITEM is named as for yardtide why. Over a network that costs it says what it
would take and sends nothing, unless -metered is given.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, false)
			metered := fs.Bool("metered", false, "also over a network that costs")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) != 1 {
					return WrongUse("name one item")
				}
				c := r.client(e)
				picks, err := picks(ctx, c, args[0], "waiting", "proving")
				if err != nil {
					return err
				}
				for _, p := range picks {
					cost, err := c.Cost(ctx, p)
					if err != nil {
						return err
					}
					if cost.Metered && !*metered {
						return fmt.Errorf("%s: %s Nothing was sent; add -metered to send it all the same", p.Device, cost.Says)
					}
					if cost, err = c.SendNow(ctx, p, *metered); err != nil {
						return err
					}
					fmt.Fprintf(e.Out, "%s: %d ordered. %s\n", p.Device, cost.N, cost.Says)
				}
				return nil
			}
		},
	}
}

// picks names the items that a text finds, device by device, of which a copy is in
// one of some states.
func picks(ctx context.Context, c client.Client, text string, states ...string) ([]wire.Pick, error) {
	items, err := find(ctx, c, text)
	if err != nil {
		return nil, err
	}
	var picks []wire.Pick
	for _, one := range items {
		if !slices.ContainsFunc(one.Copies, func(c wire.Copy) bool {
			return c.Shelf == "" && slices.Contains(states, c.State)
		}) {
			continue
		}
		if n := len(picks); n == 0 || picks[n-1].Device != one.Device {
			picks = append(picks, wire.Pick{Device: one.Device})
		}
		last := &picks[len(picks)-1]
		last.Items = append(last.Items, one.Key)
	}
	if len(picks) == 0 {
		return nil, fmt.Errorf("%q is %s; there is nothing to do", text, items[0].State)
	}
	return picks, nil
}

func retryCommand() Command {
	return Command{
		Name: "retry", Usage: "[ITEM]", Short: "take up again what is stuck",
		Long: `Without ITEM, all that are stuck, and destinations in trouble are tried at
once. ITEM is named as for yardtide why.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, false)
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e)
				total := int64(0)
				switch len(args) {
				case 0:
					n, err := c.Retry(ctx, "", nil)
					if err != nil {
						return err
					}
					total = n.N
				case 1:
					picks, err := picks(ctx, c, args[0], "stuck", "waiting")
					if err != nil {
						return err
					}
					for _, p := range picks {
						n, err := c.Retry(ctx, p.Device, p.Items)
						if err != nil {
							return err
						}
						total += n.N
					}
				default:
					return WrongUse("name one item, or none for all")
				}
				fmt.Fprintf(e.Out, "%d taken up again\n", total)
				return nil
			}
		},
	}
}

func linkCommand() Command {
	return Command{
		Name: "link", Usage: "[flags]", Short: "print a one-time link to the console",
		Long: "The link is good once, within an hour. The browser then stays signed in.",
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, false)
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				url, err := r.client(e).Link(ctx)
				if err == nil {
					fmt.Fprintln(e.Out, url)
				}
				return err
			}
		},
	}
}

// lineJSON prints a value as one line.
func lineJSON(w io.Writer, v any) error { return writeJSON(w, v, "") }

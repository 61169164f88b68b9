package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"yardtide/client"
	"yardtide/wire"
)

func proveCommand() command {
	return command{
		name: "prove", usage: "-all | -sample N [flags]", short: "have the proofs of what is safe taken again",
		long: `Compares what the storages hold with what was proven: by a checksum that the
storage computes, or by reading it back over a network that costs nothing. A
copy found missing or different becomes stuck and says what to do; retry sends
it again while the file is on the device. The command waits until all is
proven; Ctrl-C leaves it going on by itself.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var o wire.ProveOrder
			all := fs.Bool("all", false, "all of it")
			fs.Int64Var(&o.Sample, "sample", 0, "so `many` of each device, taken at random")
			fs.StringVar(&o.Destination, "destination", "", "only at this `destination`")
			fs.StringVar(&o.Device, "device", "", "only of this `device`")
			return func(ctx context.Context, e env, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				if *all == (o.Sample > 0) || o.Sample < 0 {
					return wrongUse("say -all, or -sample and how many")
				}
				return prove(ctx, e, r.client(e), o, r.json)
			}
		},
	}
}

func prove(ctx context.Context, e env, c client.Client, o wire.ProveOrder, json bool) error {
	before, err := c.Proving(ctx)
	if err != nil {
		return err
	}
	n, err := c.Prove(ctx, o)
	if err != nil {
		return err
	}
	if !json {
		fmt.Fprintf(e.out, "%s to take again.\n", count(n.N, "proof"))
	}
	p := before
	for {
		if p, err = c.Proving(ctx); err != nil {
			return err
		}
		if p.Left == p.Held {
			break
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(e.err, "%s left; it goes on by itself.\n", count(p.Left, "proof"))
			return nil
		case <-time.After(200 * time.Millisecond):
		}
	}
	if json {
		return asJSON(e.out, p)
	}
	if lost := p.Stuck - before.Stuck; lost > 0 {
		return fmt.Errorf("%s no longer what was proven: yardtide queue -state stuck tells which, and what to do", map[bool]string{true: "1 copy is", false: fmt.Sprintf("%d copies are", lost)}[lost == 1])
	}
	if p.Held > 0 {
		fmt.Fprintf(e.out, "What could be proven now is what it was. Held: %s, until the network costs nothing, a pause ends, or the storage answers.\n", count(p.Held, "proof"))
		return nil
	}
	fmt.Fprintln(e.out, "All of it is what was proven.")
	return nil
}

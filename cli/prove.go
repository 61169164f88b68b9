package cli

import (
	"context"
	"flag"
	"fmt"

	"yardtide/client"
	"yardtide/wire"
)

func proveCommand() Command {
	return Command{
		Name: "prove", Usage: "-all | -sample N [flags]", Short: "have the proofs of what is safe taken again",
		Long: `Compares what the storages hold with what was proven: by a checksum that the
storage computes, or by reading it back over a network that costs nothing. A
copy found missing or different becomes stuck and says what to do; retry sends
it again while the file is on the device. The command waits until all is
proven; Ctrl-C leaves it going on by itself.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var o wire.ProveOrder
			all := fs.Bool("all", false, "all of it")
			fs.Int64Var(&o.Sample, "sample", 0, "so `many` of each device, taken at random")
			fs.StringVar(&o.Destination, "destination", "", "only at this `destination`")
			fs.StringVar(&o.Device, "device", "", "only of this `device`")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				if *all == (o.Sample > 0) || o.Sample < 0 {
					return WrongUse("say -all, or -sample and how many")
				}
				return prove(ctx, e, r.client(e), o, r.json)
			}
		},
	}
}

func prove(ctx context.Context, e Env, c client.Client, o wire.ProveOrder, json bool) error {
	j, err := c.Prove(ctx, o)
	if err != nil {
		return err
	}
	before := j.Proving.Stuck
	if !json {
		fmt.Fprintf(e.Out, "%s to take again.\n", count(j.Of, "proof"))
	}
	j, ended, err := follow(ctx, e, c, j, func(j wire.Job) bool {
		return j.Proving.Left > 0 && j.Proving.Left == j.Proving.Held
	})
	if err != nil || !ended {
		return err
	}
	if json {
		return asJSON(e.Out, j.Proving)
	}
	if lost := j.Proving.Stuck - before; lost > 0 {
		return fmt.Errorf("%s no longer what was proven: yardtide queue -state stuck tells which, and what to do",
			map[bool]string{true: "1 copy is", false: fmt.Sprintf("%d copies are", lost)}[lost == 1])
	}
	fmt.Fprintln(e.Out, plain(j.Says))
	return nil
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"yardtide/core/words"
	"yardtide/wire"
	"yardtide/wire/bringwire"
)

func bringBackCommand() Command {
	return Command{
		Name: "bring-back", Usage: "[flags] [WORD ...]", Short: "bring pictures and clips back from the places at which they are safe",
		Long: `Brings back what a question finds (as yardtide find has it): to its own place on its own
device, or with -into to a folder, of another device with -on. The nearest place is asked
first, and another where one fails. Each file is compared with the hash that was proven,
and put in place whole, with its name and its time. Nothing that is there is written over:
the same content is left as it is, anything else keeps its name and what comes gets one
beside. -n tells what would come, and brings nothing.

  yardtide bring-back -device galley-phone -where gone
  yardtide bring-back -device galley-phone -on chart-table -into "From the old phone"
  yardtide bring-back -from 2026-05-01 -to 2026-05-31 -into /media/stick -n`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			var q question
			r.flags(fs, true)
			q.flags(fs)
			var a bringwire.BringAsked
			fs.StringVar(&a.Device, "on", "", "bring it to this `device`, and not to its own")
			fs.StringVar(&a.Folder, "into", "", "into this `folder`, of the device or of this computer, and not to its own place")
			fs.BoolVar(&a.Metered, "metered", false, "also over a network that may cost")
			only := fs.Bool("n", false, "tell what would come, and bring nothing")
			return func(ctx context.Context, e Env, args []string) error {
				values, err := q.of(args)
				if err != nil {
					return err
				}
				if len(values) == 0 {
					return WrongUse("say what is to come back, such as -device NAME; -device alone is all of it")
				}
				a.Question = inBody(values)
				c := r.client(e)
				p, err := c.Bring().Plan(ctx, a)
				if err != nil {
					return err
				}
				if !r.json || !*only {
					printBringPlan(e.Err, p)
				}
				if *only {
					if r.json {
						return asJSON(e.Out, p)
					}
					return nil
				}
				if p.Problem != "" {
					return fmt.Errorf("%s", strings.TrimSuffix(p.Problem, "."))
				}
				return bringBack(ctx, e, r, a)
			}
		},
	}
}

func printBringPlan(w io.Writer, p bringwire.BringPlan) {
	fmt.Fprintln(w, p.Says)
	for _, f := range p.From {
		fmt.Fprintf(w, "  from %s: %s, %s\n", f.Destination, words.Files(f.N), words.Bytes(f.Bytes))
	}
	for _, to := range p.To {
		fmt.Fprintf(w, "  to %s\n", plain(to))
	}
	if p.Free >= 0 {
		fmt.Fprintf(w, "  %s are free there\n", words.Bytes(p.Free))
	}
}

// bringBack begins, and waits until all is there.
func bringBack(ctx context.Context, e Env, r reach, a bringwire.BringAsked) error {
	c := r.client(e)
	j, err := c.Bring().Begin(ctx, a)
	if err != nil {
		return err
	}
	return finishJob(ctx, e, c, j, r.json, func(j wire.Job) []string {
		if j.Back == nil {
			return nil
		}
		return j.Back.Says
	})
}

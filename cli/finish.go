package cli

import (
	"context"
	"flag"
	"fmt"

	"yardtide/wire"
)

func finishCommand() Command {
	return Command{
		Name: "finish", Usage: "-then sleep|off|nothing [-device NAME]", Short: "let a device sleep, or go off, when " +
			"nothing more can go",
		Long: `Keeps a computer awake until nothing more can go under the plan, tells for how
long that is about, and then sends it to sleep, or off. -then nothing takes that back.
Without -device it is the computer of the service. That a computer is kept awake while it
sends, every time, stands in the plan: awake: while sending.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			device := fs.String("device", "", "the `device`, by its name")
			then := fs.String("then", "", "what it does `then`: sleep, off or nothing")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				does, known := map[string]string{"sleep": "sleep", "off": "off", "nothing": ""}[*then]
				if !known {
					return WrongUse("say what it does then: -then sleep, -then off or -then nothing")
				}
				c := r.client(e)
				y, err := c.Status(ctx)
				if err != nil {
					return err
				}
				if *device == "" && len(y.Devices) > 0 {
					*device = y.Devices[0].Name
				}
				if err := c.Finish(ctx, *device, does); err != nil {
					return err
				}
				if y, err = c.Status(ctx); err != nil {
					return err
				}
				for _, d := range y.Devices {
					if d.Name == *device {
						return tellAwake(e, r.json, d)
					}
				}
				return nil
			}
		},
	}
}

func tellAwake(e Env, json bool, d wire.Device) error {
	if json {
		return asJSON(e.Out, d.Awake)
	}
	says := d.Awake.Says
	if says == "" {
		says = "May sleep, as ever."
	}
	fmt.Fprintf(e.Out, "%s: %s\n", d.Name, plain(says))
	return nil
}

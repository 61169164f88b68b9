package cli

import (
	"context"
	"flag"

	"yardtide/client"
	"yardtide/wire"
)

func deviceCommand() command {
	return command{
		name: "device", usage: "list | set NAME [-limit RATE] [-timezone ZONE]", short: "the devices of the plan: how fast each may send, and its time zone",
		long: `list tells the devices of the plan. set changes one: how fast it may send in all, and
the zone in which its hours are meant. It tells in a sentence what it changes; with -try
it only tells. What a device has otherwise than a rule says: yardtide rule set -device.

  yardtide device set galley-phone -limit "1 MB/s at 08:00-22:00; 5 MB/s"
  yardtide device set galley-phone -limit "" -timezone Atlantic/Azores`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var edit wire.DeviceEdit
			fs.Func("limit", "how fast it may `send` in all; empty for no bound", func(s string) error { edit.Limit = &s; return nil })
			fs.Func("timezone", "the `zone` of its hours; empty for the yard's", func(s string) error { edit.Timezone = &s; return nil })
			fs.BoolVar(&edit.Try, "try", false, "only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listDevices(ctx, e, c, r.json)
				case len(args) != 2 || args[0] != "set":
					return wrongUse("say list, or set and the name of a device")
				case edit.Limit == nil && edit.Timezone == nil:
					return wrongUse("say what to change: -limit or -timezone")
				}
				edit.Device = args[1]
				done, err := c.EditDevice(ctx, edit)
				if err != nil {
					return err
				}
				return edited(e, done, r.json)
			}
		},
	}
}

func listDevices(ctx context.Context, e env, c client.Client, json bool) error {
	now, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.out, now.Devices)
	}
	p := newPage(e, c.URL)
	for _, d := range now.Devices {
		limit, zone := "sends as fast as it can", "in the yard's time zone"
		if d.Limit != "" {
			limit = "sends no faster than " + d.Limit
		}
		if d.Timezone != "" {
			zone = "in the time zone " + d.Timezone
		}
		p.line(0, "%s %s, %s", p.paint(strong, plain(d.Device)), plain(limit), plain(zone))
	}
	return nil
}

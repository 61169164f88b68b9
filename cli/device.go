package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"

	"yardtide/client"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

func deviceCommand(here func(*flag.FlagSet) map[string]func(context.Context, Env, []string) error) Command {
	return Command{
		Name: "device", Usage: "list | show NAME | add NAME | join CODE | run | rename NAME NEW | revoke NAME | network " +
			"[ADDRESS | off] | set NAME", Short: "the devices: let one join, run on one, let one go, and what the plan " +
			"says of each",
		Long: `A device elsewhere runs by itself, with records of its own. It joins once:

  yardtide device network 192.168.1.20:7443     here: listen on the home network
  yardtide device add galley-phone              here: prints a code, good once and for ten minutes
  yardtide device join CODE                     on the device
  yardtide device run                           on the device, from then on

join and run have a data directory of their own (-data). run tells what it does by the
same commands there (status, queue, why). A code that is typed by hand has no pin: the
device shows the fingerprint of the key that answers, to be compared with the one here.

list and show tell of the devices and when each was heard of last. rename calls one
otherwise, here, in the plan and there; what it sent keeps its names. revoke lets one
go: it is answered no more. network tells, or sets, where devices reach the service.

set changes how fast one may send in all, and the zone in which its hours are meant; with
-try it only tells. What a device has otherwise than a rule says: yardtide rule set -device.

  yardtide device set galley-phone -limit "1 MB/s at 08:00-22:00; 5 MB/s"
  yardtide device set galley-phone -limit "" -timezone Atlantic/Azores`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var set given
			keyFlags(fs, &set, partKeys("devices"))
			try := fs.Bool("try", false, "set: only tell what it would change")
			local := here(fs)
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e)
				verb, args := first(args)
				does := map[string]func() error{
					"list":    func() error { return listDevices(ctx, e, c, r.json) },
					"show":    func() error { return showDevice(ctx, e, c, args, r.json) },
					"add":     func() error { return addDevice(ctx, e, c, args, r.json) },
					"rename":  func() error { return renameDevice(ctx, e, c, args, r.json) },
					"revoke":  func() error { return revokeDevice(ctx, e, c, args, r.json) },
					"network": func() error { return homeNetwork(ctx, e, c, args, r.json) },
					"set": func() error {
						if len(args) != 1 {
							return WrongUse("say set and the name of a device")
						}
						if len(set.edits) == 0 {
							return WrongUse("say what to change: -limit, -timezone, -person, -awake, -unknown-network or -in-front-only")
						}
						now, err := c.Plans().InForce(ctx)
						if err != nil {
							return err
						}
						return editPlan(ctx, e, c, planwire.PlanEdits{Base: now.Version, Edits: set.under("devices", args[0]),
							Try: *try}, r.json)
					},
				}
				if do, is := local[verb]; is {
					return do(ctx, e, args)
				}
				do, known := does[verb]
				if !known {
					return WrongUse("say list, show, add, join, run, rename, revoke, network or set")
				}
				return do()
			}
		},
	}
}

// first parts the first word from the others.
func first(args []string) (string, []string) {
	if len(args) == 0 {
		return "", nil
	}
	return args[0], args[1:]
}

// oneName is the one argument of a command about a device.
func oneName(verb string, args []string) (string, error) {
	if len(args) != 1 {
		return "", WrongUse("say %s and the name of a device", verb)
	}
	return args[0], nil
}

// listDevices tells every device of the yard: those of the plan and those that joined.
func listDevices(ctx context.Context, e Env, c client.Client, json bool) error {
	y, err := c.Status(ctx)
	if err != nil {
		return err
	}
	now, err := c.Plans().InForce(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, map[string]any{"devices": y.Devices, "plan": now.Devices})
	}
	p := newPage(e, c.URL)
	for _, d := range y.Devices {
		p.line(0, "%s: %s", p.paint(strong, plain(d.Name)), devicePlace(d))
		for _, said := range now.Devices {
			if said.Device == d.Name {
				p.line(2, "It %s.", plain(said.Says))
			}
		}
	}
	for _, name := range y.Absent {
		p.line(0, "%s: in the plan, and did not join (yardtide device add %s).", p.paint(strong, plain(name)), plain(name))
	}
	return nil
}

// devicePlace tells where a device runs, and when it was heard of.
func devicePlace(d wire.Device) string {
	if d.Link == nil {
		return "runs with the service."
	}
	return "elsewhere. " + plain(d.Link.Says)
}

// showDevice tells all of one device.
func showDevice(ctx context.Context, e Env, c client.Client, args []string, json bool) error {
	name, err := oneName("show", args)
	if err != nil {
		return err
	}
	y, err := c.Status(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(y.Devices, func(d wire.Device) bool { return d.Name == name })
	if i < 0 {
		return fmt.Errorf("there is no device %q that runs here or joined; yardtide device list tells them", name)
	}
	d := y.Devices[i]
	if json {
		return asJSON(e.Out, d)
	}
	p := newPage(e, c.URL)
	p.line(0, "%s: %s", p.paint(strong, plain(d.Name)), devicePlace(d))
	p.line(2, "%s.", conditions(d.Conditions))
	p.line(2, "%s", states(p, d))
	if l := d.Link; l != nil {
		follows := "Follows the plan in force."
		if !l.Follows {
			follows = "Does not follow the plan in force yet."
		}
		p.line(2, "%s Program %s.", follows, plain(l.Version))
		if l.Ahead != 0 {
			p.line(2, "%s", plain(l.ClockSays(d.Name)))
		}
		for _, r := range l.Reached {
			p.line(2, "%s", reachedSays(r))
		}
	}
	for _, s := range d.Sources {
		p.line(2, "%s: %s", plain(s.Path), plain(s.Says))
	}
	return nil
}

func reachedSays(r wire.Reached) string {
	switch {
	case r.Says != "":
		return plain(r.Destination) + " does not answer there: " + plain(r.Says)
	case r.At.IsZero():
		return plain(r.Destination) + " was not reached from there yet."
	}
	return plain(r.Destination) + " was reached from there at " + r.At.Local().Format("15:04 on 2 January") + "."
}

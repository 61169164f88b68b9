package run

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"strings"

	"yardtide/cli"
	"yardtide/engine/awake"
	"yardtide/engine/link"
	"yardtide/engine/sensor"
	"yardtide/engine/volume"
	"yardtide/service"
	"yardtide/service/api"
)

// device declares the flags of the verbs by which a device elsewhere runs.
func device(fs *flag.FlagSet) map[string]func(context.Context, cli.Env, []string) error {
	var here runsHere
	here.flags(fs)
	return map[string]func(context.Context, cli.Env, []string) error{
		"join": func(ctx context.Context, e cli.Env, args []string) error { return here.join(ctx, e, args) },
		"run":  func(ctx context.Context, e cli.Env, args []string) error { return here.run(ctx, e, args) },
		"account": func(ctx context.Context, e cli.Env, args []string) error {
			return here.account(ctx, e, args)
		}, // of serve -system
	}
}

// runsHere is how a device elsewhere runs.
type runsHere struct {
	data, listen, root, conditions string
	attached                       bool
}

func (h *runsHere) flags(fs *flag.FlagSet) {
	fs.StringVar(&h.data, "data", defaultData(), "join, run: the device's data `directory`")
	fs.StringVar(&h.listen, "listen", "127.0.0.1:7400", "run: the loopback `address` for its console and commands")
	fs.StringVar(&h.root, "root", homeDir(), "run: the `folder` below which relative sources lie")
	fs.StringVar(&h.conditions, "conditions", "",
		"run: a `file` with conditions, as JSON, in place of what this machine senses (a simulated device)")
	fs.BoolVar(&h.attached, "attached", false, "run: end when the input ends")
}

// join joins a service.
func (h runsHere) join(ctx context.Context, e cli.Env, args []string) error {
	if len(args) != 1 {
		return cli.WrongUse("say join and the code that yardtide device add printed")
	}
	c, err := link.ParseCode(args[0])
	if err != nil {
		return err
	}
	if !c.Pinned {
		if c.Pin, err = link.KeyAt(ctx, c.Address); err != nil {
			return err
		}
		fmt.Fprintf(e.Out, "What answers at %s has the fingerprint\n\n  %s\n\nIs that what yardtide device add printed? "+
			"Type yes: ", c.Address, c.Pin)
		line, _ := bufio.NewReader(e.In).ReadString('\n') // nothing is no
		if strings.TrimSpace(strings.ToLower(line)) != "yes" {
			return fmt.Errorf("nothing was said to it, and nothing joined")
		}
	}
	home, err := service.JoinHome(ctx, h.data, c, api.Version)
	if err != nil {
		return err
	}
	yard := "the yard"
	if home.Yard != "" {
		yard = home.Yard
	}
	fmt.Fprintf(e.Out, "This device is %s of %s. It runs with: yardtide device run", home.Device, yard)
	if h.data != defaultData() {
		fmt.Fprintf(e.Out, " -data %s", h.data)
	}
	fmt.Fprintln(e.Out)
	return nil
}

// run runs the device.
func (h runsHere) run(ctx context.Context, e cli.Env, args []string) error {
	if err := cli.NoArguments(args); err != nil {
		return err
	}
	absolute, err := filepath.Abs(h.root)
	if err != nil {
		return fmt.Errorf("finding the root: %w", err)
	}
	if h.attached {
		var stop context.CancelFunc
		ctx, stop = context.WithCancel(ctx)
		go func() {
			defer stop()
			_, _ = io.Copy(io.Discard, e.In) // an error is an end, too
		}()
	}
	for {
		if err := h.runOnce(ctx, e, absolute); !errors.Is(err, link.ErrRenamed) {
			return err
		}
	}
}

// runOnce runs the device under the name that it has now.
func (h runsHere) runOnce(ctx context.Context, e cli.Env, root string) error {
	joined, err := service.ReadJoined(h.data)
	if err != nil {
		return err
	}
	if joined == nil {
		return fmt.Errorf("nothing joined by the data directory %s: yardtide device join CODE (the code comes from "+
			"yardtide device add, where the service runs)", h.data)
	}
	member := service.Local{Name: joined.Home.Device, Root: root, Sensor: sensor.System(), Awake: awake.Here(),
		Volumes: volume.Mounted{}}
	if h.conditions != "" {
		member.Sensor, member.Awake = sensor.Written{Name: h.conditions}, nil
		member.Volumes = volume.Written{Name: h.conditions}
	}
	log := slog.New(slog.NewTextHandler(e.Err, nil))
	o := service.Options{Dir: h.data, Log: log, Joined: joined, Members: []service.Local{member}}
	return serve(ctx, e, h.listen, o, func(*service.Service, string) error {
		fmt.Fprintf(e.Out, "device    %s of %s, sources below %s\n", joined.Home.Device, joined.Home.Yard, root)
		fmt.Fprintf(e.Out, "yard      %s\n", joined.Home.Address)
		return nil
	})
}

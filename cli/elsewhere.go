package cli

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

	"yardtide/client"
	"yardtide/engine/awake"
	"yardtide/engine/link"
	"yardtide/engine/sensor"
	"yardtide/service"
	"yardtide/service/api"
)

// addDevice prints the code with which a device joins.
func addDevice(ctx context.Context, e env, c client.Client, args []string, json bool) error {
	name, err := oneName("add", args)
	if err != nil {
		return err
	}
	code, err := c.AddDevice(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.out, code)
	}
	p := newPage(e, c.URL)
	p.line(0, "Until %s, once, %s joins by this code:", code.Until.Local().Format("15:04"), p.paint(strong, plain(code.Device)))
	fmt.Fprintln(e.out)
	printQR(e, code.QR)
	fmt.Fprintf(e.out, "\n  yardtide device join '%s'\n\n", plain(code.Code))
	p.line(0, "Typed by hand, it is shorter: yardtide device join %s", plain(code.ByHand))
	p.line(0, "The device then shows a fingerprint, which must be this one: %s", p.paint(strong, plain(code.Fingerprint)))
	return nil
}

// printQR prints a QR picture, two rows of modules to a line, dark on light whatever the
// terminal's colours are.
func printQR(e env, rows []string) {
	dark := func(y, x int) bool { return y < len(rows) && x < len(rows[y]) && rows[y][x] == '#' }
	for y := 0; y < len(rows); y += 2 {
		var w strings.Builder
		for x := range rows[y] {
			// A full block is light: most terminals are dark, and the colours say so anyway.
			switch above, below := dark(y, x), dark(y+1, x); {
			case above && below:
				w.WriteString(" ")
			case above:
				w.WriteString("▄")
			case below:
				w.WriteString("▀")
			default:
				w.WriteString("█")
			}
		}
		line := w.String()
		if e.terminal != nil && isTerminal(e.terminal) {
			line = "\x1b[97;40m" + line + "\x1b[0m"
		}
		fmt.Fprintf(e.out, "  %s\n", line)
	}
}

// revokeDevice lets a device go.
func revokeDevice(ctx context.Context, e env, c client.Client, args []string, json bool) error {
	name, err := oneName("revoke", args)
	if err != nil {
		return err
	}
	r, err := c.RevokeDevice(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.out, r)
	}
	newPage(e, c.URL).line(0, "%s", plain(r.Says))
	return nil
}

// renameDevice calls a device elsewhere otherwise.
func renameDevice(ctx context.Context, e env, c client.Client, args []string, json bool) error {
	if len(args) != 2 {
		return wrongUse("say rename, the name of a device and its new name")
	}
	done, err := c.RenameDevice(ctx, args[0], args[1])
	if err != nil {
		return err
	}
	return edited(e, done, json)
}

// homeNetwork tells where devices elsewhere reach the service, or sets it.
func homeNetwork(ctx context.Context, e env, c client.Client, args []string, json bool) error {
	h, err := c.HomeNetwork(ctx)
	if err == nil && len(args) == 1 {
		address := args[0]
		if address == "off" {
			address = ""
		}
		h, err = c.SetHomeNetwork(ctx, address)
	}
	switch {
	case len(args) > 1:
		return wrongUse("%q is one word too many", args[1])
	case err != nil:
		return err
	case json:
		return asJSON(e.out, h)
	}
	p := newPage(e, c.URL)
	switch {
	case h.Problem != "":
		p.line(0, "%s", plain(h.Problem))
	case h.Listening:
		p.line(0, "Devices elsewhere reach the service at %s. Only they do: the console stays on this computer.", plain(h.Address))
		p.line(0, "The fingerprint of its key is %s.", plain(h.Fingerprint))
	default:
		example := "192.168.1.20:7443"
		if h.Proposed != "" {
			example = h.Proposed
		}
		p.line(0, "The service does not listen on the home network: no device elsewhere reaches it. To let devices join: yardtide device network %s", plain(example))
	}
	return nil
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
	fs.StringVar(&h.conditions, "conditions", "", "run: a `file` with conditions, as JSON, in place of what this machine senses (a simulated device)")
	fs.BoolVar(&h.attached, "attached", false, "run: end when the input ends")
}

// join joins a service.
func (h runsHere) join(ctx context.Context, e env, args []string) error {
	if len(args) != 1 {
		return wrongUse("say join and the code that yardtide device add printed")
	}
	c, err := link.ParseCode(args[0])
	if err != nil {
		return err
	}
	if !c.Pinned {
		if c.Pin, err = link.KeyAt(ctx, c.Address); err != nil {
			return err
		}
		fmt.Fprintf(e.out, "What answers at %s has the fingerprint\n\n  %s\n\nIs that what yardtide device add printed? Type yes: ", c.Address, c.Pin)
		line, _ := bufio.NewReader(e.in).ReadString('\n') // nothing is no
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
	fmt.Fprintf(e.out, "This device is %s of %s. It runs with: yardtide device run", home.Device, yard)
	if h.data != defaultData() {
		fmt.Fprintf(e.out, " -data %s", h.data)
	}
	fmt.Fprintln(e.out)
	return nil
}

// run runs the device.
func (h runsHere) run(ctx context.Context, e env, args []string) error {
	if err := noArguments(args); err != nil {
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
			_, _ = io.Copy(io.Discard, e.in) // an error is an end, too
		}()
	}
	for {
		if err := h.runOnce(ctx, e, absolute); !errors.Is(err, link.ErrRenamed) {
			return err
		}
	}
}

// runOnce runs the device under the name that it has now.
func (h runsHere) runOnce(ctx context.Context, e env, root string) error {
	joined, err := service.ReadJoined(h.data)
	if err != nil {
		return err
	}
	if joined == nil {
		return fmt.Errorf("nothing joined by the data directory %s: yardtide device join CODE (the code comes from yardtide device add, where the service runs)", h.data)
	}
	member := service.Member{Name: joined.Home.Device, Root: root, Sensor: sensor.System(), Awake: awake.Here()}
	if h.conditions != "" {
		member.Sensor, member.Awake = sensor.File{Name: h.conditions}, nil
	}
	log := slog.New(slog.NewTextHandler(e.err, nil))
	o := service.Options{Dir: h.data, Log: log, Joined: joined, Members: []service.Member{member}}
	return serve(ctx, e, h.listen, o, func(*service.Service, string) error {
		fmt.Fprintf(e.out, "device    %s of %s, sources below %s\n", joined.Home.Device, joined.Home.Yard, root)
		fmt.Fprintf(e.out, "yard      %s\n", joined.Home.Address)
		return nil
	})
}

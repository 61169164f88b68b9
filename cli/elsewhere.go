package cli

import (
	"context"
	"fmt"
	"strings"

	"yardtide/client"
)

// addDevice prints the code with which a device joins.
func addDevice(ctx context.Context, e Env, c client.Client, args []string, json bool) error {
	name, err := oneName("add", args)
	if err != nil {
		return err
	}
	code, err := c.AddDevice(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, code)
	}
	p := newPage(e, c.URL)
	p.line(0, "Until %s, once, %s joins by this code:", code.Until.Local().Format("15:04"),
		p.paint(strong, plain(code.Device)))
	fmt.Fprintln(e.Out)
	printQR(e, code.QR)
	fmt.Fprintf(e.Out, "\n  yardtide device join '%s'\n\n", plain(code.Code))
	p.line(0, "Typed by hand, it is shorter: yardtide device join %s", plain(code.ByHand))
	p.line(0, "The device then shows a fingerprint, which must be this one: %s", p.paint(strong, plain(code.Fingerprint)))
	return nil
}

// printQR prints a QR picture, two rows of modules to a line, dark on light whatever the
// terminal's colours are.
func printQR(e Env, rows []string) {
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
		fmt.Fprintf(e.Out, "  %s\n", line)
	}
}

// revokeDevice lets a device go.
func revokeDevice(ctx context.Context, e Env, c client.Client, args []string, json bool) error {
	name, err := oneName("revoke", args)
	if err != nil {
		return err
	}
	r, err := c.RevokeDevice(ctx, name)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, r)
	}
	newPage(e, c.URL).line(0, "%s", plain(r.Says))
	return nil
}

// renameDevice calls a device elsewhere otherwise.
func renameDevice(ctx context.Context, e Env, c client.Client, args []string, json bool) error {
	if len(args) != 2 {
		return WrongUse("say rename, the name of a device and its new name")
	}
	done, err := c.RenameDevice(ctx, args[0], args[1])
	if err != nil {
		return err
	}
	return edited(e, done, json)
}

// homeNetwork tells where devices elsewhere reach the service, or sets it.
func homeNetwork(ctx context.Context, e Env, c client.Client, args []string, json bool) error {
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
		return WrongUse("%q is one word too many", args[1])
	case err != nil:
		return err
	case json:
		return asJSON(e.Out, h)
	}
	p := newPage(e, c.URL)
	switch {
	case h.Problem != "":
		p.line(0, "%s", plain(h.Problem))
	case h.Listening:
		p.line(0, "Devices elsewhere reach the service at %s. Only they do: the console stays on this computer.",
			plain(h.Address))
		p.line(0, "The fingerprint of its key is %s.", plain(h.Fingerprint))
	default:
		example := "192.168.1.20:7443"
		if h.Proposed != "" {
			example = h.Proposed
		}
		p.line(0, "The service does not listen on the home network: no device elsewhere reaches it. To let devices "+
			"join: yardtide device network %s", plain(example))
	}
	return nil
}

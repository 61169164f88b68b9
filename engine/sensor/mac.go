package sensor

import (
	"bufio"
	"bytes"
	"context"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Mac asks the tools of macOS. Whether a Wi-Fi is metered they cannot tell.
type Mac struct {
	Every time.Duration // how often it looks, 30 s when zero
}

// Watch implements Sensor.
func (m Mac) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	every := m.Every
	if every == 0 {
		every = 30 * time.Second
	}
	return look(ctx, every, tell, settled(macNow))
}

// Modem tells that a Mac has none.
func (Mac) Modem() gate.Known { return gate.No }

var (
	macPercent = regexp.MustCompile(`\b([0-9]{1,3})%;\s*([a-z ]+)`)
	macLink    = regexp.MustCompile(`(?m)^\s*interface:\s*(\S+)`)
	macIdle    = regexp.MustCompile(`"HIDIdleTime"\s*=\s*([0-9]+)`)
)

// macUnused is how long nobody may have touched a Mac before it counts as unused.
const macUnused = 5 * time.Minute

func macNow(ctx context.Context) gate.Conditions {
	c := unknown()
	if out, ok := run(ctx, "pmset", "-g", "batt"); ok {
		macPower(&c, string(out))
	}
	route, ok := run(ctx, "route", "-n", "get", "default")
	ports, listed := run(ctx, "networksetup", "-listallhardwareports")
	switch {
	case ok && listed:
		macNetwork(&c, string(route), ports)
	case listed: // no way leads out
		c.Network, c.NetworkFrom = plan.NoNetwork, "route"
	}
	if out, ok := run(ctx, "ioreg", "-r", "-c", "IOHIDSystem", "-d", "1"); ok {
		macUse(&c, string(out))
	}
	return c
}

// macPower reads what pmset says of the power.
func macPower(c *gate.Conditions, out string) {
	switch {
	case strings.Contains(out, "'AC Power'"):
		c.Charging, c.PowerFrom = gate.Yes, "pmset"
	case strings.Contains(out, "'Battery Power'"):
		c.Charging, c.PowerFrom = gate.No, "pmset"
	}
	if m := macPercent.FindStringSubmatch(out); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil && n <= 100 {
			c.Battery = n
		}
	}
}

// macNetwork reads by which port the default route leads, and what that port is.
func macNetwork(c *gate.Conditions, route string, ports []byte) {
	m := macLink.FindStringSubmatch(route)
	if m == nil {
		return
	}
	port := ""
	for lines := bufio.NewScanner(bytes.NewReader(ports)); lines.Scan(); {
		if name, is := strings.CutPrefix(lines.Text(), "Hardware Port: "); is {
			port = name
		}
		if lines.Text() == "Device: "+m[1] {
			c.NetworkFrom = "networksetup"
			switch {
			case port == "Wi-Fi" || port == "AirPort":
				c.Network = plan.WiFi
			case strings.Contains(port, "iPhone") || strings.Contains(port, "iPad"): // a telephone by cable
				c.Network = plan.Cellular
			case strings.Contains(port, "Ethernet") || strings.Contains(port, "LAN") || strings.Contains(port, "Thunderbolt"):
				c.Network = plan.Wired
			}
			return
		}
	}
}

// macUse reads how long nobody touched it.
func macUse(c *gate.Conditions, out string) {
	m := macIdle.FindStringSubmatch(out)
	if m == nil {
		return
	}
	ns, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return
	}
	c.Use, c.UseFrom = gate.InUse, "ioreg"
	if time.Duration(ns) >= macUnused {
		c.Use = gate.NotInUse
	}
}

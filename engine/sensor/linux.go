package sensor

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Linux reads sysfs (Documentation/ABI/testing/sysfs-class-net and
// sysfs-class-power in the kernel's sources). It cannot tell whether a network
// is metered, nor whether somebody uses the machine: D-Bus could.
type Linux struct {
	Root  string        // "/sys" when empty
	Every time.Duration // how often it looks, 5 s when zero
}

// Watch implements Sensor.
func (l Linux) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	every := l.Every
	if every == 0 {
		every = 5 * time.Second
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	var last gate.Conditions
	for first := true; ; first = false {
		now, err := l.read()
		if err != nil {
			return err
		}
		if first || now != last {
			tell(now)
		}
		last = now
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

func (l Linux) read() (gate.Conditions, error) {
	root := l.Root
	if root == "" {
		root = "/sys"
	}
	c := gate.Conditions{Network: plan.NoNetwork, Battery: -1, Use: gate.UseUnknown}
	links, err := entries(filepath.Join(root, "class/net"))
	if err != nil {
		return c, fmt.Errorf("reading the network's state: %w", err)
	}
	rank := map[plan.Network]int{plan.NoNetwork: 0, plan.Cellular: 1, plan.WiFi: 2, plan.Wired: 3}
	for _, link := range links {
		if n := network(link); rank[n] > rank[c.Network] {
			c.Network = n
		}
	}
	supplies, err := entries(filepath.Join(root, "class/power_supply"))
	if err != nil {
		return c, fmt.Errorf("reading the power's state: %w", err)
	}
	mains := false
	for _, s := range supplies {
		switch word(s, "type") {
		case "Mains", "USB", "Wireless":
			mains = mains || word(s, "online") == "1"
		case "Battery":
			if word(s, "scope") == "Device" { // a mouse, a headset
				continue
			}
			if level, err := strconv.Atoi(word(s, "capacity")); err == nil && level >= 0 && level <= 100 {
				c.Battery = max(c.Battery, level)
			}
			if status := word(s, "status"); status == "Charging" || status == "Full" {
				mains = true
			}
		}
	}
	c.Charging = mains || c.Battery < 0 // without a battery it runs on mains
	return c, nil
}

// network tells which kind of network a link is, if it is up.
func network(link string) plan.Network {
	if word(link, "type") == "772" { // ARPHRD_LOOPBACK
		return plan.NoNetwork
	}
	switch word(link, "operstate") {
	case "up":
	case "unknown": // drivers that cannot tell: the carrier does
		if word(link, "carrier") != "1" {
			return plan.NoNetwork
		}
	default:
		return plan.NoNetwork
	}
	uevent := word(link, "uevent")
	switch {
	case strings.Contains(uevent, "DEVTYPE=wwan"):
		return plan.Cellular
	case strings.Contains(uevent, "DEVTYPE=wlan"), exists(filepath.Join(link, "wireless")):
		return plan.WiFi
	case !exists(filepath.Join(link, "device")): // bridges, tunnels and the like
		return plan.NoNetwork
	}
	return plan.Wired
}

func entries(dir string) ([]string, error) {
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	paths := make([]string, len(list))
	for i, e := range list {
		paths[i] = filepath.Join(dir, e.Name())
	}
	return paths, nil
}

// word reads a one-line file; "" when it cannot be read, as sysfs answers for
// what a driver does not know.
func word(dir, name string) string {
	text, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

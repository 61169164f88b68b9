package sensor

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Linux reads sysfs (Documentation/ABI/testing/sysfs-class-net and
// sysfs-class-power in the kernel's sources), and asks NetworkManager whether a
// Wi-Fi is metered. What neither tells is unknown, as everything is on other systems:
// so is whether a modem roams, and whether somebody uses the machine.
type Linux struct {
	Root  string        // "/sys" when empty
	Bus   string        // the address of D-Bus, the system's when empty
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
	manager := networkManager{address: l.Bus}
	defer manager.close()
	var last gate.Conditions
	for first := true; ; first = false {
		now := l.read()
		if now.Network == plan.WiFi {
			now.Metered = manager.metered(ctx)
		}
		if ctx.Err() != nil {
			return nil // what was asked may be cut
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

// Modem tells whether the machine has one, up or not.
func (l Linux) Modem() gate.Known {
	links, told := entries(filepath.Join(cmp.Or(l.Root, "/sys"), "class/net"))
	if !told {
		return gate.Unknown
	}
	for _, link := range links {
		if strings.Contains(word(link, "uevent"), "DEVTYPE=wwan") {
			return gate.Yes
		}
	}
	return gate.No
}

func (l Linux) read() gate.Conditions {
	root := l.Root
	if root == "" {
		root = "/sys"
	}
	c := gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown, Roaming: gate.Unknown, Charging: gate.Unknown, Battery: -1, Use: gate.UseUnknown}
	links, told := entries(filepath.Join(root, "class/net"))
	if told {
		c.Network = plan.NoNetwork
	}
	rank := map[plan.Network]int{plan.UnknownNetwork: -1, plan.NoNetwork: 0, plan.Cellular: 1, plan.WiFi: 2, plan.Wired: 3}
	for _, link := range links {
		if n := network(link); rank[n] > rank[c.Network] {
			c.Network = n
		}
	}
	supplies, told := entries(filepath.Join(root, "class/power_supply"))
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
	if told {
		c.Charging = gate.Is(mains || c.Battery < 0) // without a battery it runs on mains
	}
	switch c.Network {
	case plan.NoNetwork, plan.Wired:
		c.Metered, c.Roaming = gate.No, gate.No
	case plan.WiFi: // a telephone's hotspot looks like any other
		c.Roaming = gate.No
	case plan.Cellular:
		c.Metered = gate.Yes
	}
	return c
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

// entries lists a folder; told is false when it is not there or may not be read.
func entries(dir string) (paths []string, told bool) {
	list, err := os.ReadDir(dir)
	for _, e := range list {
		paths = append(paths, filepath.Join(dir, e.Name()))
	}
	return paths, err == nil
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

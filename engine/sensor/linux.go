package sensor

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Linux reads sysfs (Documentation/ABI/testing/sysfs-class-net and
// sysfs-class-power in the kernel's sources), and asks the desktop's services over D-Bus
// what that does not tell; the kernel tells when links and routes change. What nobody tells is unknown, as
// everything is on other systems.
type Linux struct {
	Root    string // "/sys" when empty
	Bus     string // the address of the system's D-Bus, the usual when empty
	Session string // that of the session's, the usual when empty
	// how often it looks where nothing tells of changes: 5 s when zero, and 30 s where D-Bus or the kernel does
	Every time.Duration
}

// settles is how long after a change it is looked: one seldom comes alone.
const settles = 100 * time.Millisecond

// Watch implements Sensor.
func (l Linux) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	system, session := bus{address: l.Bus}, bus{address: l.Session, session: true}
	defer system.close()
	defer session.close()
	var kernel routes
	kernel.open()
	defer kernel.close()
	var last gate.Conditions
	for first := true; ; first = false {
		// Changes are asked for before the first look: none in between is missed.
		told := system.open()
		session.open()
		now := l.read()
		if told {
			system.network(ctx, &now)
			system.power(ctx, &now)
			system.use(ctx, &now)
		}
		session.screen(ctx, &now)
		settle(&now)
		if ctx.Err() != nil {
			return nil // what was asked may be cut
		}
		if first || now != last {
			tell(now)
		}
		last = now
		every := l.Every
		switch {
		case every > 0:
		case now.NetworkFrom == "NetworkManager" || kernel.signals != nil:
			every = 30 * time.Second
		default:
			every = 5 * time.Second
		}
		wait := time.NewTimer(every)
		select {
		case <-ctx.Done():
		case <-wait.C:
		case <-system.signals:
			rest(ctx, settles)
		case <-session.signals:
			rest(ctx, settles)
		case <-kernel.signals:
			rest(ctx, settles)
		}
		wait.Stop()
		drain(system.signals)
		drain(session.signals)
		if ctx.Err() != nil {
			return nil
		}
	}
}

func rest(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func drain(signals chan *dbus.Signal) {
	for len(signals) > 0 {
		<-signals
	}
}

// settle says of a network what follows from its kind: a cable costs nothing, a modem
// does, and only it can roam.
func settle(c *gate.Conditions) {
	switch c.Network {
	case plan.NoNetwork, plan.Wired:
		c.Metered, c.Roaming = gate.No, gate.No
	case plan.WiFi: // a telephone's hotspot looks like any other
		c.Roaming = gate.No
	case plan.Cellular:
		c.Metered = gate.Yes
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
	c := gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown, Roaming: gate.Unknown,
		Charging: gate.Unknown, Battery: -1, Use: gate.UseUnknown}
	links, told := entries(filepath.Join(root, "class/net"))
	if told {
		c.Network, c.NetworkFrom = plan.NoNetwork, "sysfs"
	}
	rank := map[plan.Network]int{plan.UnknownNetwork: -1, plan.NoNetwork: 0, plan.Cellular: 1, plan.WiFi: 2, plan.Wired: 3}
	main := defaultLink()
	for _, link := range links {
		n := network(link)
		if n != plan.NoNetwork && filepath.Base(link) == main { // whatever else is up
			c.Network = n
			break
		}
		if rank[n] > rank[c.Network] {
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
		c.PowerFrom = "sysfs"
		c.Charging = gate.Is(mains || c.Battery < 0) // without a battery it runs on mains
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

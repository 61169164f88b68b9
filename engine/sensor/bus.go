package sensor

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// bus asks the services of a desktop over D-Bus, where they run, what sysfs cannot tell:
// NetworkManager, UPower, power-profiles-daemon and logind on the system's bus, the screen
// saver on the session's. Each is asked by what its D-Bus reference says. None of them
// need be there; what nobody tells stays as sysfs has it.
type bus struct {
	address string // "" is the usual one
	session bool
	conn    *dbus.Conn
	signals chan *dbus.Signal
}

// busTime is how long D-Bus may take to answer.
const busTime = time.Second

// watched are the names whose signals are news, on each bus.
var watched = map[bool][]string{
	false: {"org.freedesktop.NetworkManager", "org.freedesktop.UPower", "org.freedesktop.login1",
		"org.freedesktop.UPower.PowerProfiles", "net.hadess.PowerProfiles"},
	true: {"org.freedesktop.ScreenSaver"},
}

// open connects, if that is not so already, and has changes told; false when there is no
// such bus.
func (b *bus) open() bool {
	if b.conn != nil && b.conn.Connected() {
		return true
	}
	b.close()
	address := b.address
	if address == "" && b.session {
		// Without an address, connecting would start a bus of one's own.
		if address = os.Getenv("DBUS_SESSION_BUS_ADDRESS"); address == "" {
			socket := fmt.Sprintf("/run/user/%d/bus", os.Getuid())
			if !exists(socket) {
				return false
			}
			address = "unix:path=" + socket
		}
	}
	var err error
	if address == "" {
		b.conn, err = dbus.ConnectSystemBus()
	} else {
		b.conn, err = dbus.Connect(address)
	}
	if err != nil {
		b.conn = nil
		return false
	}
	b.signals = make(chan *dbus.Signal, 32)
	b.conn.Signal(b.signals)
	for _, name := range watched[b.session] {
		_ = b.conn.AddMatchSignal(dbus.WithMatchSender(name)) // without it, it is looked at now and then
		_ = b.conn.AddMatchSignal(dbus.WithMatchInterface("org.freedesktop.DBus"), dbus.WithMatchMember("NameOwnerChanged"),
			dbus.WithMatchArg(0, name))
	}
	return true
}

func (b *bus) close() {
	if b.conn != nil {
		_ = b.conn.Close() // nothing is lost with it
		b.conn = nil
	}
}

// get reads a property; false when nobody has it.
func (b *bus) get(ctx context.Context, name, path, property string, into any) bool {
	if b.conn == nil {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, busTime)
	defer cancel()
	at := strings.LastIndex(property, ".")
	return b.conn.Object(name, dbus.ObjectPath(path)).CallWithContext(ctx, "org.freedesktop.DBus.Properties.Get",
		dbus.FlagNoAutoStart, property[:at], property[at+1:]).Store(into) == nil
}

const networkManager = "org.freedesktop.NetworkManager"

// network asks NetworkManager which network is used, what it is called, and whether it is
// metered, whose guesses count, as they come from what the network itself announces
// (NMMetered).
func (b *bus) network(ctx context.Context, c *gate.Conditions) {
	manager := func(property string, into any) bool {
		return b.get(ctx, networkManager, "/org/freedesktop/NetworkManager", networkManager+"."+property, into)
	}
	var is uint32
	if manager("Metered", &is) {
		switch is {
		case 1, 3:
			c.Metered = gate.Yes
		case 2, 4:
			c.Metered = gate.No
		default:
			c.Metered = gate.Unknown
		}
		c.NetworkFrom = "NetworkManager"
	}
	var kind string
	if manager("PrimaryConnectionType", &kind) {
		switch kind {
		case "802-11-wireless":
			c.Network = plan.WiFi
		case "802-3-ethernet":
			c.Network = plan.Wired
		case "gsm", "cdma", "wwan":
			c.Network = plan.Cellular
		}
	}
	var primary, point dbus.ObjectPath
	var name []byte
	if c.Network == plan.WiFi && manager("PrimaryConnection", &primary) && primary != "/" &&
		b.get(ctx, networkManager, string(primary), networkManager+".Connection.Active.SpecificObject", &point) &&
		point != "/" &&
		b.get(ctx, networkManager, string(point), networkManager+".AccessPoint.Ssid", &name) && len(name) <= 32 {
		c.NetworkName = strings.ToValidUTF8(string(name), "\ufffd")
	}
}

// power asks UPower and power-profiles-daemon.
func (b *bus) power(ctx context.Context, c *gate.Conditions) {
	const name, all, display = "org.freedesktop.UPower", "/org/freedesktop/UPower",
		"/org/freedesktop/UPower/devices/DisplayDevice"
	var onBattery, present bool
	if b.get(ctx, name, all, name+".OnBattery", &onBattery) {
		c.Charging, c.PowerFrom = gate.Is(!onBattery), "UPower"
	}
	var percent float64
	var state uint32
	if b.get(ctx, name, display, name+".Device.IsPresent", &present) && present &&
		b.get(ctx, name, display, name+".Device.Percentage", &percent) && percent >= 0 && percent <= 100 {
		c.Battery = int(percent)
		if b.get(ctx, name, display, name+".Device.State", &state) && (state == 1 || state == 4) { // charging, fully charged
			c.Charging = gate.Yes
		}
	}
	var profile string
	if b.get(ctx, "org.freedesktop.UPower.PowerProfiles", "/org/freedesktop/UPower/PowerProfiles",
		"org.freedesktop.UPower.PowerProfiles.ActiveProfile", &profile) ||
		b.get(ctx, "net.hadess.PowerProfiles", "/net/hadess/PowerProfiles", "net.hadess.PowerProfiles.ActiveProfile",
			&profile) {
		c.Saver = gate.Is(profile == "power-saver")
	}
}

// use asks logind whether the machine is used.
func (b *bus) use(ctx context.Context, c *gate.Conditions) {
	var idle bool
	if b.get(ctx, "org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.login1.Manager.IdleHint", &idle) {
		c.Use, c.UseFrom = gate.InUse, "logind"
		if idle {
			c.Use = gate.NotInUse
		}
	}
}

// screen asks the screen saver whether the screen is on.
func (b *bus) screen(ctx context.Context, c *gate.Conditions) {
	if b.conn == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, busTime)
	defer cancel()
	var active bool
	for _, path := range []dbus.ObjectPath{"/org/freedesktop/ScreenSaver", "/ScreenSaver"} {
		if b.conn.Object("org.freedesktop.ScreenSaver", path).CallWithContext(ctx, "org.freedesktop.ScreenSaver.GetActive",
			dbus.FlagNoAutoStart).Store(&active) == nil {
			c.Screen = gate.Is(!active)
			return
		}
	}
}

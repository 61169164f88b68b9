package sensor

import (
	"context"
	"time"

	"github.com/godbus/dbus/v5"

	"yardtide/core/gate"
)

// networkManager asks the service of that name over D-Bus, where it runs, what sysfs
// cannot tell. The zero value asks on the system's bus.
type networkManager struct {
	address string // of another bus
	conn    *dbus.Conn
}

// busTime is how long D-Bus may take to answer.
const busTime = time.Second

// metered tells whether the present network is metered: NMMetered in the D-Bus
// reference of NetworkManager 1.x, whose guesses count, as they come from what the
// network itself announces.
func (n *networkManager) metered(ctx context.Context) gate.Known {
	ctx, cancel := context.WithTimeout(ctx, busTime)
	defer cancel()
	if n.conn == nil {
		connect := func() (*dbus.Conn, error) { return dbus.ConnectSystemBus() }
		if n.address != "" {
			connect = func() (*dbus.Conn, error) { return dbus.Connect(n.address) }
		}
		conn, err := connect()
		if err != nil {
			return gate.Unknown
		}
		n.conn = conn
	}
	var is uint32
	err := n.conn.Object("org.freedesktop.NetworkManager", "/org/freedesktop/NetworkManager").
		CallWithContext(ctx, "org.freedesktop.DBus.Properties.Get", dbus.FlagNoAutoStart, "org.freedesktop.NetworkManager", "Metered").Store(&is)
	switch {
	case err != nil:
		n.close() // it is asked anew the next time
	case is == 1 || is == 3:
		return gate.Yes
	case is == 2 || is == 4:
		return gate.No
	}
	return gate.Unknown
}

func (n *networkManager) close() {
	if n.conn != nil {
		_ = n.conn.Close() // nothing is lost with it
		n.conn = nil
	}
}

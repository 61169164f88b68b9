// Package desktop is a D-Bus of one's own on which python-dbusmock stands in for the
// services of a desktop: for tests, where no such desktop runs.
package desktop

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/godbus/dbus/v5"
)

// Bus is such a bus.
type Bus struct {
	Address string
	Conn    *dbus.Conn
}

// startTime is how long a service may take to be there.
const startTime = 20 * time.Second

// Start starts a bus in a folder (Debian's package dbus-daemon); it ends with the context.
func Start(ctx context.Context, dir string) (*Bus, error) {
	b := &Bus{Address: "unix:path=" + filepath.Join(dir, "bus")}
	daemon := exec.CommandContext(ctx, "dbus-daemon", "--session", "--nofork", "--nopidfile", "--address="+b.Address)
	if err := daemon.Start(); err != nil {
		return nil, fmt.Errorf("starting D-Bus: %w", err)
	}
	go func() { _ = daemon.Wait() }() // it is killed with the context
	var err error
	for deadline := time.Now().Add(startTime); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if b.Conn, err = dbus.Connect(b.Address); err == nil {
			return b, nil
		}
	}
	return nil, fmt.Errorf("starting D-Bus: %w", err)
}

// Mock starts a service of a name by python-dbusmock's arguments (Debian's package
// python3-dbusmock). Killed, it is gone.
func (b *Bus) Mock(ctx context.Context, name string, args ...string) (*exec.Cmd, error) {
	cmd := exec.CommandContext(ctx, "/usr/bin/python3", append([]string{"-m", "dbusmock"}, args...)...)
	cmd.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+b.Address, "DBUS_SESSION_BUS_ADDRESS="+b.Address)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("standing in for %s: %w", name, err)
	}
	go func() { _ = cmd.Wait() }() // it is killed
	for deadline := time.Now().Add(startTime); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		var has bool
		if err := b.Conn.BusObject().Call("org.freedesktop.DBus.NameHasOwner", 0, name).Store(&has); err == nil && has {
			return cmd, nil
		}
	}
	return nil, fmt.Errorf("standing in for %s: it is not there (Debian: apt-get install python3-dbusmock)", name)
}

// Call calls a method of a service.
func (b *Bus) Call(name, path, method string, args ...any) error {
	if err := b.Conn.Object(name, dbus.ObjectPath(path)).Call(method, 0, args...).Err; err != nil {
		return fmt.Errorf("calling %s: %w", method, err)
	}
	return nil
}

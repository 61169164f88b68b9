// Package awake keeps this machine's system from sleeping while something is sent, and
// sends it to sleep or off when the keeper said so. It does so by the system's own means,
// and never keeps a screen lit.
package awake

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"time"

	"github.com/godbus/dbus/v5"
)

// Then is what the system does when everything is done.
type Then string

// What it can do.
const (
	Sleep Then = "sleep"
	Off   Then = "off"
)

// System is what keeps a machine awake, and what sends it to sleep.
type System interface {
	// Hold keeps the system from sleeping until release is called, or the process ends.
	Hold(ctx context.Context, why string) (release func(), err error)
	// Do sends it to sleep, or off.
	Do(ctx context.Context, then Then) error
}

// Here is this machine's.
func Here() System {
	switch runtime.GOOS {
	case "android":
		return android{}
	case "darwin":
		return mac{}
	case "windows":
		return windowsHere()
	}
	return Logind{}
}

// answerTime is how long the system may take to answer.
const answerTime = 5 * time.Second

// ErrUnable tells that the system cannot be kept awake, or sent to sleep, from here.
var ErrUnable = errors.New("this system does not let Yard Tide do that")

// Logind asks logind (org.freedesktop.login1, its D-Bus reference).
type Logind struct {
	Address string // of the system's D-Bus, the usual when empty
}

func (l Logind) call(ctx context.Context, method string, into any, args ...any) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	var conn *dbus.Conn
	var err error
	if l.Address == "" {
		conn, err = dbus.ConnectSystemBus(dbus.WithContext(ctx))
	} else {
		conn, err = dbus.Connect(l.Address, dbus.WithContext(ctx))
	}
	if err != nil {
		return fmt.Errorf("%w: no logind answers: %w", ErrUnable, err)
	}
	defer conn.Close() // a file that it gave stays open
	call := conn.Object("org.freedesktop.login1", "/org/freedesktop/login1").CallWithContext(ctx,
		"org.freedesktop.login1.Manager."+method, dbus.FlagNoAutoStart, args...)
	if call.Err != nil {
		return fmt.Errorf("%w: logind says: %w", ErrUnable, call.Err)
	}
	if into == nil {
		return nil
	}
	if err := call.Store(into); err != nil {
		return fmt.Errorf("reading logind's answer: %w", err)
	}
	return nil
}

// Hold takes an inhibitor lock: it lasts as long as its file is open. It is one on sleep
// alone: one on idleness could keep the screen lit.
func (l Logind) Hold(ctx context.Context, why string) (func(), error) {
	var fd dbus.UnixFD
	if err := l.call(ctx, "Inhibit", &fd, "sleep", "Yard Tide", why, "block"); err != nil {
		return nil, err
	}
	lock := os.NewFile(uintptr(fd), "inhibitor")
	return func() { _ = lock.Close() }, nil // nothing is lost with it
}

// Do suspends, or powers off; without asking anybody.
func (l Logind) Do(ctx context.Context, then Then) error {
	method := map[Then]string{Sleep: "Suspend", Off: "PowerOff"}[then]
	if method == "" {
		return fmt.Errorf("a system cannot %q", then)
	}
	return l.call(ctx, method, nil, false)
}

// holding runs a program that keeps the system awake while it runs.
func holding(name string, args ...string) (func(), error) {
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, name, args...)
	if err := cmd.Start(); err != nil {
		cancel()
		return nil, fmt.Errorf("%w: %w", ErrUnable, err)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); _ = cmd.Wait() }() // it is killed
	return func() { cancel(); <-ended }, nil
}

// run runs a command that does something at once.
func run(ctx context.Context, name string, args ...string) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	if err := exec.CommandContext(ctx, name, args...).Run(); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrUnable, name, err)
	}
	return nil
}

// mac asks the tools of macOS.
type mac struct{}

func (mac) Hold(context.Context, string) (func(), error) {
	return holding("caffeinate", "-i", "-w", strconv.Itoa(os.Getpid()))
}

func (mac) Do(ctx context.Context, then Then) error {
	if then == Off {
		return run(ctx, "osascript", "-e", `tell application "System Events" to shut down`)
	}
	return run(ctx, "pmset", "sleepnow")
}

// android asks the commands of Android's terminal program. A telephone does not sleep as a
// computer does: only its processor is kept going.
type android struct{}

func (android) Hold(ctx context.Context, _ string) (func(), error) {
	if err := run(ctx, "termux-wake-lock"); err != nil {
		return nil, err
	}
	return func() { _ = run(context.Background(), "termux-wake-unlock") }, nil // it ends with the program
}

func (android) Do(context.Context, Then) error { return ErrUnable }

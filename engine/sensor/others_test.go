package sensor_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/standin/desktop"
)

// onPath puts commands on PATH that print what is given, and nothing else is there.
func onPath(t *testing.T, commands map[string]string) {
	t.Helper()
	dir := t.TempDir()
	for name, out := range commands {
		script := "#!/bin/sh\n" + out + "\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(script), 0o755))
	}
	t.Setenv("PATH", dir+":/usr/bin:/bin")
}

func prints(text string) string { return "cat <<'END'\n" + text + "\nEND" }

func TestAndroidsCommandsTell(t *testing.T) {
	const (
		charging = `{"health":"GOOD","percentage":64,"plugged":"PLUGGED_AC","status":"CHARGING","temperature":29.3}`
		battery  = `{"percentage":17,"plugged":"UNPLUGGED","status":"DISCHARGING"}`
		wifi     = `{"bssid":"02:00:00:00:00:00","ip":"192.168.1.7","ssid":"Slip","supplicant_state":"COMPLETED"}`
		noWiFi   = `{"ip":"0.0.0.0","ssid":"<unknown ssid>","supplicant_state":"DISCONNECTED"}`
		lte      = `{"data_state":"connected","network_roaming":false,"network_type":"lte","phone_type":"gsm"}`
		roams    = `{"data_state":"connected","network_roaming":true,"phone_type":"gsm"}`
		tablet   = `{"data_state":"disconnected","phone_type":"none"}`
	)
	is := func(network plan.Network, name string, roaming, charging gate.Known, level int) gate.Conditions {
		c := gate.Conditions{Network: network, NetworkName: name, Metered: gate.Unknown, Roaming: roaming,
			Charging: charging, Battery: level, Use: gate.UseUnknown}
		switch network {
		case plan.Cellular:
			c.Metered, c.NetworkFrom = gate.Yes, "the modem's command"
		case plan.WiFi:
			c.NetworkFrom = "the Wi-Fi's command"
		case plan.NoNetwork:
			c.Metered, c.NetworkFrom = gate.No, "the Wi-Fi's command"
		}
		if charging != gate.Unknown {
			c.PowerFrom = "the battery's command"
		}
		return c
	}
	for name, c := range map[string]struct {
		commands map[string]string
		want     gate.Conditions
	}{
		"at home": {map[string]string{"termux-battery-status": prints(charging),
			"termux-wifi-connectioninfo": prints(wifi), "termux-telephony-deviceinfo": prints(lte)},
			is(plan.WiFi, "Slip", gate.No, gate.Yes, 64)},
		"on the road": {map[string]string{"termux-battery-status": prints(battery),
			"termux-wifi-connectioninfo": prints(noWiFi), "termux-telephony-deviceinfo": prints(lte)},
			is(plan.Cellular, "", gate.No, gate.No, 17)},
		"abroad": {map[string]string{"termux-battery-status": prints(battery),
			"termux-wifi-connectioninfo": prints(noWiFi), "termux-telephony-deviceinfo": prints(roams)},
			is(plan.Cellular, "", gate.Yes, gate.No, 17)},
		"without a SIM": {map[string]string{"termux-battery-status": prints(battery),
			"termux-wifi-connectioninfo": prints(noWiFi), "termux-telephony-deviceinfo": prints(tablet)},
			is(plan.NoNetwork, "", gate.No, gate.No, 17)},
		"nobody answers": {nil, is(plan.UnknownNetwork, "", gate.Unknown, gate.Unknown, -1)},
		"nonsense": {map[string]string{"termux-battery-status": prints(`{"percentage":900,"plugged":7}`),
			"termux-wifi-connectioninfo": prints("[]"), "termux-telephony-deviceinfo": prints("lte")},
			is(plan.UnknownNetwork, "", gate.Unknown, gate.Unknown, -1)},
		"far too much": {map[string]string{"termux-battery-status": "head -c 200000 /dev/zero"},
			is(plan.UnknownNetwork, "", gate.Unknown, gate.Unknown, -1)},
		"a failure": {map[string]string{"termux-battery-status": prints(charging) + "\nexit 3"},
			is(plan.UnknownNetwork, "", gate.Unknown, gate.Unknown, -1)},
	} {
		t.Run(name, func(t *testing.T) {
			onPath(t, c.commands)
			got := first(t, sensor.Android{})
			if c.want.Network == plan.UnknownNetwork {
				c.want.NetworkFrom = got.NetworkFrom
			}
			assert.Equal(t, c.want, got)
		})
	}
	onPath(t, map[string]string{"termux-telephony-deviceinfo": prints(tablet)})
	assert.Equal(t, gate.No, sensor.Android{}.Modem())
	onPath(t, nil)
	assert.Equal(t, gate.Unknown, sensor.Android{}.Modem())
}

func TestACommandThatHangsIsUnknownAndTheOthersTell(t *testing.T) {
	onPath(t, map[string]string{"termux-battery-status": "sleep 60",
		"termux-wifi-connectioninfo": prints(`{"ip":"10.0.0.2","ssid":"\"Slip\"","supplicant_state":"COMPLETED"}`)})
	got := first(t, sensor.Android{})
	assert.Equal(t, gate.Unknown, got.Charging)
	assert.Equal(t, plan.WiFi, got.Network)
	assert.Equal(t, "Slip", got.NetworkName)
}

// What macOS's tools print, as it was kept.
const (
	macOnMains = "Now drawing from 'AC Power'\n -InternalBattery-0 (id=4653155)\t100%; charged; 0:00 remaining " +
		"present: true"
	macOnBattery = "Now drawing from 'Battery Power'\n -InternalBattery-0 (id=4653155)\t58%; discharging; 3:12 " +
		"remaining present: true"
	macDesk  = "Now drawing from 'AC Power'"
	macRoute = "   route to: default\ndestination: default\n       mask: default\n    gateway: 192.168.1.1\n  " +
		"interface: %s\n      flags: <UP,GATEWAY,DONE,STATIC,PRCLONING,GLOBAL>"
	macPorts = "\nHardware Port: Ethernet Adapter (en4)\nDevice: en4\nEthernet Address: " +
		"02:00:00:00:00:04\n\nHardware Port: iPhone USB\nDevice: en7\nEthernet Address: 02:00:00:00:00:07\n\nHardware " +
		"Port: Wi-Fi\nDevice: en0\nEthernet Address: 02:00:00:00:00:00\n\nVLAN Configurations\n==================="
	macHID = "+-o IOHIDSystem  <class IOHIDSystem, id 0x100000433>\n    {\n      \"HIDIdleTime\" = %d\n    }"
)

func TestMacsToolsTell(t *testing.T) {
	tools := func(power, link string, idle time.Duration) map[string]string {
		return map[string]string{"pmset": prints(power), "route": prints(fmt.Sprintf(macRoute, link)),
			"networksetup": prints(macPorts), "ioreg": prints(fmt.Sprintf(macHID, idle.Nanoseconds()))}
	}
	without := func(all map[string]string, name, instead string) map[string]string {
		all[name] = instead
		return all
	}
	for name, c := range map[string]struct {
		tools    map[string]string
		network  plan.Network
		charging gate.Known
		battery  int
		use      gate.Use
	}{
		"on the desk by Wi-Fi": {tools(macOnMains, "en0", time.Hour), plan.WiFi, gate.Yes, 100, gate.NotInUse},
		"on the lap":           {tools(macOnBattery, "en0", time.Second), plan.WiFi, gate.No, 58, gate.InUse},
		"by cable":             {tools(macDesk, "en4", time.Second), plan.Wired, gate.Yes, -1, gate.InUse},
		"by a telephone":       {tools(macOnBattery, "en7", time.Second), plan.Cellular, gate.No, 58, gate.InUse},
		"by a tunnel":          {tools(macOnBattery, "utun3", time.Second), plan.UnknownNetwork, gate.No, 58, gate.InUse},
		"without a network": {without(tools(macOnBattery, "en0", time.Second), "route", "exit 1"), plan.NoNetwork,
			gate.No, 58, gate.InUse},
		"without a word": {without(tools("?", "en0", time.Second), "ioreg", "exit 1"), plan.WiFi, gate.Unknown, -1,
			gate.UseUnknown},
	} {
		t.Run(name, func(t *testing.T) {
			onPath(t, c.tools)
			got := first(t, sensor.Mac{})
			assert.Equal(t, c.network, got.Network)
			assert.Equal(t, c.charging, got.Charging)
			assert.Equal(t, c.battery, got.Battery)
			assert.Equal(t, c.use, got.Use)
			if got.Network == plan.WiFi {
				assert.Equal(t, gate.Unknown, got.Metered, "that they cannot tell")
			}
		})
	}
}

// The services of a desktop are stood in for by python-dbusmock's own templates.
func TestADesktopsServicesTell(t *testing.T) {
	b, err := desktop.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	address := b.Address
	mock := func(name string, args ...string) *exec.Cmd {
		cmd, err := b.Mock(t.Context(), name, args...)
		require.NoError(t, err)
		return cmd
	}
	mock("org.freedesktop.NetworkManager", "--system", "--template", "networkmanager")
	upower := mock("org.freedesktop.UPower", "--system", "--template", "upower", "--parameters", `{"OnBattery": true}`)
	mock("org.freedesktop.login1", "--system", "--template", "logind")
	mock("org.freedesktop.ScreenSaver", "--session", "org.freedesktop.ScreenSaver", "/org/freedesktop/ScreenSaver",
		"org.freedesktop.ScreenSaver")

	call := func(name, path, method string, args ...any) { require.NoError(t, b.Call(name, path, method, args...)) }
	set := func(name, path, iface, property string, v any) {
		call(name, path, "org.freedesktop.DBus.Mock.UpdateProperties", iface,
			map[string]dbus.Variant{property: dbus.MakeVariant(v)})
	}
	const nm, logind = "org.freedesktop.NetworkManager", "org.freedesktop.login1"
	properties := func(path, iface string, of map[string]dbus.Variant) {
		call(nm, "/org/freedesktop/NetworkManager", "org.freedesktop.DBus.Mock.AddObject", path, iface, of,
			[]struct{ Name, In, Out, Code string }{})
	}
	properties("/ap/1", nm+".AccessPoint", map[string]dbus.Variant{"Ssid": dbus.MakeVariant([]byte("Harbour Café"))})
	properties("/active/1", nm+".Connection.Active",
		map[string]dbus.Variant{"SpecificObject": dbus.MakeVariant(dbus.ObjectPath("/ap/1"))})
	call(nm, "/org/freedesktop/NetworkManager", "org.freedesktop.DBus.Mock.AddProperties", nm, map[string]dbus.Variant{
		"Metered": dbus.MakeVariant(uint32(1)), "PrimaryConnectionType": dbus.MakeVariant("802-11-wireless"),
		"PrimaryConnection": dbus.MakeVariant(dbus.ObjectPath("/active/1")),
	})
	call("org.freedesktop.ScreenSaver", "/org/freedesktop/ScreenSaver", "org.freedesktop.DBus.Mock.AddMethod",
		"org.freedesktop.ScreenSaver", "GetActive", "", "b", "ret = False")

	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	seen := make(chan gate.Conditions, 100)
	ended := make(chan error, 1)
	go func() {
		ended <- sensor.Linux{Root: sys(t, nil), Bus: address, Session: address}.Watch(ctx,
			func(c gate.Conditions) { seen <- c })
	}()
	until := func(what string, is func(gate.Conditions) bool) {
		t.Helper()
		deadline := time.After(10 * time.Second) // it looks by itself only each 30 s
		for {
			select {
			case c := <-seen:
				if is(c) {
					return
				}
			case <-deadline:
				require.Fail(t, "never: "+what)
			}
		}
	}
	until("the café's metered Wi-Fi, on battery, in use", func(c gate.Conditions) bool {
		return c.Network == plan.WiFi && c.NetworkName == "Harbour Café" && c.Metered == gate.Yes &&
			c.NetworkFrom == "NetworkManager" && c.Charging == gate.No && c.PowerFrom == "UPower" && c.Use == gate.InUse &&
			c.Screen == gate.Yes
	})
	set(nm, "/org/freedesktop/NetworkManager", nm, "Metered", uint32(2))
	until("it is metered no more", func(c gate.Conditions) bool { return c.Metered == gate.No })
	set(logind, "/org/freedesktop/login1", "org.freedesktop.login1.Manager", "IdleHint", true)
	until("nobody uses it", func(c gate.Conditions) bool { return c.Use == gate.NotInUse })
	set("org.freedesktop.UPower", "/org/freedesktop/UPower", "org.freedesktop.UPower", "OnBattery", false)
	until("it is on mains", func(c gate.Conditions) bool { return c.Charging == gate.Yes })
	require.NoError(t, upower.Process.Kill())
	until("who told of the power is gone", func(c gate.Conditions) bool {
		return c.Charging == gate.Unknown && c.Network == plan.WiFi
	})
	cancel()
	require.NoError(t, <-ended)
}

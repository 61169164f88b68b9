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
	"github.com/godbus/dbus/v5/prop"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/standin/desktop"
)

// sys makes a sysfs of one's own.
func sys(t testing.TB, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	if len(files) > 0 {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "class/power_supply"), 0o755))
	}
	for name, content := range files {
		file := filepath.Join(root, "class", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(content+"\n"), 0o644))
	}
	return root
}

func first(t testing.TB, s sensor.Sensor) gate.Conditions {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	var got gate.Conditions
	require.NoError(t, s.Watch(ctx, func(c gate.Conditions) { got = c; cancel() }))
	return got
}

func TestLinux(t *testing.T) {
	wifi := map[string]string{"net/lo/type": "772", "net/lo/operstate": "unknown", "net/wlan0/type": "1",
		"net/wlan0/operstate": "up", "net/wlan0/uevent": "DEVTYPE=wlan", "net/wlan0/device/x": ""}
	with := func(base map[string]string, more map[string]string) map[string]string {
		all := map[string]string{}
		for _, m := range []map[string]string{base, more} {
			for k, v := range m {
				all[k] = v
			}
		}
		return all
	}
	battery := map[string]string{"power_supply/BAT0/type": "Battery", "power_supply/BAT0/capacity": "37",
		"power_supply/BAT0/status": "Discharging", "power_supply/AC/type": "Mains", "power_supply/AC/online": "0"}
	for name, c := range map[string]struct {
		files map[string]string
		want  gate.Conditions
	}{
		"nothing": {nil, gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown,
			Roaming: gate.Unknown, Charging: gate.Unknown, Battery: -1}},
		"power only": {battery, gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown,
			Roaming: gate.Unknown, Charging: gate.No, Battery: 37}},
		"loopback only": {map[string]string{"net/lo/type": "772", "net/lo/operstate": "unknown", "net/lo/carrier": "1"},
			gate.Conditions{Network: plan.NoNetwork, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1}},
		"Wi-Fi": {wifi, gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No,
			Charging: gate.Yes, Battery: -1}},
		"Wi-Fi and a cable": {with(wifi, map[string]string{"net/eth0/type": "1", "net/eth0/operstate": "up",
			"net/eth0/device/x": ""}), gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No,
			Charging: gate.Yes, Battery: -1}},
		"the cable is out": {with(wifi, map[string]string{"net/eth0/type": "1", "net/eth0/operstate": "down",
			"net/eth0/device/x": ""}), gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No,
			Charging: gate.Yes, Battery: -1}},
		"a bridge only": {map[string]string{"net/docker0/type": "1", "net/docker0/operstate": "up"},
			gate.Conditions{Network: plan.NoNetwork, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1}},
		"a modem": {map[string]string{"net/wwan0/type": "1", "net/wwan0/operstate": "unknown",
			"net/wwan0/carrier": "1", "net/wwan0/uevent": "DEVTYPE=wwan", "net/wwan0/device/x": ""},
			gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.Unknown, Charging: gate.Yes, Battery: -1}},
		"on battery": {with(wifi, battery), gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown,
			Roaming: gate.No, Charging: gate.No, Battery: 37}},
		"on the charger": {with(with(wifi, battery), map[string]string{"power_supply/AC/online": "1"}),
			gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No, Charging: gate.Yes, Battery: 37}},
		"charging, no mains": {with(with(wifi, battery), map[string]string{"power_supply/BAT0/status": "Charging"}),
			gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No, Charging: gate.Yes, Battery: 37}},
		"a mouse's battery": {with(wifi, map[string]string{"power_supply/m/type": "Battery",
			"power_supply/m/scope": "Device", "power_supply/m/capacity": "9"}),
			gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No, Charging: gate.Yes, Battery: -1}},
		"garbage": {with(wifi, map[string]string{"power_supply/BAT0/type": "Battery",
			"power_supply/BAT0/capacity": "lots"}), gate.Conditions{Network: plan.WiFi, Metered: gate.Unknown, Roaming: gate.No,
			Charging: gate.Yes, Battery: -1}},
	} {
		t.Run(name, func(t *testing.T) {
			c.want.Use = gate.UseUnknown
			if c.want.Network != plan.UnknownNetwork {
				c.want.NetworkFrom = "sysfs"
			}
			if c.want.Charging != gate.Unknown {
				c.want.PowerFrom = "sysfs"
			}
			assert.Equal(t, c.want, first(t, sensor.Linux{Root: sys(t, c.files), Bus: "unix:path=/nowhere"}))
		})
	}
}

func TestChangesAreTold(t *testing.T) {
	root := sys(t, map[string]string{"net/wlan0/type": "1", "net/wlan0/operstate": "up",
		"net/wlan0/uevent": "DEVTYPE=wlan"})
	var set sensor.Set
	for name, c := range map[string]struct {
		s      sensor.Sensor
		change func()
		want   plan.Network
	}{
		"sysfs": {sensor.Linux{Root: root, Bus: "unix:path=/nowhere", Every: 5 * time.Millisecond},
			func() { _ = os.WriteFile(filepath.Join(root, "class/net/wlan0/operstate"), []byte("down"), 0o644) },
			plan.NoNetwork},
		"by hand": {&set, func() { set.Put(gate.Conditions{Network: plan.Cellular}) }, plan.Cellular},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			defer cancel()
			var told []plan.Network
			require.NoError(t, c.s.Watch(ctx, func(now gate.Conditions) {
				if told = append(told, now.Network); len(told) == 1 {
					c.change()
				} else {
					cancel()
				}
			}))
			require.Len(t, told, 2, "the present one, and the change")
			assert.Equal(t, c.want, told[1])
		})
	}
}

// NetworkManager is stood in for on a bus of its own, by what its D-Bus reference
// says of the property Metered.
func TestNetworkManagerTellsWhetherWiFiIsMetered(t *testing.T) {
	b, err := desktop.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	address, conn := b.Address, b.Conn
	wifi := sys(t, map[string]string{"net/wlan0/type": "1", "net/wlan0/operstate": "up",
		"net/wlan0/uevent": "DEVTYPE=wlan"})
	is := func() gate.Known { return first(t, sensor.Linux{Root: wifi, Bus: address}).Metered }
	assert.Equal(t, gate.Unknown, is(), "nobody answers")

	const name, path = "org.freedesktop.NetworkManager", "/org/freedesktop/NetworkManager"
	props, err := prop.Export(conn, path, prop.Map{name: {"Metered": {Value: uint32(0)}}})
	require.NoError(t, err)
	reply, err := conn.RequestName(name, dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.Equal(t, dbus.RequestNameReplyPrimaryOwner, reply)
	for told, want := range []gate.Known{gate.Unknown, gate.Yes, gate.No, gate.Yes, gate.No, gate.Unknown} {
		props.SetMust(name, "Metered", uint32(told))
		assert.Equal(t, want, is(), "%d", told)
	}
	wired := sys(t, map[string]string{"net/eth0/type": "1", "net/eth0/operstate": "up", "net/eth0/device/x": ""})
	assert.Equal(t, gate.No, first(t, sensor.Linux{Root: wired, Bus: address}).Metered)

	// It goes away while it is asked, and comes back.
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	props.SetMust(name, "Metered", uint32(2))
	var told []gate.Known
	require.NoError(t, sensor.Linux{Root: wifi, Bus: address, Every: 5 * time.Millisecond}.Watch(ctx,
		func(c gate.Conditions) {
			switch told = append(told, c.Metered); len(told) {
			case 1:
				_, err = conn.ReleaseName(name)
				assert.NoError(t, err)
			case 2:
				_, err = conn.RequestName(name, dbus.NameFlagDoNotQueue)
				assert.NoError(t, err)
			default:
				cancel()
			}
		}))
	assert.Equal(t, []gate.Known{gate.No, gate.Unknown, gate.No}, told)
}

// The kernel tells of an address that comes: it is looked at once, and not at the next
// beat.
func TestTheKernelTellsOfAChange(t *testing.T) {
	root := sys(t, map[string]string{"net/wlan0/type": "1", "net/wlan0/operstate": "up",
		"net/wlan0/uevent": "DEVTYPE=wlan"})
	address := fmt.Sprintf("127.77.%d.%d/32", os.Getpid()%200, 1+time.Now().Nanosecond()%200)
	change := func(verb string) error { return exec.Command("ip", "address", verb, address, "dev", "lo").Run() }
	if change("add") != nil {
		t.Skip("only root may change an address")
	}
	t.Cleanup(func() { _ = change("del") })
	require.NoError(t, change("del"))
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	var told []plan.Network
	require.NoError(t, sensor.Linux{Root: root, Bus: "unix:path=/nowhere", Every: time.Hour}.Watch(ctx,
		func(now gate.Conditions) {
			if told = append(told, now.Network); len(told) > 1 {
				cancel()
				return
			}
			assert.NoError(t, os.WriteFile(filepath.Join(root, "class/net/wlan0/operstate"), []byte("down"), 0o644))
			assert.NoError(t, change("add"))
		}))
	assert.Equal(t, []plan.Network{plan.WiFi, plan.NoNetwork}, told)
}

//go:build windows

package sensor

import (
	"context"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Windows asks the system (GetSystemPowerStatus, GetLastInputInfo,
// GetAdaptersAddresses). Whether a network is metered it does not tell here.
type Windows struct{}

var (
	kernel32    = windows.NewLazySystemDLL("kernel32.dll")
	user32      = windows.NewLazySystemDLL("user32.dll")
	powerStatus = kernel32.NewProc("GetSystemPowerStatus")
	tickCount   = kernel32.NewProc("GetTickCount")
	lastInput   = user32.NewProc("GetLastInputInfo")
)

// Watch implements Sensor.
func (Windows) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	return look(ctx, 30*time.Second, tell, settled(func(context.Context) gate.Conditions {
		c := unknown()
		windowsPower(&c)
		windowsUse(&c)
		windowsNetwork(&c)
		return c
	}))
}

// Modem tells whether the machine has one.
func (Windows) Modem() gate.Known {
	known := gate.Unknown
	eachAdapter(func(a *windows.IpAdapterAddresses) {
		if known == gate.Unknown {
			known = gate.No
		}
		if a.IfType == ifWWAN || a.IfType == ifWWAN2 {
			known = gate.Yes
		}
	})
	return known
}

// windowsPower reads SYSTEM_POWER_STATUS.
func windowsPower(c *gate.Conditions) {
	var s struct {
		Line, Flag, Percent, Saver byte
		Life, Full                 uint32
	}
	if ok, _, _ := powerStatus.Call(uintptr(unsafe.Pointer(&s))); ok == 0 {
		return
	}
	c.PowerFrom = "the system"
	switch s.Line {
	case 0:
		c.Charging = gate.No
	case 1:
		c.Charging = gate.Yes
	}
	if s.Flag&128 == 0 && s.Percent <= 100 { // it has a battery
		c.Battery = int(s.Percent)
	}
	c.Saver = gate.Is(s.Saver == 1)
}

// windowsUnused is how long nobody may have touched it before it counts as unused.
const windowsUnused = 5 * time.Minute

// windowsUse reads LASTINPUTINFO.
func windowsUse(c *gate.Conditions) {
	info := struct{ Size, Time uint32 }{Size: 8}
	if ok, _, _ := lastInput.Call(uintptr(unsafe.Pointer(&info))); ok == 0 {
		return
	}
	now, _, _ := tickCount.Call()
	c.Use, c.UseFrom = gate.InUse, "the system"
	if time.Duration(uint32(now)-info.Time)*time.Millisecond >= windowsUnused {
		c.Use = gate.NotInUse
	}
}

// The kinds of adapters (IANA ifType).
const (
	ifEthernet = 6
	ifWiFi     = 71
	ifWWAN     = 243
	ifWWAN2    = 244
)

func windowsNetwork(c *gate.Conditions) {
	rank := map[plan.Network]int{plan.NoNetwork: 0, plan.Cellular: 1, plan.WiFi: 2, plan.Wired: 3}
	eachAdapter(func(a *windows.IpAdapterAddresses) {
		if c.Network == plan.UnknownNetwork {
			c.Network, c.NetworkFrom = plan.NoNetwork, "the system"
		}
		if a.OperStatus != windows.IfOperStatusUp || a.FirstGatewayAddress == nil {
			return
		}
		is, known := map[uint32]plan.Network{ifEthernet: plan.Wired, ifWiFi: plan.WiFi, ifWWAN: plan.Cellular,
			ifWWAN2: plan.Cellular}[a.IfType]
		if known && rank[is] > rank[c.Network] {
			c.Network = is
		}
	})
}

func eachAdapter(see func(*windows.IpAdapterAddresses)) {
	size := uint32(32 << 10)
	for range 3 {
		buffer := make([]byte, size)
		first := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0]))
		err := windows.GetAdaptersAddresses(windows.AF_UNSPEC, windows.GAA_FLAG_INCLUDE_GATEWAYS, 0, first, &size)
		if err == windows.ERROR_BUFFER_OVERFLOW {
			continue
		}
		if err != nil {
			return
		}
		for a := first; a != nil; a = a.Next {
			see(a)
		}
		return
	}
}

package sensor

import (
	"context"
	"encoding/json"
	"os/exec"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
)

// Android asks the commands of Android's terminal program, one at a time, as each waits
// for an app that may not answer. It cannot tell whether a Wi-Fi is metered, nor whether
// the telephone is used. What does not answer in time is unknown.
type Android struct {
	Every time.Duration // how often it looks, 45 s when zero
}

// commandTime is how long a command may take.
const commandTime = 5 * time.Second

// mostTold bounds what a command prints, in bytes.
const mostTold = 64 << 10

// run runs a command and gives what it printed; false when it could not.
func run(ctx context.Context, name string, args ...string) ([]byte, bool) {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = time.Second // what it started may hold its output
	out, err := cmd.Output()
	return out, err == nil && len(out) <= mostTold
}

// ask runs a command that prints JSON.
func ask(ctx context.Context, into any, name string, args ...string) bool {
	out, ok := run(ctx, name, args...)
	return ok && json.Unmarshal(out, into) == nil
}

// Watch implements Sensor.
func (a Android) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	every := a.Every
	if every == 0 {
		every = 45 * time.Second
	}
	return look(ctx, every, tell, settled(androidNow))
}

// look tells what is read, and again when it is otherwise.
func look(ctx context.Context, every time.Duration, tell func(gate.Conditions),
	read func(context.Context) gate.Conditions) error {
	tick := time.NewTicker(every)
	defer tick.Stop()
	var last gate.Conditions
	for first := true; ; first = false {
		now := read(ctx)
		if ctx.Err() != nil {
			return nil
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

// settled reads, and says what follows of the network (see settle).
func settled(read func(context.Context) gate.Conditions) func(context.Context) gate.Conditions {
	return func(ctx context.Context) gate.Conditions {
		now := read(ctx)
		settle(&now)
		return now
	}
}

// unknown is what is known before anybody told anything.
func unknown() gate.Conditions {
	return gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown, Roaming: gate.Unknown,
		Charging: gate.Unknown, Battery: -1, Use: gate.UseUnknown}
}

// Modem tells whether the telephone has one.
func (a Android) Modem() gate.Known {
	var is struct {
		Type *string `json:"phone_type"`
	}
	if !ask(context.Background(), &is, "termux-telephony-deviceinfo") || is.Type == nil {
		return gate.Unknown
	}
	return gate.Is(*is.Type != "none")
}

func androidNow(ctx context.Context) gate.Conditions {
	c := unknown()
	var battery struct {
		Percentage *int   `json:"percentage"`
		Plugged    string `json:"plugged"`
		Status     string `json:"status"`
	}
	if ask(ctx, &battery, "termux-battery-status") {
		if p := battery.Percentage; p != nil && *p >= 0 && *p <= 100 {
			c.Battery = *p
		}
		if battery.Plugged != "" || battery.Status != "" {
			c.Charging, c.PowerFrom = gate.Is(battery.Plugged != "UNPLUGGED" && battery.Plugged != "" ||
				battery.Status == "CHARGING" || battery.Status == "FULL"), "the battery's command"
		}
	}
	var wifi struct {
		SSID  string `json:"ssid"`
		IP    string `json:"ip"`
		State string `json:"supplicant_state"`
	}
	if ask(ctx, &wifi, "termux-wifi-connectioninfo") {
		c.NetworkFrom = "the Wi-Fi's command"
		if wifi.State == "COMPLETED" && wifi.IP != "" && wifi.IP != "0.0.0.0" {
			c.Network = plan.WiFi
			if name := strings.Trim(wifi.SSID, `"`); name != "<unknown ssid>" && len(name) <= 64 {
				c.NetworkName = name
			}
			return c
		}
		c.Network = plan.NoNetwork // unless the modem has one
	}
	var phone struct {
		Data    string `json:"data_state"`
		Roaming *bool  `json:"network_roaming"`
	}
	if !ask(ctx, &phone, "termux-telephony-deviceinfo") {
		if c.Network == plan.NoNetwork {
			c.Network = plan.UnknownNetwork // the modem may have one
		}
		return c
	}
	if phone.Data == "connected" {
		c.Network, c.NetworkFrom = plan.Cellular, "the modem's command"
		if phone.Roaming != nil {
			c.Roaming = gate.Is(*phone.Roaming)
		}
	}
	return c
}

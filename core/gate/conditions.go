package gate

import (
	"slices"
	"strings"
	"time"

	"yardtide/core/plan"
	"yardtide/core/words"
)

// Known is what is known of something that is so or not. The zero value is unknown,
// and opens nothing.
type Known string

// What can be known.
const (
	Unknown Known = "unknown"
	Yes     Known = "yes"
	No      Known = "no"
)

// Knowns lists them.
var Knowns = []Known{Unknown, Yes, No}

// Is is what is known when something is seen to be so or not.
func Is(so bool) Known {
	if so {
		return Yes
	}
	return No
}

// tells is what the device can tell, for a sentence.
func (k Known) tells() words.Tells {
	switch k {
	case Yes:
		return words.IsSo
	case No:
		return words.IsNotSo
	}
	return words.CannotTell
}

// Sound is unknown where it is none of those.
func (k Known) Sound() Known {
	if k == "" || slices.Contains(Knowns, k) {
		return k
	}
	return Unknown
}

// Use tells whether somebody uses the device.
type Use string

// What is known of a device's use.
const (
	UseUnknown Use = "unknown"
	InUse      Use = "in use"
	NotInUse   Use = "idle"
)

// Conditions are the state of a device that gates look at, with the time since when
// each has been so. The zero value knows nothing.
type Conditions struct {
	Network     plan.Network `json:"network" enum:"unknown,none,wifi,wired,cellular"`
	NetworkName string       `json:"networkName,omitempty" maxLength:"64" doc:"Of the Wi-Fi, where the device tells"`
	Metered     Known        `json:"metered" enum:"unknown,yes,no"`
	Roaming     Known        `json:"roaming" enum:"unknown,yes,no"`
	Charging    Known        `json:"charging" enum:"unknown,yes,no" doc:"On mains power or charging"`
	Battery     int          `json:"battery" minimum:"-1" maximum:"100" doc:"Percent, -1 when the device has no battery or cannot tell"`
	Use         Use          `json:"use" enum:"unknown,in use,idle"`
	Screen      Known        `json:"screen,omitempty" enum:"unknown,yes,no" doc:"Whether the screen is on; absent is unknown"`
	Saver       Known        `json:"saver,omitempty" enum:"unknown,yes,no" doc:"Whether the system saves battery; absent is unknown"`
	Guessed     bool         `json:"guessed,omitempty" doc:"The device cannot tell its network, and the plan takes it for a Wi-Fi"`

	NetworkFrom string `json:"networkFrom,omitempty" doc:"Who told of the network, absent for nobody"`
	PowerFrom   string `json:"powerFrom,omitempty" doc:"Who told of the power, absent for nobody"`
	UseFrom     string `json:"useFrom,omitempty" doc:"Who told of its use, absent for nobody"`

	NetworkSince time.Time `json:"networkSince,omitzero" doc:"Since when it is on this network"`
	MeteredSince time.Time `json:"meteredSince,omitzero"`
	RoamingSince time.Time `json:"roamingSince,omitzero"`
	PowerSince   time.Time `json:"powerSince,omitzero" doc:"Since when it charges, or does not"`
	UseSince     time.Time `json:"useSince,omitzero"`
	ScreenSince  time.Time `json:"screenSince,omitzero"`
	SaverSince   time.Time `json:"saverSince,omitzero"`
}

// MayCost tells whether the network is known to cost: it is metered, or the device roams.
func (c Conditions) MayCost() bool { return c.Metered == Yes || c.Roaming == Yes }

// Sound is the conditions without what nobody knows the meaning of: a word from outside
// that is none of ours is unknown.
func (c Conditions) Sound() Conditions {
	switch c.Network {
	case plan.NoNetwork, plan.WiFi, plan.Wired, plan.Cellular:
	default:
		c.Network = plan.UnknownNetwork
	}
	for _, k := range []*Known{&c.Metered, &c.Roaming, &c.Charging, &c.Screen, &c.Saver} {
		*k = k.Sound()
	}
	if c.Use != InUse && c.Use != NotInUse {
		c.Use = UseUnknown
	}
	if c.Battery < -1 || c.Battery > 100 {
		c.Battery = -1
	}
	for _, text := range []*string{&c.NetworkName, &c.NetworkFrom, &c.PowerFrom, &c.UseFrom} {
		*text = strings.ToValidUTF8((*text)[:min(len(*text), 64)], "")
	}
	return c
}

// Costs tells whether bytes sent now are metered, or may be: what is not known counts
// as costing.
func (c Conditions) Costs() bool {
	switch c.Network {
	case plan.NoNetwork:
		return false
	case plan.WiFi, plan.Wired:
		return c.Metered != No || c.Roaming != No
	}
	return true
}

// Stamp returns c, with what is empty said to be unknown, and with the times since
// when each part has been so, given the conditions before.
func (c Conditions) Stamp(before Conditions, now time.Time) Conditions {
	for _, k := range []*Known{&c.Metered, &c.Roaming, &c.Charging, &c.Screen, &c.Saver} {
		if *k == "" {
			*k = Unknown
		}
	}
	if c.Network == "" {
		c.Network = plan.UnknownNetwork
	}
	if c.Use == "" {
		c.Use = UseUnknown
	}
	since := func(same bool, before time.Time) time.Time {
		if same && !before.IsZero() {
			return before
		}
		return now
	}
	c.NetworkSince = since(c.Network == before.Network && c.NetworkName == before.NetworkName, before.NetworkSince)
	c.MeteredSince = since(c.Metered == before.Metered, before.MeteredSince)
	c.RoamingSince = since(c.Roaming == before.Roaming, before.RoamingSince)
	c.PowerSince = since(c.Charging == before.Charging && (c.Battery < 0) == (before.Battery < 0),
		before.PowerSince) // each percent is no news
	c.UseSince = since(c.Use == before.Use, before.UseSince)
	c.ScreenSince = since(c.Screen == before.Screen, before.ScreenSince)
	c.SaverSince = since(c.Saver == before.Saver, before.SaverSince)
	return c
}

// Taken is the conditions as a device's plan has them taken: an unknown network counts as
// what it says, and that shows.
func (c Conditions) Taken(as plan.UnknownAs) Conditions {
	if as == plan.AsWiFi && (c.Network == plan.UnknownNetwork || c.Network == "") {
		c.Network, c.Metered, c.Roaming, c.Guessed = plan.WiFi, No, No, true
	}
	return c
}

// Resting is since when the device has been on charge and unused together; zero when it
// is not.
func (c Conditions) Resting() time.Time {
	if c.Charging != Yes || c.Use != NotInUse {
		return time.Time{}
	}
	if c.UseSince.After(c.PowerSince) {
		return c.UseSince
	}
	return c.PowerSince
}

// PauseState is the keeper's pause; the zero value is none. A zero Until lasts
// until it is resumed.
type PauseState struct {
	On    bool      `json:"on"`
	Since time.Time `json:"since,omitzero"`
	Until time.Time `json:"until,omitzero" doc:"Absent: until it is resumed"`
}

// Active tells whether the pause holds at now.
func (p PauseState) Active(now time.Time) bool {
	return p.On && (p.Until.IsZero() || now.Before(p.Until))
}

// tells is what the device can tell of its use, for a sentence.
func (u Use) tells() words.Tells {
	switch u {
	case InUse:
		return words.IsSo
	case NotInUse:
		return words.IsNotSo
	}
	return words.CannotTell
}

// Package gate decides whether a class of copies may go, by which lane, and if
// not, why and until when.
//
// These always hold:
//   - Decide is a pure function: the same question has the same verdict;
//   - it costs the same for one copy and for a million, as it is asked once a
//     class (rule x kind x destination);
//   - a verdict without an open lane has at least one hold, and every hold has
//     a sentence;
//   - a condition that is not known never opens a gate.
package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"yardtide/core/allowance"
	"yardtide/core/media"
	"yardtide/core/plan"
)

// Name names a gate.
type Name string

// The gates. The last six are not set by a lane: the keeper's pause, a
// destination in trouble, a copy's own wait after a failure, the proof of what
// was sent, room at the destination, and which place its name stands for.
const (
	Network   Name = "network"
	Metered   Name = "metered"
	Roaming   Name = "roaming"
	Power     Name = "power"
	Hours     Name = "hours"
	Idle      Name = "idle"
	Allowance Name = "allowance"
	Kind      Name = "kind" // the lane does not carry this kind
	Pause     Name = "pause"
	Trouble   Name = "trouble"
	Retry     Name = "retry"
	Proof     Name = "proof"
	Space     Name = "space"
	Place     Name = "place"
)

// Names lists every gate.
var Names = []Name{Network, Metered, Roaming, Power, Hours, Idle, Allowance, Kind, Pause, Trouble, Retry, Proof, Space, Place}

// Use tells whether somebody uses the device.
type Use string

// What is known of a device's use.
const (
	UseUnknown Use = "unknown"
	InUse      Use = "in use"
	NotInUse   Use = "idle"
)

// Conditions are the state of a device that gates look at, with the times
// since when each part has been so.
type Conditions struct {
	Network  plan.Network `json:"network" enum:"none,wifi,wired,cellular"`
	Metered  bool         `json:"metered"`
	Roaming  bool         `json:"roaming"`
	Charging bool         `json:"charging" doc:"On mains power or charging"`
	Battery  int          `json:"battery" minimum:"-1" maximum:"100" doc:"Percent, -1 when the device has no battery"`
	Use      Use          `json:"use" enum:"unknown,in use,idle"`

	NetworkSince time.Time `json:"networkSince,omitzero"`
	PowerSince   time.Time `json:"powerSince,omitzero" doc:"Since when it charges, or does not"`
	UseSince     time.Time `json:"useSince,omitzero"`
}

// Costs tells whether bytes sent now are metered.
func (c Conditions) Costs() bool { return c.Network == plan.Cellular || c.Metered || c.Roaming }

// Stamp returns c with the times since when each part has been so, given the
// conditions before.
func (c Conditions) Stamp(before Conditions, now time.Time) Conditions {
	since := func(same bool, before time.Time) time.Time {
		if same && !before.IsZero() {
			return before
		}
		return now
	}
	c.NetworkSince = since(c.Network == before.Network && c.Metered == before.Metered && c.Roaming == before.Roaming, before.NetworkSince)
	c.PowerSince = since(c.Charging == before.Charging && (c.Battery < 0) == (before.Battery < 0), before.PowerSince) // each percent is no news
	c.UseSince = since(c.Use == before.Use, before.UseSince)
	return c
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

// Hold is why a copy waits. Opens is zero when nobody can know.
type Hold struct {
	Gate  Name      `json:"gate" enum:"network,metered,roaming,power,hours,idle,allowance,kind,pause,trouble,retry,proof,space,place"`
	Says  string    `json:"says" doc:"The reason, as a sentence"`
	Since time.Time `json:"since,omitzero"`
	Opens time.Time `json:"opens,omitzero" doc:"When the gate opens; absent when that cannot be known"`
	You   bool      `json:"needsYou" doc:"It does not mend itself: the keeper must do something"`
}

// Question is all that a verdict depends on.
type Question struct {
	Rule      plan.Rule
	Kind      media.Kind
	Networked bool // the destination lies across a network
	Now       Conditions
	Pause     PauseState
	// Account is what the lane spent in the period that the time lies in.
	Account func(over plan.Network) allowance.Account
	Time    time.Time
	Zone    *time.Location
}

// LaneVerdict is one lane's answer: open when it has no holds.
type LaneVerdict struct {
	Over  plan.Network `json:"over"`
	Holds []Hold       `json:"holds"`
	// Left is what the lane may still spend, -1 without a limit.
	Left int64 `json:"left"`
}

// Verdict is the answer for a class.
type Verdict struct {
	Lanes []LaneVerdict `json:"lanes"`
	// Lane is the index of the open lane to go by, -1 when all are shut.
	Lane int `json:"lane"`
	// Holds are those of the lane that is nearest to open, the first one first.
	Holds []Hold `json:"holds"`
	// Until is when time alone may change the verdict, zero when it cannot.
	Until time.Time `json:"until,omitzero"`
}

// Open tells whether a lane is open.
func (v Verdict) Open() bool { return v.Lane >= 0 }

// Decide answers a question.
func Decide(q Question) Verdict {
	v := Verdict{Lane: -1}
	if q.Pause.Active(q.Time) {
		v.Holds = []Hold{{Gate: Pause, Says: "Paused by you.", Since: q.Pause.Since, Opens: q.Pause.Until}}
		v.Until = q.Pause.Until
		return v
	}
	for _, lane := range q.Rule.Lanes {
		lv, until := decideLane(q, lane)
		if v.Lane < 0 && len(lv.Holds) == 0 {
			v.Lane = len(v.Lanes)
		}
		v.Lanes = append(v.Lanes, lv)
		v.Until = Earlier(v.Until, until)
	}
	if v.Lane < 0 {
		v.Holds = nearest(v.Lanes)
	}
	return v
}

// nearest picks the holds of the lane with the fewest shut gates, where being
// on another network weighs more than any other; between equals, the one that
// is known to open first.
func nearest(lanes []LaneVerdict) []Hold {
	if len(lanes) == 0 {
		return []Hold{{Gate: Kind, Says: "The rule has no lane."}}
	}
	best := slices.MinFunc(lanes, func(a, b LaneVerdict) int {
		if d := distance(a) - distance(b); d != 0 {
			return d
		}
		ao, bo := opens(a), opens(b)
		switch {
		case ao.Equal(bo):
			return 0
		case bo.IsZero() || !ao.IsZero() && ao.Before(bo):
			return -1
		}
		return 1
	})
	return best.Holds
}

// distance counts shut gates; a lane that does not carry the kind is farthest.
func distance(l LaneVerdict) int {
	switch l.Holds[0].Gate {
	case Kind:
		return 1000
	case Network:
		return 10 + len(l.Holds)
	}
	return len(l.Holds)
}

// opens is when the last of a lane's gates opens, zero when one is unknown.
func opens(l LaneVerdict) time.Time {
	var last time.Time
	for _, h := range l.Holds {
		if h.Opens.IsZero() {
			return time.Time{}
		}
		if h.Opens.After(last) {
			last = h.Opens
		}
	}
	return last
}

func decideLane(q Question, lane plan.Lane) (LaneVerdict, time.Time) {
	v := LaneVerdict{Over: lane.Over, Left: -1}
	if !lane.Takes(q.Kind) {
		v.Holds = []Hold{{Gate: Kind, Says: fmt.Sprintf("The lane over %s does not take %ss.", lane.Over.Label(), q.Kind)}}
		return v, time.Time{}
	}
	var until time.Time
	if q.Networked {
		if h, shut := network(q.Now, lane); shut {
			v.Holds = append(v.Holds, h)
		}
	}
	gates := q.Rule.Gates.Under(lane.Gates)
	if h, shut := power(q.Now, gates.Power); shut {
		v.Holds = append(v.Holds, h)
	}
	if gates.Idle == plan.MustBeIdle && q.Now.Use != NotInUse {
		says := "Waits until nobody uses the device."
		if q.Now.Use != InUse {
			says = "Waits until nobody uses the device; this device cannot tell whether it is in use."
		}
		v.Holds = append(v.Holds, Hold{Gate: Idle, Says: says, Since: q.Now.UseSince})
	}
	if len(gates.Hours) > 0 {
		h, shut, next := hours(gates.Hours, q.Time, q.Zone)
		until = Earlier(until, next)
		if shut {
			v.Holds = append(v.Holds, h)
		}
	}
	if lane.Allowance = q.Rule.AllowanceOver(lane.Over); lane.Allowance.Bytes > 0 && q.Networked {
		_, end := allowance.Period(lane.Allowance.Per, q.Time, q.Zone)
		account := q.Account(lane.Over)
		v.Left = allowance.Left(lane.Allowance, account)
		until = Earlier(until, end)
		if v.Left <= allowance.Overhead {
			v.Holds = append(v.Holds, spent(lane, q.Time, q.Zone))
		}
	}
	return v, until
}

// spent is the hold of a lane whose allowance is used up.
func spent(lane plan.Lane, now time.Time, zone *time.Location) Hold {
	start, end := allowance.Period(lane.Allowance.Per, now, zone)
	says := fmt.Sprintf("The allowance of %s per %s on %s is used up.", Bytes(lane.Allowance.Bytes), lane.Allowance.Per, lane.Over.Label())
	return Hold{Gate: Allowance, Says: says, Since: start, Opens: end}
}

// NoneFits is the hold of a class of which not even the smallest copy fits into
// the rest of an allowance.
func NoneFits(lane plan.Lane, left, smallest int64, now time.Time, zone *time.Location) Hold {
	h := TooLarge(lane, left, smallest, now, zone)
	h.Says = fmt.Sprintf("Each is larger than the %s that are left of the allowance of %s per %s on %s.", Bytes(left), Bytes(lane.Allowance.Bytes), lane.Allowance.Per, lane.Over.Label())
	if h.Opens.IsZero() {
		h.Says = fmt.Sprintf("Each is larger than the whole allowance of %s per %s on %s; they wait for another lane.", Bytes(lane.Allowance.Bytes), lane.Allowance.Per, lane.Over.Label())
	}
	return h
}

// TooLarge is the hold of a single copy that the rest of an allowance cannot
// carry now, or that the whole of it never will.
func TooLarge(lane plan.Lane, left, size int64, now time.Time, zone *time.Location) Hold {
	start, end := allowance.Period(lane.Allowance.Per, now, zone)
	if allowance.Cost(size) > lane.Allowance.Bytes {
		return Hold{Gate: Allowance, Since: start, Says: fmt.Sprintf("At %s it is larger than the whole allowance of %s per %s on %s; it waits for another lane.",
			Bytes(size), Bytes(lane.Allowance.Bytes), lane.Allowance.Per, lane.Over.Label())}
	}
	return Hold{Gate: Allowance, Since: start, Opens: end, Says: fmt.Sprintf("It is %s, and %s are left of the allowance of %s per %s on %s.",
		Bytes(size), Bytes(left), Bytes(lane.Allowance.Bytes), lane.Allowance.Per, lane.Over.Label())}
}

func network(c Conditions, lane plan.Lane) (Hold, bool) {
	hold := func(gate Name, format string, args ...any) (Hold, bool) {
		return Hold{Gate: gate, Says: fmt.Sprintf(format, args...), Since: c.NetworkSince}, true
	}
	fits := c.Network == lane.Over || lane.Over == plan.WiFi && c.Network == plan.Wired
	switch {
	case c.Network == plan.NoNetwork || c.Network == "":
		return hold(Network, "Waits for a network; the device has none.")
	case !fits:
		return hold(Network, "Waits for %s; the device is on %s.", lane.Over.Label(), c.Network.Label())
	case c.Roaming && !lane.Roaming:
		return hold(Roaming, "Waits until the device no longer roams.")
	case c.Metered && lane.Over != plan.Cellular && !lane.Metered:
		return hold(Metered, "Waits for a network that is not metered; this one is.")
	}
	return Hold{}, false
}

func power(c Conditions, p plan.Power) (Hold, bool) {
	if p == (plan.Power{}) {
		return Hold{}, false
	}
	charged := p.AtLeast > 0 && (c.Battery < 0 && c.Charging || c.Battery >= p.AtLeast)
	open := false
	switch {
	case p.Both:
		open = c.Charging && charged
	case p.Charging && p.AtLeast > 0:
		open = c.Charging || charged
	case p.Charging:
		open = c.Charging
	default:
		open = charged
	}
	if open {
		return Hold{}, false
	}
	want := map[bool]string{true: "the charger", false: ""}[p.Charging]
	if p.AtLeast > 0 {
		joint := map[bool]string{true: " and ", false: " or "}[p.Both]
		if want == "" {
			joint = ""
		}
		want += joint + fmt.Sprintf("a battery of at least %d%%", p.AtLeast)
	}
	have := "it is not charging"
	if c.Charging {
		have = "it is charging"
	}
	if c.Battery >= 0 {
		have = fmt.Sprintf("the battery is at %d%% and ", c.Battery) + map[bool]string{true: "charging", false: "not charging"}[c.Charging]
	}
	return Hold{Gate: Power, Says: fmt.Sprintf("Waits for %s; %s.", want, have), Since: c.PowerSince}, true
}

// hours tells whether the hours are shut at t, and when that next changes.
func hours(h plan.Hours, t time.Time, zone *time.Location) (hold Hold, shut bool, next time.Time) {
	inside := within(h, t, zone)
	next = turn(h, t, zone, !inside, 1)
	if inside {
		return Hold{}, false, next
	}
	return Hold{Gate: Hours, Says: fmt.Sprintf("Sends only at %s.", h), Since: turn(h, t, zone, false, -1), Opens: next}, true, next
}

func within(h plan.Hours, t time.Time, zone *time.Location) bool {
	t = t.In(zone)
	minute := t.Hour()*60 + t.Minute()
	return slices.ContainsFunc(h, func(w plan.Window) bool { return w.Contains(minute) })
}

// turn finds the nearest instant after t (direction 1), or not after t
// (direction -1), at which the hours change to want; zero when there is none
// within three days. The wall clock can only change the answer at a window's
// edge or when the zone's offset changes, so these are all the instants to
// look at: skipped and repeated hours come out right by themselves.
func turn(h plan.Hours, t time.Time, zone *time.Location, want bool, direction int) time.Time {
	local := t.In(zone)
	y, m, d := local.Date()
	var at []time.Time
	for day := -3; day <= 3; day++ {
		for _, w := range h {
			for _, minute := range []int{w.Start, w.End} {
				at = append(at, time.Date(y, m, d+day, 0, minute, 0, 0, zone))
				// The same wall clock, an hour apart, when it comes twice.
				at = append(at, at[len(at)-1].Add(time.Hour), at[len(at)-1].Add(-time.Hour))
			}
		}
		start, end := time.Date(y, m, d+day, 12, 0, 0, 0, zone).ZoneBounds()
		at = append(at, start, end)
	}
	var best time.Time
	for _, c := range at {
		future := c.After(t)
		if c.IsZero() || future != (direction > 0) || within(h, c, zone) != want || within(h, c.Add(-time.Nanosecond), zone) == want {
			continue
		}
		if best.IsZero() || (c.Before(best) == (direction > 0)) {
			best = c
		}
	}
	return best
}

// Earlier is the earlier of two times, where the zero time is none.
func Earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Bytes writes a size for people, in decimal units: "45 MB".
func Bytes(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

// And joins words as a sentence does: "shed, locker and attic".
func And(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Count writes a number for people: "1,204".
func Count(n int64) string { return humanize.Comma(n) }

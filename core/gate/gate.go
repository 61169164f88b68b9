// Package gate decides whether a class of copies may go, by which lane, and if
// not, why and until when; whether what is on its way may go on; and what may be done at
// a destination beside.
//
// These always hold:
//   - every decision is a pure function of a Situation: the same one is decided alike;
//   - it costs the same for one copy and for a million, as it is asked once a
//     class (rule x kind x destination);
//   - a verdict without an open lane has at least one hold, and every hold has
//     a sentence;
//   - a condition that is not known never opens a gate.
package gate

import (
	"slices"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
)

// Name names a gate.
type Name string

// The gates. The last eight are not set by a lane: the keeper's pause, a
// destination in trouble, a copy's own wait after a failure, the proof of what
// was sent, room at the destination, which place its name stands for, a program that works only
// while it is open, and what is to go but is not ready.
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
	Front     Name = "front" // the program of the device is not open
	Ready     Name = "ready" // what goes is not made yet, or goes after another
)

// Names lists every gate.
var Names = []Name{Network, Metered, Roaming, Power, Hours, Idle, Allowance, Kind, Pause, Trouble, Retry, Proof, Space,
	Place, Front, Ready}

// Hold is why a copy waits. Opens is zero when nobody can know.
type Hold struct {
	Gate  Name      `json:"gate" enum:"network,metered,roaming,power,hours,idle,allowance,kind,pause,trouble,retry,proof,space,place,front,ready"`
	Says  string    `json:"says" doc:"The reason, as a sentence"`
	Since time.Time `json:"since,omitzero"`
	Opens time.Time `json:"opens,omitzero" doc:"When the gate opens; absent when that cannot be known"`
	You   bool      `json:"needsYou" doc:"It does not mend itself: the keeper must do something"`
}

// LaneVerdict is one lane's answer: open when it has no holds.
type LaneVerdict struct {
	Over  plan.Network `json:"over"`
	Holds []Hold       `json:"holds"`
	// Left is what the lane may still spend, -1 without a limit.
	Left int64 `json:"left"`
	// of is the allowance that Left is the rest of, the tighter one while roaming.
	of      plan.Allowance
	roaming bool // of is the one for roaming
}

// Verdict is the answer for a class.
type Verdict struct {
	Lanes []LaneVerdict `json:"lanes"`
	// Lane is the index of the open lane to go by, -1 when all are shut.
	Lane int `json:"lane"`
	// Holds are those of the lane that is nearest to open, the first one first.
	Holds []Hold `json:"holds"`
	// Todo is what the keeper can do about them.
	Todo string `json:"todo,omitempty"`
	// Fits is the largest copy that may go by the open lane, in bytes.
	Fits int64 `json:"-"`
	// Until is when time alone may change the verdict, zero when it cannot.
	Until time.Time `json:"until,omitzero"`
}

// Open tells whether a lane is open.
func (v Verdict) Open() bool { return v.Lane >= 0 }

// Prepares tells whether copies of the class may be made smaller: they may go, but for their size,
// which is known only then.
func (v Verdict) Prepares() bool {
	if v.Open() {
		return true
	}
	return len(v.Holds) > 0 && !slices.ContainsFunc(v.Holds, func(h Hold) bool {
		return h.Gate != Space && h.Gate != Allowance
	})
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

// lane decides for one lane; until is when time alone may change that.
func (s Situation) lane(rule plan.Rule, lane plan.Lane, class queue.Class) (v LaneVerdict, until time.Time) {
	v = LaneVerdict{Over: lane.Over, Left: -1}
	if !rule.LaneTakes(lane, class.Kind) {
		v.Holds = []Hold{{Gate: Kind, Says: words.TakesNot(lane.Over, class.Kind)}}
		return v, time.Time{}
	}
	if !lane.Carries(class.Shelf) {
		v.Holds = []Hold{{Gate: Kind, Says: words.CarriesNot(lane.Over, class.Shelf)}}
		return v, time.Time{}
	}
	networked := s.Networked(class.Destination)
	if networked {
		if h, shut := network(s.Now, lane); shut {
			v.Holds = append(v.Holds, h)
		} else if h, shut := s.named(lane); shut {
			v.Holds = append(v.Holds, h)
		}
	}
	shut, until := s.shut(rule.Gates.Under(lane.Gates))
	v.Holds = append(v.Holds, shut...)
	if lane.Allowance = rule.AllowanceOver(lane.Over); lane.Allowance.Bytes > 0 && networked {
		v.of = lane.Allowance
		_, end := allowance.Period(lane.Allowance.Per, s.Time, s.Zone)
		until = Earlier(until, end)
		if account, known := s.Accounts[Account{Over: lane.Over, Per: lane.Allowance.Per}]; known {
			v.Left = allowance.Left(lane.Allowance, account)
		} else {
			v.Left = 0
		}
		if v.Left <= allowance.Overhead {
			v.Holds = append(v.Holds, spent(lane.Over, lane.Allowance, false, s.Time, s.Zone))
		}
	}
	if own := lane.RoamingAllowance; own.Bytes > 0 && networked && s.Now.Roaming != No {
		_, end := allowance.Period(own.Per, s.Time, s.Zone)
		until = Earlier(until, end)
		left := int64(0)
		if account, known := s.Accounts[Account{Over: lane.Over, Per: own.Per, Roaming: true}]; known {
			left = allowance.Left(own, account)
		}
		if v.Left < 0 || left < v.Left {
			v.Left, v.of, v.roaming = left, own, true
		}
		if left <= allowance.Overhead {
			v.Holds = append(v.Holds, spent(lane.Over, own, true, s.Time, s.Zone))
		}
	}
	return v, until
}

// named is the hold of a lane that is not open on every network.
func (s Situation) named(lane plan.Lane) (Hold, bool) {
	c, name := s.Now, s.Now.NetworkName
	limited := lane.HomeOnly || len(lane.Named) > 0 || len(lane.NotNamed) > 0
	if lane.Over != plan.WiFi || !limited || c.Network == plan.Wired { // a cable is at home
		return Hold{}, false
	}
	if name != "" && !slices.Contains(lane.NotNamed, name) &&
		(len(lane.Named) == 0 || slices.Contains(lane.Named, name)) &&
		(!lane.HomeOnly || slices.Contains(s.Plan.HomeNetworks, name)) {
		return Hold{}, false
	}
	return Hold{Gate: Network, Says: words.WaitsForName(lane, name), Since: c.NetworkSince}, true
}

// Meets tells whether gates that are no lane's are all open.
func (s Situation) Meets(g plan.Gates) bool {
	shut, _ := s.shut(g)
	return len(shut) == 0
}

// shut are the holds of gates that are shut; until is when time alone may change that.
func (s Situation) shut(g plan.Gates) (holds []Hold, until time.Time) {
	add := func(h Hold, shut bool) {
		if shut {
			holds = append(holds, h)
			until = Earlier(until, h.Opens)
		}
	}
	add(power(s.Now, g.Power, s.Time))
	add(saver(s.Now, g.Saver))
	add(screen(s.Now, g.Screen))
	add(unused(s.Now, g.Unused, s.Time))
	add(rest(s.Now, g.Rest, s.Time))
	if g.Idle == plan.MustBeIdle && s.Now.Use != NotInUse {
		add(Hold{Gate: Idle, Says: words.WaitsForNobody(s.Now.Use.tells()), Since: s.Now.UseSince}, true)
	}
	if len(g.Hours) > 0 {
		h, shut, next := hours(g.Hours, s.Time, s.Zone)
		add(h, shut)
		until = Earlier(until, next)
	}
	return holds, until
}

// spent is the hold of a lane of which an allowance is used up.
func spent(over plan.Network, of plan.Allowance, roaming bool, now time.Time, zone *time.Location) Hold {
	start, end := allowance.Period(of.Per, now, zone)
	return Hold{Gate: Allowance, Says: words.UsedUp(of, over, roaming), Since: start, Opens: end}
}

// larger is the hold of a copy that the rest of an allowance cannot carry now, or that the whole of
// it never will; each tells that the copy is the smallest of its class.
func (v LaneVerdict) larger(size int64, each bool, now time.Time, zone *time.Location) Hold {
	start, end := allowance.Period(v.of.Per, now, zone)
	whole := allowance.Cost(size) > v.of.Bytes
	if whole {
		end = time.Time{}
	}
	return Hold{Gate: Allowance, Since: start, Opens: end,
		Says: words.Larger(size, v.Left, v.of, v.Over, v.roaming, whole, each)}
}

func network(c Conditions, lane plan.Lane) (Hold, bool) {
	fits := c.Network == lane.Over || lane.Over == plan.WiFi && c.Network == plan.Wired ||
		lane.Over == plan.Cellular && lane.MeteredWiFi && c.Network == plan.WiFi && c.Metered == Yes
	switch {
	case !fits:
		return Hold{Gate: Network, Since: c.NetworkSince, Says: words.WaitsForNetwork(lane.Over, c.Network)}, true
	case c.Roaming != No && !lane.Roaming:
		return Hold{Gate: Roaming, Since: c.RoamingSince, Says: words.WaitsForNoRoaming(c.Roaming.tells())}, true
	case lane.Over == plan.Cellular || lane.Metered || c.Metered == No:
		return Hold{}, false
	}
	return Hold{Gate: Metered, Since: c.MeteredSince, Says: words.WaitsForUnmetered(c.Metered.tells())}, true
}

func power(c Conditions, p plan.Power, now time.Time) (Hold, bool) {
	if p == (plan.Power{}) {
		return Hold{}, false
	}
	charging := c.Charging == Yes
	full := c.PowerSince.Add(span(p.For)) // it has charged for long enough
	if p.For > 0 && charging && now.Before(full) {
		charged := p.AtLeast > 0 && c.Battery >= p.AtLeast
		if charged && !p.Both {
			return Hold{}, false
		}
		return Hold{Gate: Power, Says: words.WaitsForCharge(p.For), Since: c.PowerSince, Opens: full}, true
	}
	charged := p.AtLeast > 0 && (c.Battery < 0 && charging || c.Battery >= p.AtLeast)
	open := false
	switch {
	case p.Both:
		open = charging && charged
	case p.Charging && p.AtLeast > 0:
		open = charging || charged
	case p.Charging:
		open = charging
	default:
		open = charged
	}
	if open {
		return Hold{}, false
	}
	return Hold{Gate: Power, Says: words.WaitsForPower(p, c.Charging.tells(), c.Battery), Since: c.PowerSince}, true
}

// span is minutes of a plan as a duration.
func span(m plan.Minutes) time.Duration { return time.Duration(m) * time.Minute }

// saver tells whether the system saves battery where it must not.
func saver(c Conditions, g plan.Switch) (Hold, bool) {
	if g != plan.MustBeOff || c.Saver == No {
		return Hold{}, false
	}
	return Hold{Gate: Power, Says: words.WaitsForNoSaving(c.Saver.tells()), Since: c.SaverSince}, true
}

// screen tells whether the screen is on where it must be dark.
func screen(c Conditions, g plan.Switch) (Hold, bool) {
	if g != plan.MustBeOff || c.Screen == No {
		return Hold{}, false
	}
	return Hold{Gate: Idle, Says: words.WaitsForDark(c.Screen.tells()), Since: c.ScreenSince}, true
}

// unused tells whether somebody used the device too short a while ago.
func unused(c Conditions, g plan.Minutes, now time.Time) (Hold, bool) {
	if g == 0 {
		return Hold{}, false
	}
	h := Hold{Gate: Idle, Says: words.WaitsForUnused(g, c.Use.tells()), Since: c.UseSince}
	switch opens := c.UseSince.Add(span(g)); {
	case c.Use != NotInUse: // nothing tells when it opens
	case now.Before(opens):
		h.Opens = opens
	default:
		return Hold{}, false
	}
	return h, true
}

// rest tells whether the device has been on charge and unused together for too short.
func rest(c Conditions, g plan.Minutes, now time.Time) (Hold, bool) {
	if g == 0 {
		return Hold{}, false
	}
	h := Hold{Gate: Idle, Says: words.WaitsForRest(g, words.IsNotSo), Since: c.UseSince}
	since := c.Resting()
	switch {
	case !since.IsZero() && !now.Before(since.Add(span(g))):
		return Hold{}, false
	case !since.IsZero():
		h.Since, h.Opens = since, since.Add(span(g))
	case c.Charging != Yes && c.Charging != No || c.Use != NotInUse && c.Use != InUse:
		h.Says = words.WaitsForRest(g, words.CannotTell)
	case c.Charging == No:
		h.Gate, h.Since = Power, c.PowerSince
	}
	return h, true
}

// hours tells whether the hours are shut at t, and when that next changes.
func hours(h plan.Hours, t time.Time, zone *time.Location) (hold Hold, shut bool, next time.Time) {
	inside := within(h, t, zone)
	next = turn(h, t, zone, !inside, 1)
	if inside {
		return Hold{}, false, next
	}
	return Hold{Gate: Hours, Says: words.OnlyAt(h), Since: turn(h, t, zone, false, -1), Opens: next}, true, next
}

func within(h plan.Hours, t time.Time, zone *time.Location) bool { return h.At(t.In(zone)) }

// turn finds the nearest instant after t (direction 1), or not after t
// (direction -1), at which the hours change to want; zero when there is none
// within three days, or eight where they name days of the week. The wall clock can only change the answer at a window's
// edge or when the zone's offset changes, so these are all the instants to
// look at: skipped and repeated hours come out right by themselves.
func turn(h plan.Hours, t time.Time, zone *time.Location, want bool, direction int) time.Time {
	local := t.In(zone)
	y, m, d := local.Date()
	var at []time.Time
	days := 3
	if slices.ContainsFunc(h, func(w plan.Window) bool { return w.First > 0 }) {
		days = 8
	}
	for day := -days; day <= days; day++ {
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
		if c.IsZero() || future != (direction > 0) || within(h, c, zone) != want ||
			within(h, c.Add(-time.Nanosecond), zone) == want {
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

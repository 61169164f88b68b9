package gate

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
)

// Situation is everything that a device's decisions rest on, at one time. What goes,
// what is cut, what is told of it and what a trial of another plan shows are all
// asked of it, so that they agree.
type Situation struct {
	Device string
	Plan   *plan.Plan
	Now    Conditions
	Pause  PauseState
	Time   time.Time
	Zone   *time.Location
	// Accounts are what the device spent, by network and period, in the periods that
	// the time lies in.
	Accounts map[Account]allowance.Account
	// Places are the destinations of the plan; one that is missing is unknown, and
	// nothing goes there.
	Places map[string]At
	// Stopped is why nothing goes at all, as the device's program does not run; the zero
	// hold when it does.
	Stopped Hold
	// Smallest is the size of the smallest copy of each class that waits, in bytes.
	Smallest map[queue.Class]int64
}

// Account names what is spent over a network in a period.
type Account struct {
	Over    plan.Network
	Per     plan.Period
	Roaming bool // what was spent while roaming alone
}

// At is what is known of a destination's place.
type At struct {
	// Unseen tells that what lies there must be looked at before anything is sent.
	Unseen bool
	// Moved is why what was proven does not count there; the zero hold when it does.
	Moved     Hold
	MovedTodo string
	Failing   Failing
	Left      int64 // room for so many bytes more, beside what is under way; -1 when nobody knows
	Others    int64 // room beside that, which other devices were given
}

// Failing is why a destination fails for every copy; the zero value is that it does
// not.
type Failing struct {
	Says, Todo   string
	You          bool
	Since, Until time.Time // when it began, and when it is tried again
}

// Is tells whether the destination fails.
func (f Failing) Is() bool { return f.Says != "" }

func (f Failing) hold(destination string) Hold {
	return Hold{Gate: Trouble, Says: destination + ": " + f.Says, Since: f.Since, Opens: f.Until, You: f.You}
}

// Networked tells whether a destination lies across a network.
func (s Situation) Networked(destination string) bool {
	return s.Plan.Destinations[destination].Networked()
}

// Costs tells whether what is sent to a destination, or read there, may cost.
func (s Situation) Costs(destination string) bool {
	return s.Networked(destination) && s.Now.Costs()
}

// Away tells whether a destination cannot be reached, as the device has no network.
func (s Situation) Away(destination string) bool {
	return s.Networked(destination) && s.Now.Network == plan.NoNetwork
}

// Asks tells whether the plan asks for a class at all.
func (s Situation) Asks(class queue.Class) bool {
	rule := s.Plan.Rules[class.Rule]
	_, there := s.Plan.Destinations[class.Destination]
	return there && slices.Contains(rule.To, class.Destination) && s.Plan.Wanted(class.Rule, class.Kind, class.Destination, class.Shelf)
}

// Decide tells whether copies of a class may go, by which lane, and how large they
// may be. That a destination fails shuts no lane: it is tried again (see Free).
func (s Situation) Decide(class queue.Class) Verdict {
	shut := func(h Hold) Verdict { return Verdict{Lane: -1, Holds: []Hold{h}} }
	if !s.Asks(class) {
		return shut(Hold{Gate: Kind, Says: queue.NotAsked})
	}
	at, known := s.Places[class.Destination]
	if !known || at.Unseen {
		return shut(Hold{Gate: Place, Says: words.Unseen(class.Destination)})
	}
	if s.Stopped.Gate != "" {
		return shut(s.Stopped)
	}
	if s.Pause.Active(s.Time) {
		v := shut(Hold{Gate: Pause, Says: words.Paused(), Since: s.Pause.Since, Opens: s.Pause.Until})
		v.Until = s.Pause.Until
		return v
	}
	rule := s.Plan.Rules[class.Rule]
	if _, reduced := s.Plan.Form(class.Rule, class.Kind, class.Destination, class.Shelf); reduced && class.Kind == media.Video &&
		s.Now.Charging != Yes {
		return shut(Hold{Gate: Power, Since: s.Now.PowerSince, Says: words.WaitsForCharger()})
	}
	v := Verdict{Lane: -1}
	for _, lane := range rule.Lanes {
		lv, until := s.lane(rule, lane, class)
		if v.Lane < 0 && len(lv.Holds) == 0 {
			v.Lane = len(v.Lanes)
		}
		v.Lanes = append(v.Lanes, lv)
		v.Until = Earlier(v.Until, until)
	}
	if v.Lane < 0 {
		v.Holds = nearest(v.Lanes)
		return v
	}
	v.Fits = math.MaxInt64
	if at.Left >= 0 {
		v.Fits = at.Left
	}
	left := v.Lanes[v.Lane].Left
	if left >= 0 {
		v.Fits = min(v.Fits, allowance.Carries(left)/travels(class))
	}
	smallest, some := s.Smallest[class]
	switch {
	case !some || smallest <= v.Fits:
	case at.Left >= 0 && smallest > at.Left:
		hold := s.full(class.Destination, at, "the smallest of these", smallest)
		for i := range v.Lanes {
			v.Lanes[i].Holds = append(v.Lanes[i].Holds, hold)
		}
		if v.Lane, v.Holds = -1, []Hold{hold}; hold.You {
			v.Todo = words.MakeRoom()
		}
	default:
		hold := v.Lanes[v.Lane].larger(smallest*travels(class), true, s.Time, s.Zone)
		v.Lanes[v.Lane].Holds = []Hold{hold}
		v.Lane, v.Holds = -1, []Hold{hold}
	}
	return v
}

// full is the hold of copies for which a destination has no room: which names them.
func (s Situation) full(destination string, at At, which string, bytes int64) Hold {
	left := at.Left
	if bytes <= left+at.Others {
		return Hold{Gate: Space, Says: words.RoomOfOthers(destination, left, at.Others, which, bytes)}
	}
	keep := int64(s.Plan.Destinations[destination].KeepFree)
	return Hold{Gate: Space, Says: words.NoRoom(destination, left, keep, which, bytes), You: true}
}

// Waits tells why a class's waiting copies wait, and what the keeper can do: its shut
// gates, or that its destination fails. Nothing when they go as senders are free.
func (s Situation) Waits(class queue.Class, v Verdict) (holds []Hold, todo string) {
	if !v.Open() {
		return v.Holds, v.Todo
	}
	if f := s.Places[class.Destination].Failing; f.Is() {
		return []Hold{f.hold(class.Destination)}, f.Todo
	}
	return nil, ""
}

// TooLarge tells why one copy waits although others of its class go: there is no room for it,
// or the rest of the open lane's allowance cannot carry it.
func (s Situation) TooLarge(class queue.Class, v Verdict, bytes int64) []Hold {
	if !v.Open() {
		return nil
	}
	if at := s.Places[class.Destination]; at.Left >= 0 && bytes > at.Left {
		return []Hold{s.full(class.Destination, at, "this one", bytes)}
	}
	bytes *= travels(class)
	if lane := v.Lanes[v.Lane]; lane.Left >= 0 && allowance.Cost(bytes) > lane.Left {
		return []Hold{lane.larger(bytes, false, s.Time, s.Zone)}
	}
	return nil
}

// Unready tells why a copy waits although its gates are open: it does not go as shot, and is
// made smaller first.
func (s Situation) Unready(class queue.Class, form string) []Hold {
	r, reduced := s.Plan.Form(class.Rule, class.Kind, class.Destination, class.Shelf)
	if !reduced || r.String() == form {
		return nil
	}
	return []Hold{{Gate: Ready, Says: words.MadeSmallerFirst()}}
}

// MakesBursts tells whether moving pictures are made of shots in a row: on charge only, where a rule
// asks for them.
func (s Situation) MakesBursts() bool {
	return s.Now.Charging == Yes && slices.ContainsFunc(slices.Collect(maps.Values(s.Plan.Rules)),
		func(r plan.Rule) bool { return r.Bursts })
}

// After tells why a copy waits for another of its item, that goes first.
func After(which string) []Hold { return []Hold{{Gate: Ready, Says: words.GoesAfter(which)}} }

// travels is how often the bytes of a copy go over a network that costs: a small copy is
// read back at once.
func travels(class queue.Class) int64 {
	if class.Shelf == plan.Small {
		return 2
	}
	return 1
}

// OwesProof tells why proofs that are owed at a destination are not taken; ok is
// false when they are.
func (s Situation) OwesProof(destination string) (h Hold, ok bool) {
	f := s.Places[destination].Failing
	switch {
	case s.Costs(destination) || s.Away(destination):
		return Hold{Gate: Proof, Says: words.ProofWaits(), Since: s.Now.NetworkSince}, true
	case f.Is():
		return f.hold(destination), true
	case s.Pause.Active(s.Time):
		return Hold{Gate: Pause, Says: words.Paused(), Since: s.Pause.Since, Opens: s.Pause.Until}, true
	}
	return Hold{}, false
}

// TakesProofs tells whether proofs that are owed at a destination are taken now, as
// soon as a sender is free.
func (s Situation) TakesProofs(destination string) bool {
	return !s.Costs(destination) && !s.Away(destination) && !s.Pause.Active(s.Time)
}

// Quiet tells whether nothing may be done at a destination beside the sends: proofs
// taken again, what is left there removed, records written, its place looked at.
func (s Situation) Quiet(destination string) bool {
	at, known := s.Places[destination]
	return !known || s.Costs(destination) || s.Away(destination) || s.Pause.Active(s.Time) || at.Failing.Is() &&
		s.Time.Before(at.Failing.Until)
}

// Shown is the state in which a copy counts: what was proven at another place than
// its destination's name stands for counts as owing its proof.
func (s Situation) Shown(state queue.State, destination string) queue.State {
	if state == queue.Safe && s.Places[destination].Moved.Gate != "" {
		return queue.Proving
	}
	return state
}

// SmallCopy is the size in bytes up to which a copy takes a share of a sender only. What such
// a copy waits for is mostly the storage's answer, and hardly the line.
const SmallCopy = 256 << 10

// shares is into how many shares a sender is parted.
const shares = 8

// Shares is how many shares of a sender a copy of so many bytes takes at a destination. Where
// the plan has a single sender, copies go one by one.
func (s Situation) Shares(destination string, bytes int64) int {
	if bytes > SmallCopy || s.Plan.Destinations[destination].SendersOrDefault() == 1 {
		return shares
	}
	return 1
}

// Free is how many shares of its senders a destination has left while so many are taken. One
// that fails gets a single try when its wait is over.
func (s Situation) Free(destination string, taken int) int {
	if f := s.Places[destination].Failing; f.Is() {
		if taken > 0 || s.Time.Before(f.Until) {
			return 0
		}
		return shares
	}
	return s.Plan.Destinations[destination].SendersOrDefault()*shares - taken
}

// GoesNow tells whether a copy that the keeper sent now may go: whatever its gates
// say, but over a network that costs only by leave.
func (s Situation) GoesNow(destination string, mayCost bool, owesProof bool) bool {
	return !s.Away(destination) && (!s.Costs(destination) || mayCost && !owesProof)
}

// Under is a send that is under way.
type Under struct {
	queue.Class
	Lane    int  // by which it goes
	Ordered bool // by the keeper
	Metered bool // its bytes are counted as costing
	Proving bool // everything was sent, its proof is taken
}

// Stays tells whether a send that is under way may go on. A spent allowance and a
// full storage stop nothing: what is under way has its bytes reserved.
func (s Situation) Stays(u Under, v Verdict) bool {
	switch {
	case s.Costs(u.Destination) && !u.Metered:
		return false
	case u.Ordered:
		return !s.Away(u.Destination)
	case u.Proving:
		return true
	case u.Lane >= len(v.Lanes):
		return false
	}
	return !slices.ContainsFunc(v.Lanes[u.Lane].Holds, func(h Hold) bool { return h.Gate != Allowance && h.Gate != Space })
}

// Candidate is the first copy of a class that may go.
type Candidate struct {
	queue.Class
	Bytes, TakenMS, ID int64
}

// Before tells which of two classes' first copies goes: a photo while videos have
// their share of the senders, else by the order that their rules have in common, else
// the newer one.
func (s Situation) Before(a, b Candidate, videosHaveTheirShare bool) bool {
	if videosHaveTheirShare && a.Kind != b.Kind {
		return b.Kind == media.Video
	}
	order := s.Plan.Rules[a.Rule].Order
	if order != s.Plan.Rules[b.Rule].Order {
		order = plan.NewestFirst
	}
	newest := cmp.Or(cmp.Compare(b.TakenMS, a.TakenMS), cmp.Compare(b.ID, a.ID))
	switch {
	case order == plan.SmallestFirst && a.Bytes != b.Bytes:
		return a.Bytes < b.Bytes
	case order == plan.OldestFirst:
		return newest > 0
	}
	return newest < 0
}

// VideosShare tells whether videos under way that take so many shares are their part of a
// destination's senders: half of them, so that a long one never keeps photos waiting.
func (s Situation) VideosShare(destination string, taken int) bool {
	return taken >= max(1, s.Plan.Destinations[destination].SendersOrDefault()/2)*shares
}

// Package tell tells of one device, in items: how it stands, its pages and stories, what
// a plan would do and what an order would cost. It tells from the device's records and
// from what the device knows beside them, so that one elsewhere, of which the service has
// a mirror of the records, is told of in the same way as one in this process. It changes
// nothing.
package tell

import (
	"context"
	"slices"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/room"
	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

// Teller tells of a device.
type Teller struct {
	Of     string           // the device's name
	From   *records.Records // its own, or their mirror
	Beside func() Known
}

// Known is what a device knows beside its records, at one moment.
type Known struct {
	// Plan is the one it follows, as it follows it (plan.On); Room tells how many bytes
	// may still go to a destination that keeps so many free, nil where only Places know.
	Plan *plan.Plan                                 `json:"-"`
	Room func(destination string, keep int64) int64 `json:"-"`

	// Stopped is why nothing goes, as the program does not run there.
	Stopped gate.Hold `json:"-"`

	Conditions gate.Conditions    `json:"conditions"`
	Modem      gate.Known         `json:"modem"`
	Pause      gate.PauseState    `json:"pause"`
	Problem    string             `json:"problem,omitempty"` // why the device itself cannot work
	Sources    map[string]Source  `json:"sources"`           // by folder
	Sends      []Send             `json:"sends"`             // what is on its way, in order
	Places     map[string]gate.At `json:"places"`            // by destination
	Awake      wire.Awake         `json:"awake"`
	Stands     map[string]Stand   `json:"stands"` // by destination
	// copies that lie at a destination beside the same content of another device's
	Doubles map[string]int64 `json:"doubles,omitempty"`
	Strays  *wire.StraySum   `json:"strays,omitempty"` // nil before they were looked for
	Cards   []cardwire.Card  `json:"cards,omitempty"`  // that are here, or that the plan names
	Disks   []room.Disk      `json:"disks,omitempty"`  // on which sources lie
}

// Sound takes out what nobody here knows the meaning of: what a device told comes from
// outside, maybe from a program of another version.
func (k *Known) Sound() {
	k.Conditions, k.Modem = k.Conditions.Sound(), k.Modem.Sound()
	k.Sends = slices.DeleteFunc(k.Sends, func(s Send) bool {
		return !slices.Contains(media.Kinds, s.Kind) || s.State != queue.Preparing && s.State != queue.Sending &&
			s.State != queue.Proving
	})
	if !slices.Contains([]string{"", "sleep", "off"}, k.Awake.Then) {
		k.Awake.Then = ""
	}
}

// Stand is which place a destination's name stands for, and when it was seen there last.
type Stand struct {
	ID   string    `json:"id"`
	Seen time.Time `json:"seen,omitzero"`
}

// Source is what is known of a source's last scan.
type Source struct {
	Path     string         `json:"path"` // where it lies on the device
	Scanned  time.Time      `json:"scanned,omitzero"`
	Problems []wire.Problem `json:"problems,omitempty"`
	Away     bool           `json:"away,omitempty"` // its volume is
	// Stays tells that nothing is removed from it: it is a card, a closed library or an inbox.
	Stays bool `json:"stays,omitempty"`
}

// Send is a copy on its way.
type Send struct {
	wire.Send
	Copy int64  `json:"copy"`
	Rule string `json:"rule"`
}

// Class is what a send's copy is decided by.
func (s Send) Class() queue.Class {
	return queue.Class{Rule: s.Rule, Kind: s.Kind, Destination: s.Destination, Shelf: s.Shelf}
}

// Outlook is what is known without the records: what was spent and what waits is not in
// it, so no lane with an allowance is open by it.
func (k Known) Outlook(device string, now time.Time) gate.Situation {
	return gate.Situation{Device: device, Plan: k.Plan, Now: k.Conditions.Taken(k.Plan.Devices[device].UnknownNetwork),
		Pause: k.Pause, Stopped: k.Stopped, Time: now, Zone: k.Plan.Zone(device), Places: k.Places}
}

// Gather fills in what the records know, and tells how many copies of each class there
// are in each state.
func Gather(ctx context.Context, r *records.Records, s *gate.Situation) ([]records.Counter, error) {
	counters, err := r.Queue.Counters(ctx)
	if err != nil {
		return nil, err
	}
	s.Smallest = map[queue.Class]int64{}
	for _, c := range counters {
		if c.State != queue.Waiting || !s.Asks(c.Class) {
			continue
		}
		smallest, some, err := r.Queue.Smallest(ctx, c.Class)
		if err != nil {
			return nil, err
		}
		if some {
			s.Smallest[c.Class] = smallest
		}
	}
	s.Accounts = map[gate.Account]allowance.Account{}
	for _, rule := range s.Plan.Rules {
		for _, lane := range rule.Lanes {
			for roaming, limit := range map[bool]plan.Allowance{false: rule.AllowanceOver(lane.Over),
				true: lane.RoamingAllowance} {
				account := gate.Account{Over: lane.Over, Per: limit.Per, Roaming: roaming}
				if _, known := s.Accounts[account]; known || limit.Bytes == 0 {
					continue
				}
				start, _ := allowance.Period(limit.Per, s.Time, s.Zone)
				if s.Accounts[account], err = r.Ledger.Account(ctx, lane.Over, start, roaming); err != nil {
					return nil, err
				}
			}
		}
	}
	return counters, nil
}

// Situation is all that decisions rest on.
func (t Teller) Situation(ctx context.Context) (gate.Situation, error) {
	v, err := t.view(ctx)
	return v.Situation, err
}

// view is a situation of which much is told: each class is decided once.
type view struct {
	gate.Situation
	known    Known
	verdicts map[queue.Class]gate.Verdict
	counters []records.Counter
}

func (t Teller) view(ctx context.Context) (view, error) {
	known := t.Beside()
	s := known.Outlook(t.Of, time.Now())
	counters, err := Gather(ctx, t.From, &s)
	return view{s, known, map[queue.Class]gate.Verdict{}, counters}, err
}

func (v view) decide(class queue.Class) gate.Verdict {
	verdict, decided := v.verdicts[class]
	if !decided {
		verdict = v.Decide(class)
		v.verdicts[class] = verdict
	}
	return verdict
}

func (v view) waits(class queue.Class) ([]gate.Hold, string) { return v.Waits(class, v.decide(class)) }

package device

import (
	"context"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/records"
)

// This file gathers what decisions rest on: core/gate decides.

// outside is what is known now of the device alone: no place is in it, so nothing goes
// anywhere by it.
func (d *Device) outside() gate.Situation {
	d.mu.Lock()
	defer d.mu.Unlock()
	return gate.Situation{Device: d.Name, Plan: d.plan, Now: d.now, Pause: d.pause, Time: time.Now(), Zone: d.zone}
}

// outlook is what is known now without the records: what was spent and what waits is
// not in it, so no lane with an allowance is open by it.
func (d *Device) outlook() gate.Situation {
	s := d.outside()
	d.seePlaces(&s)
	return s
}

// seePlaces fills in what is known of the places that a situation's plan names.
func (d *Device) seePlaces(s *gate.Situation) {
	s.Places = map[string]gate.At{}
	for name, dest := range s.Plan.Destinations {
		at := d.places.At(name)
		at.Left = d.Fleet.Left(name, int64(dest.KeepFree))
		s.Places[name] = at
	}
}

// situation is all that decisions rest on, and how many copies of each class there are
// in each state.
func (d *Device) situation(ctx context.Context) (gate.Situation, []records.Counter, error) {
	s := d.outlook()
	counters, err := d.gather(ctx, &s)
	return s, counters, err
}

// gather fills in what the records know.
func (d *Device) gather(ctx context.Context, s *gate.Situation) ([]records.Counter, error) {
	counters, err := d.Records.Counters(ctx)
	if err != nil {
		return nil, err
	}
	s.Smallest = map[queue.Class]int64{}
	for _, c := range counters {
		if c.State != queue.Waiting || !s.Asks(c.Class) {
			continue
		}
		smallest, some, err := d.Records.Smallest(ctx, c.Class)
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
			limit := rule.AllowanceOver(lane.Over)
			account := gate.Account{Over: lane.Over, Per: limit.Per}
			if _, known := s.Accounts[account]; known || limit.Bytes == 0 {
				continue
			}
			start, _ := allowance.Period(limit.Per, s.Time, s.Zone)
			if s.Accounts[account], err = d.Records.Account(ctx, lane.Over, start); err != nil {
				return nil, err
			}
		}
	}
	return counters, nil
}

// view is a situation of which much is told: each class is decided once.
type view struct {
	gate.Situation
	verdicts map[queue.Class]gate.Verdict
}

func (d *Device) view(ctx context.Context) (view, error) {
	s, _, err := d.situation(ctx)
	return view{s, map[queue.Class]gate.Verdict{}}, err
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

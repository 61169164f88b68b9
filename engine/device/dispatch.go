package device

import (
	"context"
	"errors"
	"math"
	"reflect"
	"slices"
	"sync"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// decideEvery is how often everything is decided anew while sends end one after
// the other; in between, free senders take what was open at the last decision.
const decideEvery = 100 * time.Millisecond

// decision is what a round found.
type decision struct {
	next         time.Time             // when time alone may change something
	destinations map[string]bool       // of everything that is not at rest
	owed         map[queue.Class]int64 // how many proofs of each class are owed, those under way among them
	turns        int                   // of the device when it was decided: what is decided holds for no other
	ordered      bool                  // there may be orders of the keeper's
}

// dispatch decides and sends until the context ends.
func (d *Device) dispatch(ctx context.Context) error {
	// Sends outlive the context by the grace time.
	sendCtx, cut := context.WithCancelCause(context.WithoutCancel(ctx))
	defer func() {
		end := time.AfterFunc(d.Grace, func() { cut(errStopping) })
		if !waitFor(&d.sends, d.Grace+leftBehind) {
			d.Log.Error("a send does not end; it is left behind", "device", d.Name)
		}
		end.Stop()
		cut(nil)
	}()
	for ctx.Err() == nil {
		last, err := d.round(ctx, sendCtx)
		if err == nil {
			err = d.keepSending(ctx, sendCtx, last)
		}
		if err != nil && !d.rest(ctx, "deciding failed", err) {
			return nil
		}
	}
	return nil
}

// leftBehind is how long after the grace time a stop waits for what does not end.
const leftBehind = 1500 * time.Millisecond

// waitFor waits for a group, at most so long; false when it has not ended.
func waitFor(group *sync.WaitGroup, most time.Duration) bool {
	ended := make(chan struct{})
	go func() { group.Wait(); close(ended) }()
	select {
	case <-ended:
		return true
	case <-time.After(most):
		return false
	}
}

// keepSending fills free senders by the last decision, until something changed
// or time may have changed something.
func (d *Device) keepSending(ctx, sendCtx context.Context, last decision) error {
	wait := time.Hour
	if !last.next.IsZero() {
		wait = min(wait, max(time.Until(last.next), 10*time.Millisecond))
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	var soon <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-d.wake:
			return nil
		case <-soon:
			return nil
		case <-timer.C:
			d.Changed()
			return nil
		case <-d.freed:
			if soon == nil {
				soon = time.After(decideEvery)
			}
			if err := d.fillAll(ctx, sendCtx, last); err != nil {
				return err
			}
		}
	}
}

// round decides for every class and starts what may go.
func (d *Device) round(ctx, sendCtx context.Context) (decision, error) {
	now := time.Now()
	last := decision{destinations: map[string]bool{}, owed: map[queue.Class]int64{}}
	at, err := d.mendRecords(ctx, now)
	if err != nil || !at.IsZero() {
		last.next = at
		return last, err
	}
	if err := d.Records.EndOddWaits(ctx, now); err != nil {
		return last, err
	}
	last.next = gate.Earlier(last.next, d.lookAround(sendCtx, now))
	d.rebuild(sendCtx, now)
	counters, err := d.Records.Counters(ctx)
	if err != nil {
		return last, err
	}
	classes := map[queue.Class]bool{}
	for _, c := range counters {
		if c.State == queue.Waiting || c.State == queue.Proving || c.State == queue.Sending || c.State == queue.Preparing {
			classes[c.Class] = true
		}
		if c.State == queue.Proving {
			last.owed[c.Class] = c.N
		}
	}
	d.mu.Lock()
	for _, s := range d.active {
		classes[s.copy.Class] = true
	}
	ready := d.ready && d.applied == d.plan
	last.turns = d.turns
	d.mu.Unlock()
	if !ready {
		return last, nil
	}
	verdicts := map[queue.Class]gate.Verdict{}
	for class := range classes {
		v, err := d.decide(ctx, class, now)
		if err != nil {
			return last, err
		}
		verdicts[class] = v
		last.destinations[class.Destination] = true
		last.next = gate.Earlier(last.next, v.Until)
	}
	d.mu.Lock()
	news := !reflect.DeepEqual(d.verdicts, verdicts)
	d.verdicts = verdicts
	d.stopShut()
	for _, t := range d.troubles {
		if t.until.After(now) { // a wait that is over makes no hurry: there may be nothing to try
			last.next = gate.Earlier(last.next, t.until)
		}
	}
	d.mu.Unlock()
	if news { // who asked for the status a moment ago was told what held before
		d.Changed()
	}
	if at, err = d.sweep(ctx, sendCtx, now); err != nil {
		return last, err
	}
	last.next = gate.Earlier(gate.Earlier(last.next, at), d.setPace(now))
	if err := d.reprove(ctx, sendCtx, now); err != nil {
		return last, err
	}
	if at, err = d.record(ctx, sendCtx, last.destinations, now); err != nil {
		return last, err
	}
	last.next = gate.Earlier(last.next, at)
	if last.ordered, err = d.Records.Ordered(ctx); err != nil {
		return last, err
	}
	if err := d.fillAll(ctx, sendCtx, last); err != nil {
		return last, err
	}
	if at, err = d.Records.NextRetry(ctx, now); err != nil {
		return last, err
	}
	last.next = gate.Earlier(last.next, at)
	return last, nil
}

func (d *Device) fillAll(ctx, sendCtx context.Context, last decision) error {
	for name := range last.destinations {
		if err := d.fill(ctx, sendCtx, name, last); err != nil {
			return err
		}
	}
	return nil
}

// decide asks core/gate for one class, and looks whether an allowance's rest
// can carry anything of it.
func (d *Device) decide(ctx context.Context, class queue.Class, now time.Time) (gate.Verdict, error) {
	d.mu.Lock()
	p, conditions, pause := d.plan, d.now, d.pause
	d.mu.Unlock()
	rule, known := p.Rules[class.Rule]
	dest, there := p.Destinations[class.Destination]
	if !known || !there || !slices.Contains(rule.To, class.Destination) || !slices.Contains(rule.Take, class.Kind) {
		return gate.Verdict{Lane: -1, Holds: []gate.Hold{{Gate: gate.Kind, Says: records.NotAsked}}}, nil
	}
	d.mu.Lock()
	look, owed := d.owesLook(class.Destination)
	d.mu.Unlock()
	if owed {
		return gate.Verdict{Lane: -1, Holds: []gate.Hold{look}}, nil
	}
	zone := p.Zone(d.Name)
	var accountErr error
	v := gate.Decide(gate.Question{
		Rule: rule, Kind: class.Kind, Networked: dest.Networked(), Now: conditions, Pause: pause, Time: now, Zone: zone,
		Account: func(over plan.Network) allowance.Account {
			start, _ := allowance.Period(rule.AllowanceOver(over).Per, now, zone)
			a, err := d.Records.Account(ctx, over, start)
			accountErr = errors.Join(accountErr, err)
			return a
		},
	})
	if accountErr != nil {
		return v, accountErr
	}
	if !v.Open() {
		return v, nil
	}
	smallest, some, err := d.Records.Smallest(ctx, class)
	if err != nil || !some {
		return v, err
	}
	if hold, shut := d.spaceHold(class, smallest); shut {
		for i := range v.Lanes {
			v.Lanes[i].Holds = append(v.Lanes[i].Holds, hold)
		}
		v.Lane, v.Holds = -1, []gate.Hold{hold}
		return v, nil
	}
	if v.Lanes[v.Lane].Left < 0 || allowance.Cost(smallest) <= v.Lanes[v.Lane].Left {
		return v, nil
	}
	lane, left := rule.Lanes[v.Lane], v.Lanes[v.Lane].Left
	lane.Allowance = rule.AllowanceOver(lane.Over)
	hold := gate.NoneFits(lane, left, smallest, now, zone)
	v.Lanes[v.Lane].Holds = []gate.Hold{hold}
	v.Lane, v.Holds = -1, []gate.Hold{hold}
	return v, nil
}

// stopShut cancels sends whose lane has shut, or has begun to cost. A spent
// allowance stops nothing: what is under way has its bytes reserved.
func (d *Device) stopShut() {
	for _, s := range d.active {
		networked := d.plan.Destinations[s.copy.Destination].Networked()
		costs := networked && d.now.Costs()
		switch {
		case s.ordered:
			if networked && d.now.Network == plan.NoNetwork || costs && !s.metered {
				s.cancel(errShut)
			}
			continue
		case costs && !s.metered:
			s.cancel(errShut)
			continue
		case s.proving:
			continue
		}
		v := d.verdicts[s.copy.Class]
		if s.lane >= len(v.Lanes) {
			s.cancel(errShut)
			continue
		}
		for _, h := range v.Lanes[s.lane].Holds {
			if h.Gate != gate.Allowance && h.Gate != gate.Space { // what is under way has its bytes reserved
				s.cancel(errShut)
				break
			}
		}
	}
}

// mostRecording is how many copies of a destination may be done there and wait for
// their last step, while others are sent in their places.
const mostRecording = 28

// fill starts sends to a destination while a sender is free: orders first,
// then proofs that are owed, then the newest copy of any open class. A
// destination in trouble gets one try when its wait is over.
func (d *Device) fill(ctx, sendCtx context.Context, name string, last decision) error {
	for ctx.Err() == nil {
		d.mu.Lock()
		free, now := d.plan.Destinations[name].SendersOrDefault(), time.Now()
		if t := d.troubles[name]; t != nil {
			free = 1
			if now.Before(t.until) {
				free = 0
			}
		}
		var busy []int64
		recording := 0
		for id, s := range d.active {
			busy = append(busy, id)
			switch {
			case s.copy.Destination != name:
			case s.recording:
				recording++
			default:
				free--
			}
		}
		d.mu.Unlock()
		if free <= 0 || recording >= mostRecording {
			return nil
		}
		s, ok, err := d.choose(ctx, name, busy, last, now)
		if err != nil || !ok {
			return err
		}
		started, err := d.start(ctx, sendCtx, s, last)
		if err != nil {
			return err
		}
		if !started {
			nudge(d.wake) // the allowance went to another: decide again
			return nil
		}
	}
	return nil
}

// choose picks what goes next to a destination.
func (d *Device) choose(ctx context.Context, name string, busy []int64, last decision, now time.Time) (*carriage, bool, error) {
	d.mu.Lock()
	networked, conditions, p, pause := d.plan.Destinations[name].Networked(), d.now, d.plan, d.pause
	verdicts, turned := d.verdicts, d.turns != last.turns
	d.mu.Unlock()
	if turned {
		return nil, false, nil // who turned it wakes
	}
	costs := networked && conditions.Costs()

	var orders []records.Copy
	if last.ordered {
		var err error
		if orders, err = d.Records.Orders(ctx, busy, now); err != nil {
			return nil, false, err
		}
	}
	for _, c := range orders {
		if c.Destination != name || networked && conditions.Network == plan.NoNetwork {
			continue
		}
		if c.State == queue.Proving && !costs || c.State == queue.Waiting && (!costs || c.Ordered == records.OrderMetered) {
			return &carriage{copy: c, ordered: true, metered: costs, proving: c.State == queue.Proving,
				spend: records.Spend{Network: conditions.Network, Roaming: conditions.Roaming, Rule: c.Rule}, since: d.periodOf(p, c.Rule, conditions.Network, now)}, true, nil
		}
	}

	videos := d.videosUnderWay(name)
	var best *carriage
	for class, v := range verdicts {
		if class.Destination != name {
			continue
		}
		if last.owed[class] > 0 && !costs && !pause.Active(now) && (!networked || conditions.Network != plan.NoNetwork) {
			c, ok, err := d.Records.Pick(ctx, class, queue.Proving, plan.NewestFirst, math.MaxInt64, busy, now)
			if err != nil {
				return nil, false, err
			}
			if ok {
				return &carriage{copy: c, proving: true}, true, nil
			}
		}
		if !v.Open() {
			continue
		}
		rule := p.Rules[class.Rule]
		lane := rule.Lanes[v.Lane]
		fits := int64(math.MaxInt64)
		if left := v.Lanes[v.Lane].Left; left >= 0 {
			fits = (left - allowance.Overhead) * 50 / 51
		}
		c, ok, err := d.Records.Pick(ctx, class, queue.Waiting, rule.Order, d.fitting(name, fits), busy, now)
		if err != nil {
			return nil, false, err
		}
		if ok && (best == nil || before(c, best.copy, p.Rules, videos)) {
			best = &carriage{copy: c, lane: v.Lane, metered: costs,
				spend: records.Spend{Network: lane.Over, Roaming: conditions.Roaming, Rule: class.Rule}, limit: rule.AllowanceOver(lane.Over), since: d.periodOf(p, class.Rule, lane.Over, now)}
		}
	}
	return best, best != nil, nil
}

// videosUnderWay tells whether videos have their share of the senders of a
// destination: half of them, so that a long one never keeps photos waiting.
func (d *Device) videosUnderWay(name string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	n, senders := 0, d.plan.Destinations[name].SendersOrDefault()
	for _, s := range d.active {
		if s.copy.Destination == name && s.copy.Kind == media.Video {
			n++
		}
	}
	return n >= max(1, senders/2)
}

// before tells which of two classes' first copies goes: a photo while videos
// have their share, else by the order that their rules have in common, else the
// newer one.
func before(a, b records.Copy, rules map[string]plan.Rule, videos bool) bool {
	if videos && a.Kind != b.Kind {
		return b.Kind == media.Video
	}
	order := rules[a.Rule].Order
	if order != rules[b.Rule].Order {
		order = plan.NewestFirst
	}
	switch {
	case order == plan.SmallestFirst && a.Bytes != b.Bytes:
		return a.Bytes < b.Bytes
	case order == plan.OldestFirst:
		return records.Newest(a, b) > 0
	}
	return records.Newest(a, b) < 0
}

// periodOf is the first instant of the allowance's period that now lies in; a
// lane without an allowance counts by the month.
func (d *Device) periodOf(p *plan.Plan, rule string, over plan.Network, now time.Time) time.Time {
	per := p.Rules[rule].AllowanceOver(over).Per
	if per == "" {
		per = plan.Month
	}
	start, _ := allowance.Period(per, now, p.Zone(d.Name))
	return start
}

// start reserves what a send may cost and lets it go. started is false when there is
// no longer room for it, in the allowance or at the destination, or what was decided
// no longer holds.
func (d *Device) start(ctx, sendCtx context.Context, s *carriage, last decision) (started bool, err error) {
	takesRoom := !s.proving
	if takesRoom && !d.Fleet.take(s.copy.Destination, s.copy.Bytes, d.keepFree(s.copy.Destination)) {
		return false, nil
	}
	sendCtx, cancel := context.WithCancelCause(sendCtx)
	s.cancel, s.done, s.started = cancel, make(chan struct{}), time.Now()
	ends := func() {
		cancel(nil)
		if takesRoom {
			d.Fleet.give(s.copy.Destination, s.copy.Bytes, s.landed)
		}
		d.mu.Lock()
		delete(d.active, s.copy.ID)
		d.mu.Unlock()
		close(s.done)
	}
	d.mu.Lock()
	turned := d.turns != last.turns
	s.where = d.plan.Destinations[s.copy.Destination].Where()
	d.active[s.copy.ID] = s // from now on a new plan cuts it
	d.mu.Unlock()
	if s.metered && !s.proving && !turned {
		bytes := s.copy.Bytes
		if s.copy.Temp != "" && bytes >= resumeFrom {
			bytes += destination.Compared // what is read back, to go on from it
		}
		s.reserved, err = d.Records.Reserve(ctx, s.copy.ID, s.spend, s.limit, s.since, allowance.Cost(bytes), time.Now())
		turned = turned || !s.reserved
	}
	if turned || err != nil {
		ends()
		return false, err
	}
	d.sends.Go(func() {
		ok := d.carry(sendCtx, s)
		ends()
		if ok {
			nudge(d.freed)
			d.Changed()
		} else {
			d.changed()
		}
	})
	return true, nil
}

package device

import (
	"context"
	"math"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/carry"
	"yardtide/engine/records"
	"yardtide/engine/work"
)

// decideEvery is how often everything is decided anew while sends end one after
// the other; in between, free senders take what was open at the last decision.
const decideEvery = 100 * time.Millisecond

// decision is what a round found. What it decided holds for its turn of the device
// only.
type decision struct {
	gate.Situation
	verdicts map[queue.Class]gate.Verdict // of everything that is not at rest
	owed     map[queue.Class]int64        // how many proofs of each class are owed, those under way among them
	next     time.Time                    // when time alone may change something
	turns    int                          // of the device when it was decided
	ordered  bool                         // there may be orders of the keeper's
	ahead    *ahead                       // what goes next of each class

	goingBytes int64 // of what goes or is about to
	proofs     bool  // some are about to be taken
}

// dispatch decides and sends until the context ends.
func (d *Device) dispatch(ctx context.Context) error {
	// Sends outlive the context by the grace time.
	sendCtx, cut := context.WithCancelCause(context.WithoutCancel(ctx))
	defer d.waking.end()
	defer func() {
		end := time.AfterFunc(d.Grace, func() { cut(carry.ErrStopping) })
		limit := time.Now().Add(d.Grace + leftBehind)
		for _, crew := range []*work.Crew{&d.sending, &d.beside, d.smaller.pictures, d.smaller.clips} {
			if !crew.End(time.Until(limit)) {
				d.Log.Error("a send, or work beside the sends, does not end; it is left behind", "device", d.Name)
			}
		}
		end.Stop()
		cut(nil)
	}()
	for ctx.Err() == nil {
		last, err := d.round(ctx, sendCtx)
		if err == nil {
			err = d.keepSending(ctx, sendCtx, last)
		}
		if err != nil && !d.mending.rest(ctx, "deciding failed", err) {
			return nil
		}
	}
	return nil
}

// leftBehind is how long after the grace time a stop waits for what does not end.
const leftBehind = 1500 * time.Millisecond

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
	if at, err := d.mending.mend(ctx, now); err != nil || !at.IsZero() {
		return decision{next: at}, err
	}
	if err := d.Records.Queue.EndOddWaits(ctx, now); err != nil {
		return decision{}, err
	}
	d.mu.Lock()
	last := decision{turns: d.turns}
	ready, p := d.ready, d.plan
	d.mu.Unlock()
	if !ready || !d.sources.inLine(p) {
		return last, nil
	}
	if err := d.decide(ctx, &last, now); err != nil {
		return last, err
	}
	d.stopShut(last)
	at, err := d.upkeep.Start(ctx, sendCtx, last.Situation, last.destinations())
	if err != nil {
		return last, err
	}
	last.next = gate.Earlier(gate.Earlier(last.next, at), d.setPace(now))
	if last.ordered, err = d.Records.Queue.Ordered(ctx); err != nil {
		return last, err
	}
	last.next = gate.Earlier(last.next, d.moving.Make(sendCtx, last.Situation))
	last.next = gate.Earlier(last.next, d.strays.look(sendCtx, last.Plan, now))
	last.next = gate.Earlier(last.next, d.rooms.tidy(sendCtx, last.Situation))
	last.next = gate.Earlier(last.next, d.originals.look(sendCtx, last.Plan, now))
	last.next = gate.Earlier(last.next, d.cards.look(sendCtx, last.Plan, now))
	if err := d.marks.read(ctx, sendCtx); err != nil {
		return last, err
	}
	if err := d.smaller.prepare(ctx, sendCtx, last); err != nil {
		return last, err
	}
	if err := d.fillAll(ctx, sendCtx, last); err != nil {
		return last, err
	}
	if at, err = d.Records.Queue.NextRetry(ctx, now); err != nil {
		return last, err
	}
	looking := d.sources.looking(d.currentPlan())
	last.next = gate.Earlier(gate.Earlier(last.next, at), d.waking.keep(ctx, last, d.isSending(), looking))
	return last, nil
}

// decide decides for every class that is not at rest.
func (d *Device) decide(ctx context.Context, last *decision, now time.Time) error {
	s, counters, err := d.situation(ctx)
	if err != nil {
		return err
	}
	last.Situation, last.verdicts, last.owed, last.ahead = s, map[queue.Class]gate.Verdict{}, map[queue.Class]int64{},
		newAhead()
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
		classes[s.Copy().Class] = true
	}
	d.mu.Unlock()
	for class := range classes {
		v := s.Decide(class)
		last.verdicts[class] = v
		last.next = gate.Earlier(last.next, v.Until)
	}
	for _, c := range counters {
		switch {
		case c.State == queue.Waiting || c.State == queue.Preparing || c.State == queue.Sending:
			last.going(s, c.Class, c.Bytes)
		case c.State == queue.Proving && c.N > 0 && s.TakesProofs(c.Destination) && !s.Places[c.Destination].Failing.Is():
			last.proofs = true
		}
	}
	for _, at := range s.Places {
		if at.Failing.Until.After(now) { // a wait that is over makes no hurry: there may be nothing to try
			last.next = gate.Earlier(last.next, at.Failing.Until)
		}
	}
	return nil
}

// destinations are those of everything that is not at rest.
func (last decision) destinations() map[string]bool {
	names := map[string]bool{}
	for class := range last.verdicts {
		names[class.Destination] = true
	}
	return names
}

func (d *Device) fillAll(ctx, sendCtx context.Context, last decision) error {
	for name := range last.destinations() {
		if err := d.fill(ctx, sendCtx, name, last); err != nil {
			return err
		}
	}
	return nil
}

// stopShut cuts sends that may not go on.
func (d *Device) stopShut(last decision) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.active {
		if under := s.Under(); !last.Stays(under, last.verdicts[under.Class]) {
			s.Cut(carry.ErrShut)
		}
	}
}

// mostRecording is how many copies of a destination may be done there and wait for
// their last step, while others are sent in their places.
const mostRecording = 64

// fill starts sends to a destination while a sender is free.
func (d *Device) fill(ctx, sendCtx context.Context, name string, last decision) error {
	for ctx.Err() == nil {
		last.Time = time.Now()
		busy, free := d.busy(name, last)
		if free <= 0 {
			return nil
		}
		next, ok, err := d.choose(ctx, name, busy, last)
		if err != nil || !ok || last.Shares(name, next.Bytes) > free {
			return err
		}
		started, err := d.start(ctx, sendCtx, next, last)
		if err != nil {
			return err
		}
		if !started {
			d.wake.Ring() // the allowance went to another: decide again
			return nil
		}
	}
	return nil
}

// busy are the copies that are on their way, and how many shares of its senders a
// destination has left.
func (d *Device) busy(name string, last decision) (copies []int64, free int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	taken, recording := 0, 0
	for id, s := range d.active {
		copies = append(copies, id)
		switch to, _, bytes, recorded := s.Takes(); {
		case to != name:
		case recorded:
			recording++
		default:
			taken += last.Shares(name, bytes)
		}
	}
	if d.turns != last.turns || recording >= mostRecording {
		return copies, 0 // who turned it wakes
	}
	last.Places[name] = d.places.At(name) // it may have begun to fail
	return copies, last.Free(name, taken)
}

// choice is a copy that goes next, and how.
type choice struct {
	records.Copy
	carry.Way
}

// choose picks what goes next to a destination: orders first, then proofs that are
// owed, then the first copy of any open class; ok is false when there is nothing.
func (d *Device) choose(ctx context.Context, name string, busy []int64,
	last decision) (next choice, ok bool, err error) {
	if last.ordered {
		orders, err := d.Records.Queue.Orders(ctx, name, busy, last.Time)
		if err != nil {
			return next, false, err
		}
		for _, c := range orders {
			owes := c.State == queue.Proving
			if !owes && c.Form != carry.FormOf(last.Plan, c.Class) {
				continue // it is prepared first
			}
			if c.Destination == name && last.GoesNow(name, c.Ordered == records.OrderMetered, owes) {
				return choice{c, last.way(c, carry.Way{Ordered: true, Proving: owes}, last.Now.Network)}, true, nil
			}
		}
	}
	if last.TakesProofs(name) {
		for class, n := range last.owed {
			if class.Destination != name || n == 0 {
				continue
			}
			c, ok, err := last.ahead.first(ctx, d.Records, line{class, queue.Proving, "", plan.NewestFirst}, math.MaxInt64,
				busy, last.Time)
			if err != nil || ok {
				return choice{c, carry.Way{Proving: true}}, ok, err
			}
		}
	}
	return d.chooseWaiting(ctx, name, busy, last)
}

// chooseWaiting picks the first copy of the open classes of a destination.
func (d *Device) chooseWaiting(ctx context.Context, name string, busy []int64,
	last decision) (best choice, some bool, err error) {
	videos := last.VideosShare(name, d.videosUnderWay(name, last))
	left := d.Others.Left(name, last.keepFree(name))
	for class, v := range last.verdicts {
		if class.Destination != name || !v.Open() {
			continue
		}
		fits := v.Fits
		if left >= 0 {
			fits = min(fits, left)
		}
		rule := last.Plan.Rules[class.Rule]
		c, ok, err := last.ahead.first(ctx, d.Records, line{class, queue.Waiting, carry.FormOf(last.Plan, class),
			rule.Order}, fits, busy, last.Time)
		if err != nil {
			return best, false, err
		}
		if ok && (!some || last.Before(c.Candidate(), best.Candidate(), videos)) {
			best, some = choice{c, last.by(c, v.Lane)}, true
		}
	}
	return best, some, nil
}

// way is how a copy goes over a network.
func (last decision) way(c records.Copy, w carry.Way, over plan.Network) carry.Way {
	w.Metered = last.Costs(c.Destination)
	w.Spend = records.Spend{Network: over, Roaming: last.Now.Roaming != gate.No, Rule: c.Rule}
	return w
}

// by is how a copy goes by a lane of its rule.
func (last decision) by(c records.Copy, n int) carry.Way {
	rule := last.Plan.Rules[c.Rule]
	lane := rule.Lanes[n]
	w := last.way(c, carry.Way{Lane: n}, lane.Over)
	limit := func(a plan.Allowance, roaming bool) {
		if a.Bytes > 0 {
			start, _ := allowance.Period(a.Per, last.Time, last.Zone)
			w.Limits = append(w.Limits, records.Limit{Allowance: a, Since: start, Roaming: roaming})
		}
	}
	limit(rule.AllowanceOver(lane.Over), false)
	if last.Now.Roaming != gate.No {
		limit(lane.RoamingAllowance, true)
	}
	return w
}

// keepFree is the room at a destination that is never filled, in bytes.
func (last decision) keepFree(name string) int64 {
	return int64(last.Plan.Destinations[name].KeepFree)
}

// videosUnderWay is how many shares the videos take that are on their way to a destination.
func (d *Device) videosUnderWay(name string, last decision) (taken int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.active {
		if to, kind, bytes, _ := s.Takes(); to == name && kind == media.Video {
			taken += last.Shares(name, bytes)
		}
	}
	return taken
}

// start reserves what a send may cost and lets it go. started is false when there is
// no longer room for it, in the allowance or at the destination, or what was decided
// no longer holds.
func (d *Device) start(ctx, sendCtx context.Context, next choice, last decision) (started bool, err error) {
	last.ahead.begun[next.ID] = true
	name, takesRoom := next.Destination, !next.Proving
	if takesRoom && !d.Others.Take(name, next.Bytes, last.keepFree(name)) {
		return false, nil
	}
	next.Where = last.Plan.Destinations[name].Where()
	sendCtx, cancel := context.WithCancelCause(sendCtx)
	s := carry.NewSend(next.Copy, last.ahead.items[next.Item], next.Way, cancel)
	ends := func() {
		cancel(nil)
		if takesRoom {
			d.Others.Give(name, next.Bytes, s.Landed())
		}
		d.mu.Lock()
		delete(d.active, next.ID)
		d.mu.Unlock()
	}
	d.mu.Lock()
	holds := d.turns == last.turns
	d.active[next.ID] = s // from now on a new plan cuts it
	d.mu.Unlock()
	if holds {
		holds, err = d.carrier.Reserve(ctx, s)
	}
	if !holds || err != nil {
		ends()
		return false, err
	}
	began := d.sending.Begin(s, func() {
		ok := d.carrier.Carry(sendCtx, s)
		ends()
		if ok {
			d.freed.Ring()
			d.Changed()
		} else {
			d.changed()
		}
	})
	if !began { // the device ends
		ends()
	}
	return began, nil
}

package place

import (
	"context"
	"time"

	"yardtide/engine/destination"
)

// NoQuestion tells that there is nothing to answer about a place.
type NoQuestion struct{ Name string }

func (e NoQuestion) Error() string {
	return e.Name + " is the place that it was; there is nothing to answer"
}

// Settle is the keeper's answer about a destination whose name has come to
// stand for another place. Moved: what was at the old one was moved there, and
// counts when it is proven. Else it is new: everything goes there, and what is at
// the old one is listed as being there. It returns how many copies that concerns.
func (ps *Places) Settle(ctx context.Context, name string, moved bool) (n int64, err error) {
	driver, err := ps.Driver(name)
	if err != nil {
		return 0, err
	}
	ps.mu.Lock()
	p := ps.of(name)
	ps.mu.Unlock()
	select {
	case p.looking <- struct{}{}:
		defer func() { <-p.looking }()
	case <-ctx.Done():
		return 0, context.Cause(ctx)
	}
	ps.mu.Lock()
	where, before := ps.plan.Destinations[name].Where(), p.bound
	ps.mu.Unlock()
	id, err := destination.ReadMarker(ctx, driver)
	if err != nil {
		return 0, err
	}
	older, err := ps.older(ctx, p, driver)
	if err != nil {
		return 0, err
	}
	if id == before.ID && !older || before.ID == "" {
		return 0, NoQuestion{name}
	}
	if id == "" {
		id = destination.NewIdentity()
		if moved {
			id = before.ID
		}
		if id, err = ps.mark(ctx, name, driver, id); err != nil {
			return 0, err
		}
	}
	now, err := stamped(ctx, driver, id, where)
	if err != nil {
		return 0, err
	}
	counted, err := ps.countOn(ctx, name, p, driver)
	if err != nil {
		return 0, err
	}
	if n, err = ps.answered(ctx, name, before, now, older && id == before.ID, moved); err != nil {
		return 0, err
	}
	if err := counted(); err != nil {
		return 0, err
	}
	if err := ps.bind(ctx, name, p, driver, now); err != nil {
		return 0, err
	}
	ps.Mended(name)
	ps.Log.Info("a place was settled", "device", ps.Device, "destination", name, "moved", moved, "copies", n)
	ps.Changed()
	return n, nil
}

// countOn notes a number beyond every one that was used: whatever was the place before, or a copy
// of it, is older from then on. The number lies at the place when counted was called.
func (ps *Places) countOn(ctx context.Context, name string, p *place, driver destination.Driver) (counted func() error, err error) {
	counter, counts := driver.(destination.Counter)
	if !counts {
		return func() error { return nil }, nil
	}
	ps.mu.Lock()
	at, put := ps.counter(p), p.put
	ps.mu.Unlock()
	there, err := counter.Count(ctx, at)
	if err != nil {
		return nil, err
	}
	put = max(there, put) + 1
	return func() error { return counter.SetCount(ctx, at, put) }, ps.setPut(ctx, name, p, at, put)
}

// answered records what follows from the keeper's answer, with the place that the name stands
// for from now on, and tells how many copies it reaches.
func (ps *Places) answered(ctx context.Context, name string, before, now bound, older, moved bool) (int64, error) {
	switch {
	case older:
		return ps.Records.Owe(ctx, name, "The keeper says that an older copy of its place is the place now: the proof is taken again.", now.fact(name), time.Now())
	case moved:
		return ps.Records.Owe(ctx, name, "The keeper says that its place moved here: the proof is taken again.", now.fact(name), time.Now())
	}
	return ps.Records.Abandon(ctx, name, before.ID, "The keeper says that this is a new place: it is sent there too. What is at the old one stays there.", now.fact(name), time.Now())
}

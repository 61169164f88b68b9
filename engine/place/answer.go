package place

import (
	"context"

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
	v := ps.visit(name, driver)
	select {
	case v.place.looking <- struct{}{}:
		defer func() { <-v.place.looking }()
	case <-ctx.Done():
		return 0, context.Cause(ctx)
	}
	ps.mu.Lock()
	where, before := ps.plan.Destinations[name].Where(), v.place.bound
	ps.mu.Unlock()
	id, err := destination.ReadMarker(ctx, driver)
	if err != nil {
		return 0, err
	}
	older, err := v.older(ctx)
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
		if id, err = v.mark(ctx, id); err != nil {
			return 0, err
		}
	}
	now, err := stamped(ctx, driver, id, where)
	if err != nil {
		return 0, err
	}
	counted, err := v.countOn(ctx)
	if err != nil {
		return 0, err
	}
	if n, err = v.answered(ctx, before, now, older && id == before.ID, moved); err != nil {
		return 0, err
	}
	if err := counted(); err != nil {
		return 0, err
	}
	if err := v.bind(ctx, now); err != nil {
		return 0, err
	}
	ps.Mended(name)
	ps.Log.Info("a place was settled", "device", ps.Device, "destination", name, "moved", moved, "copies", n)
	ps.Changed()
	return n, nil
}

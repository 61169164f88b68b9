package place

import (
	"cmp"
	"context"
	"errors"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// visit is a look at a destination's place through a driver. Whoever calls a method but inSight and older
// holds place.looking.
type visit struct {
	*Places
	name   string
	place  *place
	driver destination.Driver
}

// visit begins a visit.
func (ps *Places) visit(name string, driver destination.Driver) visit {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return visit{ps, name, ps.of(name), driver}
}

// counter is the path of this device's counter at the place. The caller has the lock.
func (v visit) counter() string {
	return cmp.Or(v.place.putAt, destination.RecordDir+"/"+v.Owner+"/last-put")
}

// count raises the number of what was put at a place, there first. The caller may look.
func (v visit) count(ctx context.Context) error {
	tied, seen := v.inSight()
	if !seen {
		var err error
		if tied, err = v.look(ctx); err != nil {
			return err
		}
	}
	counter := tied.(destination.Counter) // a driver that can be tied counts
	v.mu.Lock()
	at, put := v.counter(), v.place.put
	v.mu.Unlock()
	there, err := counter.Count(ctx, at)
	if err != nil {
		return err
	}
	n := max(there, put) + 1
	if err := counter.SetCount(ctx, at, n); err != nil {
		return err
	}
	return v.setPut(ctx, at, n)
}

// setPut keeps the number of what was put at a place last, and the path of its counter there.
func (v visit) setPut(ctx context.Context, at string, n int64) error {
	if err := putFact.For(v.name).Keep(ctx, v.Records, lastPut{n, at}); err != nil {
		return err
	}
	v.mu.Lock()
	v.place.put, v.place.putAt = n, at
	v.mu.Unlock()
	return nil
}

// sightLife is how long a place that was seen is taken to be there, over the same
// connection.
const sightLife = time.Minute

// inSight returns the driver of a place that was seen over the connection that there is.
func (v visit) inSight() (tied destination.Driver, seen bool) {
	now := destination.ConnectionOf(v.driver)
	if older, err := v.older(context.Background()); older || err != nil {
		return nil, false
	}
	tied = v.tied()
	v.mu.Lock()
	defer v.mu.Unlock()
	is := v.place
	stands := is.bound.ID != "" && !is.foreign && is.bound.Where == v.plan.Destinations[v.name].Where()
	return tied, stands && is.driver == v.driver && is.dialled == now && time.Since(is.sightAt) < sightLife
}

// look sees which place answers. A name that stands for none yet is bound to it.
// The same place at another address, or with a marker that was copied, owes the
// proofs of all that was safe. Another place is an error: the keeper is asked.
func (v visit) look(ctx context.Context) (destination.Driver, error) {
	if err := v.see(ctx); err != nil {
		return nil, err
	}
	return v.tied(), nil
}

// tied is the driver tied to the place.
func (v visit) tied() destination.Driver {
	v.mu.Lock()
	defer v.mu.Unlock()
	is := v.place
	return destination.AnchorTo(v.driver, destination.Anchor{ID: is.bound.ID, Stamp: is.bound.Stamp, Put: v.counter(),
		Least: is.put})
}

func (v visit) see(ctx context.Context) error {
	v.mu.Lock()
	where, before := v.plan.Destinations[v.name].Where(), v.place.bound
	v.mu.Unlock()
	id, err := destination.ReadMarker(ctx, v.driver)
	if err != nil {
		return err
	}
	if id == "" && before.ID == "" {
		if id, err = v.mark(ctx, destination.NewIdentity()); err != nil {
			return err
		}
	}
	if before.ID != "" && id != before.ID {
		v.mu.Lock()
		v.place.foreign, v.place.seen = true, id
		v.mu.Unlock()
		v.Tell()
		return &destination.Error{Cause: queue.Elsewhere, Says: elsewhere(v.name, where, before, id)}
	}
	now, err := stamped(ctx, v.driver, id, where)
	if err != nil {
		return err
	}
	switch older, err := v.older(ctx); {
	case err != nil:
		return err
	case older:
		v.mu.Lock()
		v.place.foreign, v.place.seen = true, id
		v.mu.Unlock()
		v.Tell()
		return &destination.Error{Cause: queue.Elsewhere, Says: elsewhere(v.name, where, before, id)}
	}
	if before.ID != "" && (before.Where != now.Where || before.Stamp != now.Stamp && before.Stamp != "") {
		says := "Its place is at another address than before: the proof is taken again there."
		if before.Where == now.Where {
			says = "The marker of its place was made anew, as a copy of a disk has it: the proof is taken again."
		}
		if err := v.owe(ctx, says, now); err != nil {
			return err
		}
	}
	return v.bind(ctx, now)
}

// older tells whether what answers is an older copy of the place: it lacks the number of
// what this device put there last.
func (v visit) older(ctx context.Context) (bool, error) {
	v.mu.Lock()
	at, put := v.counter(), v.place.put
	v.mu.Unlock()
	counter, able := v.driver.(destination.Counter)
	if !able || put == 0 {
		return false, nil
	}
	there, err := counter.Count(ctx, at)
	return there < put, err
}

// stamped is a place with the stamp that its marker has now.
func stamped(ctx context.Context, driver destination.Driver, id, where string) (b bound, err error) {
	b = bound{ID: id, Where: where}
	if s, able := driver.(destination.Stamper); able {
		b.Stamp, err = s.Stamp(ctx, destination.MarkerName)
	}
	return b, err
}

// mark puts a marker at a place that has none, and tells which it has then.
func (v visit) mark(ctx context.Context, id string) (string, error) {
	err := destination.MakeMarker(ctx, v.driver, v.Owner, id)
	if err != nil {
		v.mu.Lock()
		v.place.failedAt = time.Now() // what was on its way may lie there
		v.mu.Unlock()
	}
	if err != nil && !errors.Is(err, destination.ErrExists) { // with that, another was first
		return "", err
	}
	// What lies there is what counts: a storage may damage what it is given.
	there, err := destination.ReadMarker(ctx, v.driver)
	if err == nil && there == "" {
		err = &destination.Error{Cause: queue.Different,
			Says: "the storage acknowledged the marker of its place and does not have it"}
	}
	return there, err
}

func (v visit) owe(ctx context.Context, says string, now bound) error {
	n, err := v.Records.Owe(context.WithoutCancel(ctx), v.name, says, now.fact(v.name), time.Now())
	if err == nil && n > 0 {
		v.Log.Warn("proofs are owed anew", "device", v.Device, "destination", v.name, "copies", n, "says", says)
		v.Changed()
	}
	return err
}

// bind keeps which place a name stands for.
func (v visit) bind(ctx context.Context, now bound) error {
	v.mu.Lock()
	same := v.place.bound == now
	v.mu.Unlock()
	if !same {
		if err := placeFact.For(v.name).Keep(context.WithoutCancel(ctx), v.Records, now); err != nil {
			return err
		}
	}
	dialled := destination.ConnectionOf(v.driver)
	v.mu.Lock()
	v.place.bound, v.place.foreign, v.place.seen = now, false, ""
	v.place.driver, v.place.dialled, v.place.sightAt = v.driver, dialled, time.Now()
	v.mu.Unlock()
	if !same {
		v.Changed()
	}
	return nil
}

// countOn notes a number beyond every one that was used: whatever was the place before, or a copy
// of it, is older from then on. The number lies at the place when counted was called.
func (v visit) countOn(ctx context.Context) (counted func() error, err error) {
	counter, counts := v.driver.(destination.Counter)
	if !counts {
		return func() error { return nil }, nil
	}
	v.mu.Lock()
	at, put := v.counter(), v.place.put
	v.mu.Unlock()
	there, err := counter.Count(ctx, at)
	if err != nil {
		return nil, err
	}
	put = max(there, put) + 1
	return func() error { return counter.SetCount(ctx, at, put) }, v.setPut(ctx, at, put)
}

// answered records what follows from the keeper's answer, with the place that the name stands
// for from now on, and tells how many copies it reaches.
func (v visit) answered(ctx context.Context, before, now bound, older, moved bool) (int64, error) {
	switch {
	case older:
		return v.Records.Owe(ctx, v.name, "The keeper says that an older copy of its place is the place now: the proof "+
			"is taken again.", now.fact(v.name), time.Now())
	case moved:
		return v.Records.Owe(ctx, v.name, "The keeper says that its place moved here: the proof is taken again.",
			now.fact(v.name), time.Now())
	}
	return v.Records.Abandon(ctx, v.name, before.ID,
		"The keeper says that this is a new place: it is sent there too. What is at the old one stays there.",
		now.fact(v.name), time.Now())
}

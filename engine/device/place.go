package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// This file knows which place each destination's name stands for. Everything that
// is done at a destination goes through reach, which looks whether what answers is
// that place.

// bound is the place that a name stands for, as the records keep it.
type bound struct {
	ID    string `json:"id"`
	Where string `json:"where"` // its address, as the plan had it
	Stamp string `json:"stamp"` // of its marker, where the storage tells a copy from it
}

// fact is how the records keep it for a destination.
func (b bound) fact(name string) records.NamedFact {
	text, _ := json.Marshal(b) // three strings: it never fails
	return records.NamedFact{Name: placeFact(name), Value: string(text)}
}

// place is what is known of one destination's place, and what is done there.
type place struct {
	bound   bound
	seen    string // the identity of what answers instead, "" for none
	foreign bool   // another place answers: the keeper is asked
	driver  destination.Driver
	dialled uint64    // the connection over which the place was last seen
	sightAt time.Time // when
	looking chan struct{}

	failing gate.Failing // for every copy
	tries   int          // that failed so

	chores   map[string]*doing // what is done there beside the sends, by its name
	listAt   time.Time         // when what is on its way there is looked through
	failedAt time.Time         // when something last failed there
}

// placeOf is the place of a destination. The caller has the lock.
func (d *Device) placeOf(name string) *place {
	p := d.places[name]
	if p == nil {
		p = &place{looking: make(chan struct{}, 1), chores: map[string]*doing{}}
		d.places[name] = p
	}
	return p
}

func placeFact(name string) string { return "place " + name }

// BindPlace tells records that know nothing of a destination's place which one it
// is.
func BindPlace(ctx context.Context, r *records.Records, name, id, where string) error {
	if text, err := r.Fact(ctx, placeFact(name)); err != nil || text != "" {
		return err
	}
	is := bound{ID: id, Where: where}.fact(name)
	return r.SetFact(ctx, is.Name, is.Value)
}

// readPlaces reads which places names stand for.
func (d *Device) readPlaces(ctx context.Context) error {
	facts, err := d.Records.Facts(ctx, placeFact(""))
	if err != nil {
		return err
	}
	for name, text := range facts {
		p := d.placeOf(name)
		if err := json.Unmarshal([]byte(text), &p.bound); err != nil {
			return fmt.Errorf("reading the place of %s: %w", name, err)
		}
	}
	return nil
}

// reach is the driver of a destination, once what answers there is seen to be the
// place that the name stands for. It is looked at anew for every connection.
func (d *Device) reach(ctx context.Context, name string) (destination.Driver, error) {
	driver, err := d.Driver(name)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	p := d.placeOf(name)
	d.mu.Unlock()
	if d.inSight(name, p, driver) {
		return driver, nil
	}
	select {
	case p.looking <- struct{}{}:
		defer func() { <-p.looking }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	if d.inSight(name, p, driver) {
		return driver, nil
	}
	if err := d.look(ctx, name, p, driver); err != nil {
		return nil, err
	}
	return driver, nil
}

// sightLife is how long a place that was seen is taken to be there, over the same
// connection.
const sightLife = time.Minute

func (d *Device) inSight(name string, p *place, driver destination.Driver) bool {
	now := destination.ConnectionOf(driver)
	d.mu.Lock()
	defer d.mu.Unlock()
	return p.bound.ID != "" && !p.foreign && p.bound.Where == d.plan.Destinations[name].Where() && p.driver == driver && p.dialled == now && time.Since(p.sightAt) < sightLife
}

// look sees which place answers. A name that stands for none yet is bound to it.
// The same place at another address, or with a marker that was copied, owes the
// proofs of all that was safe. Another place is an error: the keeper is asked.
func (d *Device) look(ctx context.Context, name string, p *place, driver destination.Driver) error {
	d.mu.Lock()
	where, before := d.plan.Destinations[name].Where(), p.bound
	d.mu.Unlock()
	id, err := destination.ReadMarker(ctx, driver)
	if err != nil {
		return err
	}
	if id == "" && before.ID == "" {
		if id, err = d.markPlace(ctx, name, driver, destination.NewIdentity()); err != nil {
			return err
		}
	}
	if before.ID != "" && id != before.ID {
		d.mu.Lock()
		p.foreign, p.seen = true, id
		d.mu.Unlock()
		d.Changed()
		return &destination.Error{Cause: queue.Elsewhere, Says: elsewhere(name, where, before, id)}
	}
	now, err := stamped(ctx, driver, id, where)
	if err != nil {
		return err
	}
	if before.ID != "" && (before.Where != now.Where || before.Stamp != now.Stamp && before.Stamp != "") {
		says := "Its place is at another address than before: the proof is taken again there."
		if before.Where == now.Where {
			says = "The marker of its place was made anew, as a copy of a disk has it: the proof is taken again."
		}
		if err := d.owe(ctx, name, says, now); err != nil {
			return err
		}
	}
	return d.bind(ctx, name, p, driver, now)
}

// stamped is a place with the stamp that its marker has now.
func stamped(ctx context.Context, driver destination.Driver, id, where string) (b bound, err error) {
	b = bound{ID: id, Where: where}
	if s, able := driver.(destination.Stamper); able {
		b.Stamp, err = s.Stamp(ctx, destination.MarkerName)
	}
	return b, err
}

// markPlace puts a marker at a place that has none, and tells which it has then.
func (d *Device) markPlace(ctx context.Context, name string, driver destination.Driver, id string) (string, error) {
	err := destination.MakeMarker(ctx, driver, d.owner(), id)
	if err != nil {
		d.mu.Lock()
		d.lookThrough(name, time.Now()) // what was on its way may lie there
		d.mu.Unlock()
	}
	if err != nil && !errors.Is(err, destination.ErrExists) { // with that, another was first
		return "", err
	}
	// What lies there is what counts: a storage may damage what it is given.
	there, err := destination.ReadMarker(ctx, driver)
	if err == nil && there == "" {
		err = &destination.Error{Cause: queue.Different, Says: "the storage acknowledged the marker of its place and does not have it"}
	}
	return there, err
}

func (d *Device) owe(ctx context.Context, name, says string, now bound) error {
	n, err := d.Records.Owe(context.WithoutCancel(ctx), name, says, now.fact(name), time.Now())
	if err == nil && n > 0 {
		d.Log.Warn("proofs are owed anew", "device", d.Name, "destination", name, "copies", n, "says", says)
		d.changed()
	}
	return err
}

// bind keeps which place a name stands for.
func (d *Device) bind(ctx context.Context, name string, p *place, driver destination.Driver, now bound) error {
	d.mu.Lock()
	same := p.bound == now
	d.mu.Unlock()
	if !same {
		is := now.fact(name)
		if err := d.Records.SetFact(context.WithoutCancel(ctx), is.Name, is.Value); err != nil {
			return err
		}
	}
	dialled := destination.ConnectionOf(driver)
	d.mu.Lock()
	p.bound, p.foreign, p.seen = now, false, ""
	p.driver, p.dialled, p.sightAt = driver, dialled, time.Now()
	d.mu.Unlock()
	if !same {
		d.changed()
	}
	return nil
}

func elsewhere(name, where string, before bound, seen string) string {
	lies := "nothing tells which place it is (its file " + destination.MarkerName + " is missing)"
	if seen != "" {
		lies = "it is another place, " + seen
	}
	if before.Where != where {
		return fmt.Sprintf("it is not known whether what lies at %s is the place of %s: %s, and the one at %s was %s", where, name, lies, before.Where, before.ID)
	}
	return fmt.Sprintf("what lies at %s is not the place that was there, %s: %s", where, before.ID, lies)
}

// counts tells whether what was proven at a destination counts there now.
func (d *Device) counts(name string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.settled(name)
}

// settled tells whether a destination's name stands for the place at which its
// copies were proven: else none of them counts as safe. The caller has the lock.
func (d *Device) settled(name string) bool {
	p := d.places[name]
	if _, named := d.plan.Destinations[name]; !named || p == nil || p.bound.ID == "" {
		return true // nothing of what is known speaks against it
	}
	return !p.foreign && p.bound.Where == d.plan.Destinations[name].Where()
}

// placeHold is why copies that were safe do not count, while the name may stand for
// another place. The caller has the lock.
func (d *Device) placeHold(name string) gate.Hold {
	p, where := d.placeOf(name), d.plan.Destinations[name].Where()
	if !p.foreign {
		return gate.Hold{Gate: gate.Place, Says: fmt.Sprintf("%s stands for another address than before, %s; what was proven counts when it is proven there.", name, where)}
	}
	return gate.Hold{Gate: gate.Place, Says: destination.Sentence(&destination.Error{Says: elsewhere(name, where, p.bound, p.seen)}), Since: p.sightAt, You: true}
}

// PlaceProblem is why what was proven at a destination does not count now, and
// what the keeper can do; "" when it counts.
func (d *Device) PlaceProblem(name string) (says, todo string) {
	at := d.outlook(time.Now()).Places[name]
	d.mu.Lock()
	defer d.mu.Unlock()
	if !at.Moved.You && !d.asked(name) {
		return "", "" // nothing of this device's goes there any more
	}
	return at.Moved.Says, at.MovedTodo
}

// Todo is what the keeper can do about a destination that fails for a cause.
func Todo(cause queue.Cause, name string) string {
	return strings.ReplaceAll(queue.Judge(cause, 1, 0, 0).Do, "NAME", name)
}

// StandsFor tells whether a place's identity is the one that a name stands for, as
// far as is known.
func (d *Device) StandsFor(name, id string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	p := d.places[name]
	return p == nil || p.bound.ID == "" || p.bound.ID == id
}

// lookWait is how often it is looked whether a folder is the one it was, when
// nothing else has it looked at.
const lookWait = 10 * time.Minute

// lookDue has places looked at that were not seen yet, or not since their address
// changed, and now and then folders.
func (d *Device) lookDue(_ context.Context, name string, now time.Time, _ bool) (do func(context.Context) error, next time.Time, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	p, dest := d.placeOf(name), d.plan.Destinations[name]
	if due := p.bound.ID == "" || p.foreign || p.bound.Where != dest.Where(); !due {
		if dest.Kind != plan.Folder {
			return nil, time.Time{}, nil
		}
		if next = p.sightAt.Add(d.Wait(lookWait)); now.Before(next) {
			return nil, next, nil
		}
	}
	return func(ctx context.Context) error {
		d.mu.Lock()
		p.sightAt = time.Time{} // what was seen before does not do
		d.mu.Unlock()
		_, err := d.reach(ctx, name)
		if err == nil {
			d.mended(name)
			return nil
		}
		d.mu.Lock()
		if p.sightAt.IsZero() {
			p.sightAt = time.Now() // it is tried again by who needs it, or after a while
		}
		d.mu.Unlock()
		return err
	}, time.Time{}, nil
}

// asked tells whether this device sends to a destination. The caller has the lock.
func (d *Device) asked(name string) bool {
	for _, s := range d.plan.Devices[d.Name].Sources {
		for _, to := range d.plan.Rules[s.Rule].To {
			if to == name {
				return true
			}
		}
	}
	return false
}

// NoQuestion tells that there is nothing to answer about a place.
type NoQuestion struct{ Name string }

func (e NoQuestion) Error() string {
	return e.Name + " is the place that it was; there is nothing to answer"
}

// SettlePlace is the keeper's answer about a destination whose name has come to
// stand for another place. Moved: what was at the old one was moved there, and
// counts when it is proven. Else it is new: everything goes there, and what is at
// the old one is listed as being there. It returns how many copies that concerns.
func (d *Device) SettlePlace(ctx context.Context, name string, moved bool) (n int64, err error) {
	driver, err := d.Driver(name)
	if err != nil {
		return 0, err
	}
	d.mu.Lock()
	p := d.placeOf(name)
	d.mu.Unlock()
	select {
	case p.looking <- struct{}{}:
		defer func() { <-p.looking }()
	case <-ctx.Done():
		return 0, context.Cause(ctx)
	}
	d.mu.Lock()
	where, before := d.plan.Destinations[name].Where(), p.bound
	d.mu.Unlock()
	id, err := destination.ReadMarker(ctx, driver)
	if err != nil {
		return 0, err
	}
	if id == before.ID || before.ID == "" {
		return 0, NoQuestion{name}
	}
	if id == "" {
		id = destination.NewIdentity()
		if moved {
			id = before.ID
		}
		if id, err = d.markPlace(ctx, name, driver, id); err != nil {
			return 0, err
		}
	}
	now, err := stamped(ctx, driver, id, where)
	if err != nil {
		return 0, err
	}
	if moved {
		n, err = d.Records.Owe(ctx, name, "The keeper says that its place moved here: the proof is taken again.", now.fact(name), time.Now())
	} else {
		n, err = d.Records.Abandon(ctx, name, before.ID, "The keeper says that this is a new place: it is sent there too. What is at the old one stays there.", now.fact(name), time.Now())
	}
	if err != nil {
		return 0, err
	}
	if err := d.bind(ctx, name, p, driver, now); err != nil {
		return 0, err
	}
	d.mended(name)
	d.Log.Info("a place was settled", "device", d.Name, "destination", name, "moved", moved, "copies", n)
	d.changed()
	return n, nil
}

package device

import (
	"context"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// chore is work that falls due at a destination beside the sends: one of each at a
// time there, over a network that costs nothing, while nothing is paused.
type chore struct {
	name string
	// due tells what is to be done now, nil for nothing, and when that may change by
	// time alone. Busy tells that copies are on their way there, or will be.
	due func(d *Device, ctx context.Context, destination string, now time.Time, busy bool) (do func(context.Context) error, next time.Time, err error)
	// shows tells that its failure is one of the destination, and holds all that goes
	// there. Else it is tried again after a while, and nobody waits for it.
	shows bool
	// unasked tells that it is done also where this device sends nothing any more.
	unasked bool
}

// chores are all there are, in the order in which they are looked at.
var chores = []chore{
	{name: "look at the place", due: (*Device).lookDue, shows: true},
	{name: "look at what lies there", due: (*Device).rebuildDue, shows: true},
	{name: "remove what was left", due: (*Device).sweepDue, unasked: true},
	{name: "take proofs again", due: (*Device).reproveDue, shows: true, unasked: true},
	{name: "write the record", due: (*Device).recordDue, unasked: true},
}

// doing is how a chore stands at a place.
type doing struct {
	now   bool
	after time.Time // it failed: when it is tried again
}

// choreWait is how long a chore rests that failed.
const choreWait = time.Minute

// upkeep starts the chores that are due. It returns when to look again.
func (d *Device) upkeep(ctx, sendCtx context.Context, s gate.Situation, busy map[string]bool) (next time.Time, err error) {
	for name := range s.Plan.Destinations {
		if s.Quiet(name) {
			continue
		}
		for _, c := range chores {
			d.mu.Lock()
			is := d.placeOf(name).chores[c.name]
			if is == nil {
				is = &doing{}
				d.placeOf(name).chores[c.name] = is
			}
			does, after, asked := is.now, is.after, d.asked(name)
			d.mu.Unlock()
			if does || !asked && !c.unasked {
				continue
			}
			if s.Time.Before(after) {
				next = gate.Earlier(next, after)
				continue
			}
			do, at, err := c.due(d, ctx, name, s.Time, busy[name])
			if err != nil {
				return next, err
			}
			next = gate.Earlier(next, at)
			if do != nil {
				d.do(sendCtx, name, c, is, do)
			}
		}
	}
	return next, nil
}

// do does a chore beside everything else.
func (d *Device) do(ctx context.Context, name string, c chore, is *doing, do func(context.Context) error) {
	d.mu.Lock()
	is.now = true
	d.mu.Unlock()
	d.sends.Go(func() {
		err := do(ctx)
		shows := c.shows && !records.IsFailure(err)
		switch {
		case err == nil || ctx.Err() != nil: // done, or ended
		case shows:
			d.trouble(name, destination.CauseOf(err), destination.Sentence(err), time.Now())
		default:
			d.Log.Warn("a chore failed; it is done later", "device", d.Name, "destination", name, "chore", c.name, "err", err)
		}
		d.mu.Lock()
		is.now = false
		if err != nil && !shows {
			is.after = time.Now().Add(d.Wait(choreWait))
		}
		d.mu.Unlock()
		d.changed()
	})
}

package device

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/carry"
	"yardtide/engine/records"
	"yardtide/engine/source"
	"yardtide/engine/tell"
	"yardtide/wire"
)

// This file has copies prepared that do not go as shot, a few ahead of those that are sent:
// only then it is known how many bytes they are, for the room and the allowance.

// preparers is how many pictures are made smaller at the same time. A clip, which takes long,
// has a preparer of its own: it never holds up the pictures.
func preparers() int { return min(2, runtime.NumCPU()) }

// preparerFree tells whether something of a kind may begin to be made smaller.
func (d *Device) preparerFree(kind media.Kind) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	clips, others := 0, 0
	for _, p := range d.preparing {
		if p.copy.Kind == media.Video {
			clips++
		} else {
			others++
		}
	}
	if kind == media.Video {
		return clips == 0
	}
	return others < preparers()
}

const (
	preparedAhead = 8 // of a class
	prepareAgain  = time.Minute
)

// prepare begins to prepare what goes next, by the last decision.
func (d *Device) prepare(ctx, sendCtx context.Context, last decision) error {
	ready, err := d.Records.Forms.AllPrepared(ctx)
	if err != nil {
		return err
	}
	ahead := map[queue.Class]int64{}
	for _, p := range ready {
		switch form := carry.FormOf(last.Plan, p.Class); form {
		case "": // another plan had it go otherwise
			if err := d.Records.Forms.GoAsShot(ctx, p.Class); err != nil {
				return err
			}
			d.wake.Ring()
		case p.Form:
			ahead[p.Class] += p.N
		}
	}
	for class, v := range last.verdicts {
		form := carry.FormOf(last.Plan, class)
		if form == "" || !mayPrepare(v) {
			continue
		}
		for n := ahead[class]; n < preparedAhead; n++ {
			began, err := d.prepareOne(ctx, sendCtx, class, form, last)
			if err != nil {
				return err
			}
			if !began {
				break
			}
		}
	}
	if !last.ordered {
		return nil
	}
	for name := range last.Plan.Destinations {
		orders, err := d.Records.Queue.Orders(ctx, name, nil, last.Time)
		if err != nil {
			return err
		}
		for _, c := range orders {
			if form := carry.FormOf(last.Plan, c.Class); form != "" && c.Form != form && c.State == queue.Waiting && d.preparerFree(c.Kind) {
				d.beginPreparing(sendCtx, c)
			}
		}
	}
	return nil
}

// mayPrepare tells whether a class may go, but for the size of what it is of: that is only
// known when it is prepared.
func mayPrepare(v gate.Verdict) bool {
	if v.Open() {
		return true
	}
	for _, h := range v.Holds {
		if h.Gate != gate.Space && h.Gate != gate.Allowance {
			return false
		}
	}
	return len(v.Holds) > 0
}

// preparing is an item of which something is made.
type preparing struct {
	copy   records.Copy
	copies []int64 // that wait for it
	began  time.Time
	share  float64 // of a clip that is made, from 0 to 1
}

// told is how far it is; ok is false for what is made in a moment.
func (p *preparing) told(key string, now time.Time) (s tell.Send, ok bool) {
	c := p.copy
	return tell.Send{Copy: c.ID, Rule: c.Rule, Send: wire.Send{Item: key, Name: c.Name, Kind: c.Kind, Destination: c.Destination, Shelf: c.Shelf, State: queue.Preparing,
		Bytes: c.Size, Sent: int64(p.share * float64(c.Size))}}, c.Kind == media.Video && now.Sub(p.began) > time.Second
}

// prepareOne begins to prepare the next copy of a class; began is false when there is none,
// or no worker is free.
func (d *Device) prepareOne(ctx, sendCtx context.Context, class queue.Class, form string, last decision) (began bool, err error) {
	for {
		if !d.preparerFree(class.Kind) {
			return false, nil
		}
		d.mu.Lock()
		busy := make([]int64, 0, len(d.preparing))
		for _, p := range d.preparing {
			busy = append(busy, p.copies...)
		}
		d.mu.Unlock()
		c, ok, err := d.Records.Forms.Unprepared(ctx, class, form, last.Plan.Rules[class.Rule].Order, busy, last.Time)
		if err != nil || !ok {
			return false, err
		}
		if d.beginPreparing(sendCtx, c) {
			return true, nil
		}
	}
}

// beginPreparing prepares a copy beside everything else; false when its item is being
// prepared already.
func (d *Device) beginPreparing(ctx context.Context, c records.Copy) bool {
	d.mu.Lock()
	p, busy := d.preparing[c.Item]
	if !busy {
		p = &preparing{copy: c, began: time.Now()}
		d.preparing[c.Item] = p
	}
	if !slices.Contains(p.copies, c.ID) { // an order is met again each round
		p.copies = append(p.copies, c.ID)
	}
	d.mu.Unlock()
	if busy {
		return false
	}
	told := time.Now()
	d.beside.Go(func() {
		err := d.carrier.Prepare(ctx, c, func(share float64) {
			d.mu.Lock()
			p.share = share
			d.mu.Unlock()
			if time.Since(told) > time.Second {
				told = time.Now()
				d.Changed()
			}
		})
		if err != nil && ctx.Err() == nil {
			err = d.notPrepared(context.WithoutCancel(ctx), c, err)
		}
		d.mu.Lock()
		delete(d.preparing, c.Item)
		d.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			d.unrecorded("a copy could not be prepared", err)
		}
		d.changed()
	})
	return true
}

// notPrepared notes why a copy was not prepared.
func (d *Device) notPrepared(ctx context.Context, c records.Copy, why error) error {
	var fault source.Error
	switch {
	case records.IsFailure(why):
		return why
	case errors.As(why, &fault): // sending finds the same, and says what follows
		return d.Records.Forms.SetForm(ctx, c.Item, c.Rule, c.Shelf, carry.FormOf(d.currentPlan(), c.Class), false, c.Size, "It cannot be prepared: "+fault.Says, time.Now())
	}
	d.Log.Error("a copy cannot be prepared", "device", d.Name, "copy", c.ID, "err", why)
	return d.Records.Queue.Delay(ctx, c.ID, "It cannot be prepared: "+why.Error()+".", time.Now().Add(d.Wait(prepareAgain)), time.Now())
}

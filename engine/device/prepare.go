package device

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"
	"time"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/carry"
	"yardtide/engine/records"
	"yardtide/engine/source"
	"yardtide/engine/tell"
	"yardtide/engine/work"
	"yardtide/wire"
)

// This file has copies prepared that do not go as shot, a few ahead of those that are sent:
// only then it is known how many bytes they are, for the room and the allowance.

// preparers make the forms of copies. A clip, which takes long, has a hand of its own: it never
// holds up the pictures.
type preparers struct {
	d *Device

	pictures, clips *work.Crew // by the item

	mu    sync.Mutex
	items map[int64]*preparing // by the item
}

func newPreparers(d *Device) preparers {
	crew := func(hands int) *work.Crew { return &work.Crew{Hands: hands, Freed: d.changed} }
	return preparers{d: d, pictures: crew(min(2, runtime.NumCPU())), clips: crew(1), items: map[int64]*preparing{}}
}

// of are who makes a kind smaller.
func (ps *preparers) of(kind media.Kind) *work.Crew {
	if kind == media.Video {
		return ps.clips
	}
	return ps.pictures
}

const (
	preparedAhead = 8 // of a class
	prepareAgain  = time.Minute
)

// prepare begins to prepare what goes next, by the last decision.
func (ps *preparers) prepare(ctx, sendCtx context.Context, last decision) error {
	ready, err := ps.d.Records.Forms.AllPrepared(ctx)
	if err != nil {
		return err
	}
	ahead := map[queue.Class]int64{}
	for _, p := range ready {
		switch form := carry.FormOf(last.Plan, p.Class); form {
		case "": // another plan had it go otherwise
			if err := ps.d.Records.Forms.GoAsShot(ctx, p.Class); err != nil {
				return err
			}
			ps.d.wake.Ring()
		case p.Form:
			ahead[p.Class] += p.N
		}
	}
	for class, v := range last.verdicts {
		form := carry.FormOf(last.Plan, class)
		if form == "" || !v.Prepares() {
			continue
		}
		for n := ahead[class]; n < preparedAhead; n++ {
			began, err := ps.beginNext(ctx, sendCtx, class, form, last)
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
		orders, err := ps.d.Records.Queue.Orders(ctx, name, nil, last.Time)
		if err != nil {
			return err
		}
		for _, c := range orders {
			if form := carry.FormOf(last.Plan, c.Class); form != "" && c.Form != form && c.State == queue.Waiting {
				ps.begin(sendCtx, c)
			}
		}
	}
	return nil
}

// preparing is an item of which something is made.
type preparing struct {
	copy   records.Copy
	copies []int64 // that wait for it
	began  time.Time
	share  float64 // of a clip that is made, from 0 to 1
}

// told are the clips that are made, and how far each is; a picture is made in a moment.
func (ps *preparers) told(now time.Time) (list []tell.Send) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	for _, p := range ps.items {
		c := p.copy
		if c.Kind != media.Video || now.Sub(p.began) <= time.Second {
			continue
		}
		list = append(list, tell.Send{Copy: c.ID, Rule: c.Rule, Send: wire.Send{Item: ps.d.Records.Catalogue.Key(c.Item),
			Name: c.Name, Kind: c.Kind, Destination: c.Destination, Shelf: c.Shelf,
			State: queue.Preparing, Bytes: c.Size, Sent: int64(p.share * float64(c.Size))}})
	}
	return list
}

// beginNext begins to prepare the next copy of a class; began is false when there is none,
// or no hand is free.
func (ps *preparers) beginNext(ctx, sendCtx context.Context, class queue.Class, form string,
	last decision) (began bool, err error) {
	for {
		if !ps.of(class.Kind).Free() {
			return false, nil
		}
		busy := []int64{}
		ps.mu.Lock()
		for _, p := range ps.items {
			busy = append(busy, p.copies...)
		}
		ps.mu.Unlock()
		c, ok, err := ps.d.Records.Forms.Unprepared(ctx, class, form, last.Plan.Rules[class.Rule].Order, busy, last.Time)
		if err != nil || !ok {
			return false, err
		}
		if ps.begin(sendCtx, c) {
			return true, nil
		}
	}
}

// begin prepares a copy beside everything else; false when its item is being prepared already.
func (ps *preparers) begin(ctx context.Context, c records.Copy) bool {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if p := ps.items[c.Item]; p != nil {
		if !slices.Contains(p.copies, c.ID) { // an order is met again each round
			p.copies = append(p.copies, c.ID)
		}
		return false
	}
	p := &preparing{copy: c, copies: []int64{c.ID}, began: time.Now()}
	began := ps.of(c.Kind).Begin(c.Item, func() {
		err := ps.make(ctx, p)
		ps.mu.Lock()
		delete(ps.items, c.Item)
		ps.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			ps.d.mending.broke("a copy could not be prepared", err)
		}
	})
	if began {
		ps.items[c.Item] = p
	}
	return began
}

// make makes the form of a copy, or notes why it could not be made.
func (ps *preparers) make(ctx context.Context, p *preparing) error {
	told := time.Now()
	err := ps.d.carrier.Prepare(ctx, p.copy, func(share float64) {
		ps.mu.Lock()
		p.share = share
		ps.mu.Unlock()
		if time.Since(told) > time.Second {
			told = time.Now()
			ps.d.Changed()
		}
	})
	if err != nil && ctx.Err() == nil {
		err = ps.notPrepared(context.WithoutCancel(ctx), p.copy, err)
	}
	return err
}

// notPrepared notes why a copy was not prepared.
func (ps *preparers) notPrepared(ctx context.Context, c records.Copy, why error) error {
	var fault source.Error
	switch {
	case records.IsFailure(why):
		return why
	case errors.As(why, &fault): // sending finds the same, and says what follows
		now := ps.d.currentPlan()
		form := carry.FormOf(now, c.Class)
		return ps.d.Records.Forms.SetForm(ctx, carry.Alike(now, c, form), form, false, c.Size,
			"It cannot be prepared: "+fault.Says, time.Now())
	}
	ps.d.Log.Error("a copy cannot be prepared", "device", ps.d.Name, "copy", c.ID, "err", why)
	return ps.d.Records.Queue.Delay(ctx, c.ID, "It cannot be prepared: "+why.Error()+".",
		time.Now().Add(ps.d.Wait(prepareAgain)), time.Now())
}

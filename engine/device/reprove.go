package device

import (
	"context"
	"errors"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Reprove has the proofs of safe copies taken again: of a sample, or of all
// with 0; at one destination, or at all with "". It is done beside the sends,
// one at a time for each destination, over networks that cost nothing. It
// returns how many are to be proven.
func (d *Device) Reprove(ctx context.Context, name string, sample int64) (int64, error) {
	n, err := d.Records.Reprove(ctx, name, sample)
	d.changed()
	return n, err
}

// Proving counts the proofs that are still to be taken again, and how many of
// them something holds: the network, a pause, or the destination.
func (d *Device) Proving(ctx context.Context) (p wire.Proving, err error) {
	counts, err := d.Records.Reproving(ctx)
	if err != nil {
		return p, err
	}
	counters, err := d.Records.Counters(ctx)
	if err != nil {
		return p, err
	}
	for _, c := range counters {
		if c.State == queue.Stuck {
			p.Stuck += c.N
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, n := range counts {
		p.Left += n
		if d.besideShut(name, time.Now()) {
			p.Held += n
		}
	}
	return p, nil
}

// besideShut tells whether nothing may be done at a destination now beside the
// sends: proofs taken again, what is left removed, records written. The caller
// has the lock.
func (d *Device) besideShut(name string, now time.Time) bool {
	dest, there := d.plan.Destinations[name]
	t := d.troubles[name]
	return !there || dest.Networked() && (d.now.Costs() || d.now.Network == plan.NoNetwork) || d.pause.Active(now) || t != nil && now.Before(t.until)
}

// reprove starts what is due of the proofs that the keeper wants again.
func (d *Device) reprove(ctx, sendCtx context.Context, now time.Time) error {
	d.mu.Lock()
	var names []string
	for name := range d.plan.Destinations {
		if !d.besideShut(name, now) && !d.reproving[name] {
			names = append(names, name)
		}
	}
	d.mu.Unlock()
	for _, name := range names {
		if _, some, err := d.Records.ToReprove(ctx, name); err != nil || !some {
			if err != nil {
				return err
			}
			continue
		}
		d.mu.Lock()
		d.reproving[name] = true
		d.mu.Unlock()
		d.sends.Go(func() {
			d.reproveAll(sendCtx, ctx, name)
			d.mu.Lock()
			d.reproving[name] = false
			d.mu.Unlock()
			d.changed()
		})
	}
	return nil
}

// reproveAll takes proofs at one destination until there are none to take, or
// the destination fails, or a gate shuts.
func (d *Device) reproveAll(ctx, life context.Context, name string) {
	for life.Err() == nil {
		d.mu.Lock()
		shut := d.besideShut(name, time.Now())
		d.mu.Unlock()
		c, some, err := d.Records.ToReprove(life, name)
		if err != nil || !some || shut {
			return
		}
		driver, err := d.reach(ctx, name)
		if err == nil {
			err = d.proveAgain(ctx, driver, c)
		}
		if err != nil {
			if ctx.Err() == nil && !records.IsFailure(err) {
				cause := destination.CauseOf(err)
				if cause == queue.Bug {
					d.Log.Error("a proof failed in a way that is not known", "device", d.Name, "copy", c.ID, "err", err)
				}
				d.trouble(name, cause, destination.Sentence(err), time.Now())
			}
			return
		}
		d.mended(name)
		d.Changed()
	}
}

// proveAgain takes one proof again and records what it shows.
func (d *Device) proveAgain(ctx context.Context, driver destination.Driver, c records.Copy) error {
	s := &carriage{copy: c, driver: driver}
	way, err := compare(ctx, s, c.Remote, c.SHA256, true, true)
	if err == nil {
		var now destination.Driver
		if now, err = d.reach(ctx, c.Destination); err == nil && now != driver { // it is no longer the same place
			return nil
		}
	}
	after := context.WithoutCancel(ctx)
	says, todo := "", ""
	switch {
	case err == nil:
		return d.Records.Proven(after, c.ID, way, time.Now())
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, destination.ErrNotFound):
		says, todo = "What was at "+c.Remote+" is no longer at the storage.", "Find out who removed it. Retry sends it again while the file is on the device."
	case destination.CauseOf(err) == queue.Different:
		says, todo = "What lies at "+c.Remote+" is no longer what was proven.", "Check the storage's disk and who changed it. Retry sends it again, beside what is there."
	default:
		return err
	}
	return d.lost(after, c, says, todo)
}

// lost takes every copy of this process that rests on what lay at a path back from
// safe.
func (d *Device) lost(ctx context.Context, c records.Copy, says, todo string) error {
	n := int64(0)
	for _, member := range d.Fleet.all() {
		lost, err := member.Records.Lost(context.WithoutCancel(ctx), c.Destination, c.Remote, says, todo, time.Now())
		if err != nil {
			return err
		}
		n += lost
		member.Changed()
	}
	d.Log.Error("a copy that was safe is lost", "device", d.Name, "destination", c.Destination, "path", c.Remote, "copies", n, "says", says)
	return nil
}

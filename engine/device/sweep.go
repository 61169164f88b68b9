package device

import (
	"context"
	"errors"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// sweepWait is how long a destination rests after a sweep that failed.
const sweepWait = time.Minute

// tempLife is how long a part of a file may lie at a destination while its copy
// waits to go on.
const tempLife = 20 * time.Hour

// sweep removes temporary files of copies that rest: their last try could not
// clean up, as the storage was away or the network cost. It runs beside sends
// and ends with them. It returns when to look again after a failure.
func (d *Device) sweep(ctx, sendCtx context.Context, now time.Time) (next time.Time, err error) {
	d.mu.Lock()
	var names []string
	for name := range d.plan.Destinations {
		after := d.sweepAfter[name]
		switch {
		case d.sweeping[name] || d.besideShut(name, now):
		case now.Before(after):
			next = gate.Earlier(next, after)
		default:
			names = append(names, name)
		}
	}
	d.mu.Unlock()
	for _, name := range names {
		left, err := d.Records.Temps(ctx, name, now.Add(-tempLife))
		if err != nil {
			return next, err
		}
		list, at := d.listDue(name, now)
		next = gate.Earlier(next, at)
		if len(left) == 0 && !list {
			continue
		}
		d.mu.Lock()
		d.sweeping[name] = true
		d.mu.Unlock()
		d.sends.Go(func() {
			err := d.removeTemps(sendCtx, name, left)
			if err == nil && list {
				err = d.removeForgotten(sendCtx, name)
			}
			d.mu.Lock()
			d.sweeping[name] = false
			if list && err == nil && !d.listAt[name].After(now) {
				d.listAt[name] = d.nextList(name, time.Now())
			}
			if err != nil {
				d.sweepAfter[name] = time.Now().Add(d.Wait(sweepWait))
			}
			d.mu.Unlock()
			if err != nil {
				d.Log.Warn("temporary files are left for now", "device", d.Name, "destination", name, "err", err)
			}
			d.changed()
		})
	}
	return next, nil
}

func (d *Device) removeTemps(ctx context.Context, name string, left []records.Copy) error {
	driver, err := d.reach(ctx, name)
	if err != nil {
		return err
	}
	for _, c := range left {
		if err := driver.Remove(ctx, c.Temp); err != nil {
			return err
		}
		if err := d.Records.Note(context.WithoutCancel(ctx), c.ID, "", c.Remote, c.SHA256); err != nil {
			return err
		}
	}
	return nil
}

// listWait is how often what is on its way at a destination is looked through.
const listWait = 6 * time.Hour

// lookThrough has what is on its way at a destination looked through soon, as
// something failed there. The caller has the lock.
func (d *Device) lookThrough(name string, now time.Time) {
	d.failedAt[name], d.listAt[name] = now, now.Add(d.Wait(sweepWait))
}

// nextList is when to look through again: ever later after a failure, as a
// request that was given up may arrive at any time. The caller has the lock.
func (d *Device) nextList(name string, now time.Time) time.Time {
	wait := d.Wait(listWait)
	if at, failed := d.failedAt[name]; failed {
		wait = min(wait, max(d.Wait(sweepWait), now.Sub(at)))
	}
	return now.Add(wait)
}

// listDue tells whether to look through what is on its way at a destination
// now, and else when: nothing of ours may be under way there.
func (d *Device) listDue(name string, now time.Time) (due bool, at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.active {
		if s.copy.Destination == name {
			return false, time.Time{} // its end wakes
		}
	}
	if at = d.listAt[name]; at.After(now) {
		return false, at
	}
	return true, time.Time{}
}

// removeForgotten removes temporary files of this device that no record knows: a
// request that was given up can arrive late, after its copy went another way.
func (d *Device) removeForgotten(ctx context.Context, name string) error {
	driver, err := d.reach(ctx, name)
	if err != nil {
		return err
	}
	b, able := driver.(destination.Browser)
	if !able {
		return nil
	}
	there, err := b.List(ctx, destination.TempDir)
	if errors.Is(err, destination.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range there {
		path := destination.TempDir + "/" + e.Name
		if !strings.HasPrefix(e.Name, d.owner()+"-") || d.writes(path) {
			continue
		}
		// A copy's temporary name is on record before anything is written there.
		known, err := d.Records.KnowsTemp(ctx, name, path)
		if err != nil {
			return err
		}
		if known {
			continue // its copy goes on from it, or removes it
		}
		if err := driver.Remove(ctx, path); err != nil {
			return err
		}
	}
	return nil
}

// writes tells whether something that is on no record is being written under a
// temporary name.
func (d *Device) writes(temp string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.writing[temp]
}

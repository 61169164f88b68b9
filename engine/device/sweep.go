package device

import (
	"context"
	"errors"
	"strings"
	"time"

	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// tempLife is how long a part of a file may lie at a destination while its copy
// waits to go on.
const tempLife = 20 * time.Hour

// sweepDue has temporary files removed of copies that rest: their last try could not
// clean up, as the storage was away or the network cost.
func (d *Device) sweepDue(ctx context.Context, name string, now time.Time, _ bool) (do func(context.Context) error, next time.Time, err error) {
	left, err := d.Records.Temps(ctx, name, now.Add(-tempLife))
	if err != nil {
		return nil, time.Time{}, err
	}
	list, next := d.listDue(name, now)
	if len(left) == 0 && !list {
		return nil, next, nil
	}
	return func(ctx context.Context) error {
		if err := d.removeTemps(ctx, name, left); err != nil || !list {
			return err
		}
		if err := d.removeForgotten(ctx, name); err != nil {
			return err
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		if p := d.placeOf(name); !p.listAt.After(now) {
			p.listAt = d.nextList(p, time.Now())
		}
		return nil
	}, next, nil
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
	p := d.placeOf(name)
	p.failedAt, p.listAt = now, now.Add(d.Wait(choreWait))
}

// nextList is when to look through again: ever later after a failure, as a
// request that was given up may arrive at any time. The caller has the lock.
func (d *Device) nextList(p *place, now time.Time) time.Time {
	wait := d.Wait(listWait)
	if !p.failedAt.IsZero() {
		wait = min(wait, max(d.Wait(choreWait), now.Sub(p.failedAt)))
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
	if at = d.placeOf(name).listAt; at.After(now) {
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

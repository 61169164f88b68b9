package upkeep

import (
	"context"
	"errors"
	"strings"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// tempLife is how long a part of a file may lie at a destination while its copy
// waits to go on.
const tempLife = 20 * time.Hour

// sweepDue has temporary files removed of copies that rest: their last try could not
// clean up, as the storage was away or the network cost.
func (u *Upkeep) sweepDue(ctx context.Context, name string, now time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
	left, err := u.Records.Queue.Temps(ctx, name, now.Add(-tempLife))
	if err != nil {
		return nil, time.Time{}, err
	}
	list, next := u.listDue(name, now)
	if len(left) == 0 && !list {
		return nil, next, nil
	}
	return func(ctx context.Context) error {
		if err := u.removeTemps(ctx, name, left); err != nil || !list {
			return err
		}
		if err := u.removeForgotten(ctx, name); err != nil {
			return err
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		u.listed[name] = now
		return nil
	}, next, nil
}

func (u *Upkeep) removeTemps(ctx context.Context, name string, left []records.Copy) error {
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	var failed error
	for _, c := range left {
		if err := driver.Remove(ctx, c.Temp); isLast(ctx, err) {
			return err
		} else if err != nil { // the others may go all the same
			failed = err
			continue
		}
		if err := u.Records.Queue.Note(context.WithoutCancel(ctx), c.ID, "", c.Remote, c.SHA256); err != nil {
			return err
		}
	}
	return failed
}

// isLast tells whether nothing more is to be tried at a storage after an error.
func isLast(ctx context.Context, err error) bool {
	return err != nil && (ctx.Err() != nil || queue.Judge(destination.CauseOf(err), 1, 0, 0).Destination)
}

// listWait is how often what is on its way at a destination is looked through.
const listWait = 6 * time.Hour

// listDue tells whether to look through what is on its way at a destination now, and
// else when: nothing of ours may be under way there. After a failure there it is
// looked through soon, and then ever later, as a request that was given up may arrive
// at any time.
func (u *Upkeep) listDue(name string, now time.Time) (due bool, at time.Time) {
	if u.Sending(name) {
		return false, time.Time{} // its end wakes
	}
	u.mu.Lock()
	listed, failed := u.listed[name], u.Places.LateSince(name)
	u.mu.Unlock()
	switch {
	case failed.After(listed):
		at = failed.Add(u.Wait(choreWait))
	case listed.IsZero():
		return true, time.Time{}
	case failed.IsZero():
		at = listed.Add(u.Wait(listWait))
	default:
		at = listed.Add(min(u.Wait(listWait), max(u.Wait(choreWait), listed.Sub(failed))))
	}
	return !now.Before(at), at
}

// removeForgotten removes temporary files of this device that no record knows: a
// request that was given up can arrive late, after its copy went another way.
func (u *Upkeep) removeForgotten(ctx context.Context, name string) error {
	driver, err := u.Places.Reach(ctx, name)
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
	var failed error
	for _, e := range there {
		path := destination.TempDir + "/" + e.Name
		if !strings.HasPrefix(e.Name, u.Owner+"-") || u.writes(path) {
			continue
		}
		// A copy's temporary name is on record before anything is written there.
		known, err := u.Records.Places.KnowsTemp(ctx, name, path)
		if err != nil {
			return err
		}
		if known {
			continue // its copy goes on from it, or removes it
		}
		if err := driver.Remove(ctx, path); isLast(ctx, err) {
			return err
		} else if err != nil { // the others may go all the same
			failed = err
		}
	}
	return failed
}

// writes tells whether something that is on no record is being written under a
// temporary name.
func (u *Upkeep) writes(temp string) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.writing[temp]
}

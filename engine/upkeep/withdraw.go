package upkeep

import (
	"context"
	"errors"
	"time"

	"yardtide/core/naming"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
	"yardtide/engine/records"
)

// This file removes small copies whose whole is safe: nothing else is ever removed at a
// destination. What goes is what the copy itself put there: what was there before, or is
// shared with another copy, stays. What cannot be removed by itself is left, and told in
// the copy's story, so that one never holds up the others. A small copy goes only when its
// whole was seen there this moment, and only what has the very bytes that were put there: it
// is looked at, taken out of its place to a name that nobody else writes to, looked at again
// there, and only then removed. What is something else goes back.

// withdrawDue has small copies removed that are of no more use.
func (u *Upkeep) withdrawDue(ctx context.Context, name string, now time.Time, _ bool) (do func(context.Context) error, next time.Time, err error) {
	if _, _, some, err := u.Records.Shelves.Superseded(ctx, name, now); err != nil {
		return nil, time.Time{}, err
	} else if !some {
		next, err := u.Records.Shelves.Postponed(ctx, name)
		return nil, next, err
	}
	return func(sendCtx context.Context) error {
		for ctx.Err() == nil && !u.Outlook().Quiet(name) {
			small, whole, some, err := u.Records.Shelves.Superseded(sendCtx, name, time.Now())
			if err != nil || !some {
				return err
			}
			driver, err := u.Places.Reach(sendCtx, name)
			if err != nil {
				return err
			}
			err = u.withdraw(sendCtx, driver, name, small, whole)
			if err != nil && (sendCtx.Err() != nil || records.IsFailure(err) || destination.CauseOf(err) == queue.Unreachable || u.Places.Still(sendCtx, name) != nil) {
				return err
			}
			if err != nil && small.Tries+1 >= mostWithdrawals {
				err = u.leaveSmall(sendCtx, name, small, small.Remote, err)
			}
			if err != nil { // this one alone: the others go on
				u.Log.Warn("a small copy could not be removed; it is tried later", "device", u.Device, "destination", name, "path", small.Remote, "err", err)
				wait := u.Wait(queue.Wait(small.Tries+1, 0.5))
				if err := u.Records.Shelves.Postpone(sendCtx, small.ID, small.Tries+1, time.Now().Add(wait)); err != nil {
					return err
				}
			}
			u.Tell()
		}
		return nil
	}, time.Time{}, nil
}

// withdraw removes one small copy, if it is still what was put there and its whole is, too.
func (u *Upkeep) withdraw(ctx context.Context, driver destination.Driver, name string, small, whole records.Copy) error {
	ends := func(says string) error { return u.endSmall(ctx, small, says) }
	if !small.Landed && small.Temp == "" { // it was there already: it is not ours
		return ends("The whole of it is safe there; the small one may be somebody else's, and stays.")
	}
	switch there, err := isAt(ctx, driver, whole.Remote, whole); {
	case errors.Is(err, destination.ErrNotFound) || err == nil && !there || destination.CauseOf(err) == queue.Refused:
		says := "What was at " + whole.Remote + " is no longer what was proven."
		return u.lost(context.WithoutCancel(ctx), whole.Destination, whole.Remote, says, "Find out who changed it. Retry sends it again while the file is on the device; the small copy stays until then.")
	case err != nil:
		return err
	}
	leave := func(path string, err error) error { return u.leaveSmall(ctx, name, small, path, err) }
	out := small.Temp
	if out == "" {
		if shared, err := u.Records.Shelves.HandOn(ctx, small); err != nil {
			return err
		} else if shared {
			return ends("The whole of it is safe there; the small one stays, as another item's is the same.")
		}
		switch same, err := isAt(ctx, driver, small.Remote, small); {
		case errors.Is(err, destination.ErrNotFound):
			return ends("The whole of it is safe there; the small one was removed by somebody else.")
		case destination.CauseOf(err) == queue.Refused:
			return leave(small.Remote, err)
		case err != nil:
			return err
		case !same:
			return ends("The whole of it is safe there. What lies at " + small.Remote + " is not what was put there: it stays.")
		}
		out = destination.NewWithdrawn(u.Owner)
		if err := u.Records.Shelves.Withdraw(ctx, small.ID, out); err != nil {
			return err
		}
		switch err := driver.Withdraw(ctx, small.Remote, out); {
		case errors.Is(err, destination.ErrUnable), destination.CauseOf(err) == queue.Refused:
			return leave(small.Remote, err)
		case err != nil && !errors.Is(err, destination.ErrNotFound):
			return err
		}
	}
	return u.removeOut(ctx, driver, name, small, whole, out)
}

// isAt tells whether what lies at a path has the very bytes of a copy.
func isAt(ctx context.Context, driver destination.Driver, path string, c records.Copy) (bool, error) {
	_, err := proof.Take(ctx, driver, path, c.SHA256, c.Bytes, true, true)
	switch {
	case err == nil:
		return true, nil
	case destination.CauseOf(err) == queue.Different:
		return false, nil
	}
	return false, err
}

// removeOut removes a small copy that was taken out of its place to the name out, if it is what
// was put there.
func (u *Upkeep) removeOut(ctx context.Context, driver destination.Driver, name string, small, whole records.Copy, out string) error {
	ends := func(says string) error { return u.endSmall(ctx, small, says) }
	switch same, err := isAt(ctx, driver, out, small); {
	case errors.Is(err, destination.ErrNotFound): // an earlier try ended before it was taken out, or after it was removed
		if _, serr := driver.Size(ctx, small.Remote); serr == nil {
			return u.Records.Shelves.Withdraw(ctx, small.ID, "")
		} else if !errors.Is(serr, destination.ErrNotFound) {
			return serr
		}
	case destination.CauseOf(err) == queue.Refused:
		return u.leaveSmall(ctx, name, small, out, err)
	case err != nil:
		return err
	case !same:
		return u.putBack(ctx, driver, small, out, ends)
	default:
		_, serr := driver.Size(ctx, small.Remote)
		if serr != nil && !errors.Is(serr, destination.ErrNotFound) && destination.CauseOf(serr) != queue.Refused {
			return serr
		}
		if err := driver.Remove(ctx, out); err != nil {
			return err
		}
		if !errors.Is(serr, destination.ErrNotFound) { // storage that copies was cut before it removed it, or somebody wrote there
			return ends("The whole of it is safe there as " + whole.Remote + ". What lies at " + small.Remote + " now stays: it may be somebody else's.")
		}
	}
	return ends("Removed: the whole of it is safe there as " + whole.Remote + ".")
}

// mostWithdrawals is how often the removal of a small copy is tried.
const mostWithdrawals = 5

// endSmall ends a small copy.
func (u *Upkeep) endSmall(ctx context.Context, small records.Copy, says string) error {
	return u.Records.Queue.Step(context.WithoutCancel(ctx), small.ID, queue.Skipped, says, records.Change{Says: &says, Temp: new(""), Remote: new(""), SHA256: new(""), Proof: new(""), ProvenAt: &time.Time{}, Landed: new(bool), Tries: new(int), NotBefore: &time.Time{}}, time.Now())
}

// leaveSmall leaves what cannot be removed where it is, and tells so.
func (u *Upkeep) leaveSmall(ctx context.Context, name string, small records.Copy, path string, err error) error {
	u.Log.Warn("a small copy stays", "device", u.Device, "destination", name, "path", path, "err", err)
	return u.endSmall(ctx, small, "The whole of it is safe there. What lies at "+path+" cannot be taken away, and stays: "+destination.Sentence(err))
}

// putBack puts what is not ours back in its place, or beside what has the name by now.
func (u *Upkeep) putBack(ctx context.Context, driver destination.Driver, small records.Copy, out string, ends func(string) error) error {
	path := small.Remote
	for try := 1; ; try++ {
		err := driver.Publish(ctx, out, path)
		switch {
		case errors.Is(err, destination.ErrExists):
			path = naming.Clash(small.Remote, small.SHA256, try)
			continue
		case err != nil:
			return err
		}
		return ends("The whole of it is safe there. What lay at " + small.Remote + " was changed in that moment: it is left at " + path + ".")
	}
}

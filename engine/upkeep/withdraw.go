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
func (u *Upkeep) withdrawDue(ctx context.Context, name string, now time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
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
			w := withdrawal{u, driver, small, whole}
			err = w.do(sendCtx)
			if err != nil && (sendCtx.Err() != nil || records.IsFailure(err) || destination.CauseOf(err) == queue.Unreachable ||
				u.Places.Still(sendCtx, name) != nil) {
				return err
			}
			if err != nil && small.Tries+1 >= mostWithdrawals {
				err = w.leave(sendCtx, small.Remote, err)
			}
			if err != nil { // this one alone: the others go on
				u.Log.Warn("a small copy could not be removed; it is tried later", "device", u.Device, "destination", name, "path",
					small.Remote, "err", err)
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

// withdrawal is the removal of one small copy whose whole is safe.
type withdrawal struct {
	*Upkeep
	driver       destination.Driver
	small, whole records.Copy
}

// do removes the small copy, if it is still what was put there and its whole is, too.
func (w withdrawal) do(ctx context.Context) error {
	small, whole, driver := w.small, w.whole, w.driver
	ends := func(says string) error { return w.end(ctx, says) }
	if !small.Landed && small.Temp == "" { // it was there already: it is not ours
		return ends("The whole of it is safe there; the small one may be somebody else's, and stays.")
	}
	switch there, err := isAt(ctx, driver, whole.Remote, whole); {
	case errors.Is(err, destination.ErrNotFound) || err == nil && !there || destination.CauseOf(err) == queue.Refused:
		says := "What was at " + whole.Remote + " is no longer what was proven."
		return w.lost(context.WithoutCancel(ctx), whole.Destination, whole.Remote, says,
			"Find out who changed it. Retry sends it again while the file is on the device; the small copy stays until then.")
	case err != nil:
		return err
	}
	leave := func(path string, err error) error { return w.leave(ctx, path, err) }
	out := small.Temp
	if out == "" {
		if shared, err := w.Records.Shelves.HandOn(ctx, small); err != nil {
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
		out = destination.NewWithdrawn(w.Owner)
		if err := w.Records.Shelves.Withdraw(ctx, small.ID, out); err != nil {
			return err
		}
		switch err := driver.Withdraw(ctx, small.Remote, out); {
		case errors.Is(err, destination.ErrUnable), destination.CauseOf(err) == queue.Refused:
			return leave(small.Remote, err)
		case err != nil && !errors.Is(err, destination.ErrNotFound):
			return err
		}
	}
	return w.removeOut(ctx, out)
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

// removeOut removes the small copy when it was taken out of its place to the name out, if it is what
// was put there.
func (w withdrawal) removeOut(ctx context.Context, out string) error {
	small, whole, driver := w.small, w.whole, w.driver
	ends := func(says string) error { return w.end(ctx, says) }
	switch same, err := isAt(ctx, driver, out, small); {
	case errors.Is(err, destination.ErrNotFound): // an earlier try ended before it was taken out, or after it was removed
		if _, serr := driver.Size(ctx, small.Remote); serr == nil {
			return w.Records.Shelves.Withdraw(ctx, small.ID, "")
		} else if !errors.Is(serr, destination.ErrNotFound) {
			return serr
		}
	case destination.CauseOf(err) == queue.Refused:
		return w.leave(ctx, out, err)
	case err != nil:
		return err
	case !same:
		return w.putBack(ctx, out)
	default:
		_, serr := driver.Size(ctx, small.Remote)
		if serr != nil && !errors.Is(serr, destination.ErrNotFound) && destination.CauseOf(serr) != queue.Refused {
			return serr
		}
		if err := driver.Remove(ctx, out); err != nil {
			return err
		}
		// storage that copies was cut before it removed it, or somebody wrote there
		if !errors.Is(serr, destination.ErrNotFound) {
			return ends("The whole of it is safe there as " + whole.Remote + ". What lies at " + small.Remote +
				" now stays: it may be somebody else's.")
		}
	}
	return ends("Removed: the whole of it is safe there as " + whole.Remote + ".")
}

// mostWithdrawals is how often the removal of a small copy is tried.
const mostWithdrawals = 5

// end ends the small copy.
func (w withdrawal) end(ctx context.Context, says string) error {
	return w.Records.Queue.Step(context.WithoutCancel(ctx), w.small.ID, queue.Skipped, says,
		records.Change{Says: &says, Temp: new(""), Remote: new(""), SHA256: new(""), Proof: new(""), ProvenAt: &time.Time{},
			Landed: new(bool), Tries: new(int), NotBefore: &time.Time{}}, time.Now())
}

// leave leaves what cannot be removed where it is, and tells so.
func (w withdrawal) leave(ctx context.Context, path string, err error) error {
	w.Log.Warn("a small copy stays", "device", w.Device, "destination", w.small.Destination, "path", path, "err", err)
	return w.end(ctx, "The whole of it is safe there. What lies at "+path+" cannot be taken away, and stays: "+
		destination.Sentence(err))
}

// putBack puts what is not ours back in its place, or beside what has the name by now.
func (w withdrawal) putBack(ctx context.Context, out string) error {
	small, path := w.small, w.small.Remote
	for try := 1; ; try++ {
		err := w.driver.Publish(ctx, out, path)
		switch {
		case errors.Is(err, destination.ErrExists):
			path = naming.Clash(small.Remote, small.SHA256, try)
			continue
		case err != nil:
			return err
		}
		return w.end(ctx, "The whole of it is safe there. What lay at "+small.Remote+
			" was changed in that moment: it is left at "+path+".")
	}
}

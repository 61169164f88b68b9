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
// destination. A small copy goes only when its whole was seen there this moment, and only
// what has the very bytes that were put there: it is looked at, taken out of its place to
// a name that nobody else writes to, looked at again there, and only then removed. What is
// something else goes back.

// withdrawDue has small copies removed that are of no more use.
func (u *Upkeep) withdrawDue(ctx context.Context, name string, _ time.Time, _ bool) (do func(context.Context) error, next time.Time, err error) {
	if _, _, some, err := u.Records.Superseded(ctx, name); err != nil || !some {
		return nil, time.Time{}, err
	}
	return func(sendCtx context.Context) error {
		for ctx.Err() == nil && !u.Outlook().Quiet(name) {
			small, whole, some, err := u.Records.Superseded(sendCtx, name)
			if err != nil || !some {
				return err
			}
			if err := u.withdraw(sendCtx, name, small, whole); err != nil {
				return err
			}
			u.Tell()
		}
		return nil
	}, time.Time{}, nil
}

// withdraw removes one small copy, if it is still what was put there and its whole is, too.
func (u *Upkeep) withdraw(ctx context.Context, name string, small, whole records.Copy) error {
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	ends := func(says string) error {
		return u.Records.Step(context.WithoutCancel(ctx), small.ID, queue.Skipped, says, records.Change{Says: &says, Temp: new(""), Remote: new(""), SHA256: new(""), Proof: new(""), ProvenAt: &time.Time{}, Landed: new(bool)}, time.Now())
	}
	if !small.Landed && small.Temp == "" { // it was there already: it is not ours
		return ends("The whole of it is safe there; the small one was not put there by Yard Tide, and stays.")
	}
	is := func(path string, c records.Copy) (bool, error) {
		_, err := proof.Take(ctx, driver, path, c.SHA256, c.Bytes, true, true)
		switch {
		case err == nil:
			return true, nil
		case destination.CauseOf(err) == queue.Different:
			return false, nil
		}
		return false, err
	}
	switch there, err := is(whole.Remote, whole); {
	case errors.Is(err, destination.ErrNotFound) || err == nil && !there:
		says := "What was at " + whole.Remote + " is no longer what was proven."
		return u.lost(context.WithoutCancel(ctx), whole, says, "Find out who changed it. Retry sends it again while the file is on the device; the small copy stays until then.")
	case err != nil:
		return err
	}
	out := small.Temp
	if out == "" {
		switch same, err := is(small.Remote, small); {
		case errors.Is(err, destination.ErrNotFound):
			return ends("The whole of it is safe there; the small one was removed by somebody else.")
		case err != nil:
			return err
		case !same:
			return ends("The whole of it is safe there. What lies at " + small.Remote + " is not what was put there: it stays.")
		}
		out = destination.NewWithdrawn(u.Owner)
		if err := u.Records.Withdraw(ctx, small.ID, out); err != nil {
			return err
		}
		if err := driver.Withdraw(ctx, small.Remote, out); err != nil && !errors.Is(err, destination.ErrNotFound) {
			return err
		}
	}
	switch same, err := is(out, small); {
	case errors.Is(err, destination.ErrNotFound): // an earlier try ended before it was taken out, or after it was removed
		if _, serr := driver.Size(ctx, small.Remote); serr == nil {
			return u.Records.Withdraw(ctx, small.ID, "")
		} else if !errors.Is(serr, destination.ErrNotFound) {
			return serr
		}
	case err != nil:
		return err
	case !same:
		return u.putBack(ctx, driver, small, out, ends)
	default:
		if err := driver.Remove(ctx, out); err != nil {
			return err
		}
	}
	return ends("Removed: the whole of it is safe there as " + whole.Remote + ".")
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

package upkeep

import (
	"context"
	"errors"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
	"yardtide/engine/records"
)

// Reprove has the proofs of safe copies taken again: of a sample, or of all
// with 0; at one destination, or at all with "". It is done beside the sends,
// one at a time for each destination, over networks that cost nothing. It
// returns how many are to be proven.
func (u *Upkeep) Reprove(ctx context.Context, name string, sample int64) (int64, error) {
	n, err := u.Records.Proofs.Reprove(ctx, name, sample)
	u.Changed()
	return n, err
}

// StopReproving has no more proofs taken again at a destination, or at all with "".
func (u *Upkeep) StopReproving(ctx context.Context, name string) error {
	err := u.Records.Proofs.StopReproving(ctx, name)
	u.Changed()
	return err
}

// reproveDue has proofs taken again that the keeper wants.
func (u *Upkeep) reproveDue(ctx context.Context, name string, _ time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
	if _, some, err := u.Records.Proofs.ToReprove(ctx, name); err != nil || !some {
		return nil, time.Time{}, err
	}
	return func(sendCtx context.Context) error { return u.reproveAll(sendCtx, ctx, name) }, time.Time{}, nil
}

// reproveAll takes proofs at one destination until there are none to take, or the
// destination fails, or a gate shuts. It begins none after the end of life.
func (u *Upkeep) reproveAll(ctx, life context.Context, name string) error {
	for life.Err() == nil && !u.Outlook().Quiet(name) {
		c, some, err := u.Records.Proofs.ToReprove(life, name)
		if err != nil || !some {
			return err
		}
		if _, err := u.ProveNow(ctx, c); err != nil {
			return err
		}
		u.Places.Mended(name)
		u.Tell()
	}
	return nil
}

// ProveNow takes the proof of a copy again at this moment, and records what it shows. It returns its way, "" where what was
// proven is not there as it was, or its destination came to stand for another place.
func (u *Upkeep) ProveNow(ctx context.Context, c records.Copy) (way string, err error) {
	driver, err := u.Places.Reach(ctx, c.Destination)
	if err != nil {
		return "", err
	}
	at := u.Places.Is(c.Destination)
	way, err = proof.Take(ctx, driver, c.Remote, c.SHA256, c.Bytes, true, true)
	if says := err == nil || errors.Is(err, destination.ErrNotFound) || destination.CauseOf(err) == queue.Different; says {
		if serr := u.Places.Still(ctx, c.Destination); serr != nil {
			return "", serr
		}
		if u.Places.Is(c.Destination) != at { // it is no longer the same place
			return "", nil
		}
	}
	after := context.WithoutCancel(ctx)
	says, todo := "", ""
	switch {
	case err == nil:
		return way, u.Records.Proofs.Proven(after, c.ID, way, time.Now())
	case ctx.Err() != nil:
		return "", context.Cause(ctx)
	case errors.Is(err, destination.ErrNotFound):
		says, todo = proof.Lost(c.Remote, true), "Find out who removed it. Retry sends it again while the file is on "+
			"the device."
	case destination.CauseOf(err) == queue.Different:
		says, todo = proof.Lost(c.Remote, false), "Check the storage's disk and who changed it. Retry sends it again, "+
			"beside what is there."
	default:
		return "", err
	}
	return "", u.lost(after, c.Destination, c.Remote, says, todo)
}

// lost takes every copy that rests on what lay at a path back from safe.
func (u *Upkeep) lost(ctx context.Context, name, path, says, todo string) error {
	n, err := u.Others.Lost(ctx, name, path, says, todo)
	if err == nil {
		u.Log.Error("a copy that was safe is lost", "device", u.Device, "destination", name, "path", path, "copies", n,
			"says", says)
	}
	return err
}

package upkeep

import (
	"context"
	"errors"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
)

// This file looks at what a guest says of others' copies. The word of a guest counts for
// nothing: what lies there is read by a device of the service.

// LookAt sees whether what is called safe at a path is there. Copies that are not are lost, as
// if their own device had seen it. It asks nothing over a network that costs.
func (u *Upkeep) LookAt(ctx context.Context, name, path string) error {
	if u.Outlook().Quiet(name) {
		return nil // whoever asked sends its own beside it in the meantime
	}
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	claimed, err := u.Others.Resting(ctx, name, path)
	if err != nil {
		return err
	}
	for _, is := range claimed {
		_, err := proof.Take(ctx, driver, path, is.SHA256, is.Bytes, true, true)
		missing := errors.Is(err, destination.ErrNotFound)
		switch {
		case err == nil:
			continue
		case !missing && destination.CauseOf(err) != queue.Different:
			return err
		}
		if err := u.Places.Still(ctx, name); err != nil {
			return err
		}
		// All that rest on the path are lost.
		return u.lost(context.WithoutCancel(ctx), name, path, proof.Lost(path, missing),
			"Find out who changed it. Retry sends it again while the file is on the device.")
	}
	return u.lookAtFound(ctx, driver, name, path)
}

// lookAtFound hashes a file that was at the destination before, if it is one of those.
func (u *Upkeep) lookAtFound(ctx context.Context, driver destination.Driver, name, path string) error {
	file, known, err := u.Records.Adopted.FoundAt(ctx, name, path)
	if err != nil || !known {
		return err
	}
	sum, err := proof.Read(ctx, driver, path, file.Size)
	if err != nil && !errors.Is(err, destination.ErrNotFound) {
		return err
	}
	return u.Records.Adopted.SetFound(ctx, name, path, sum, time.Now())
}

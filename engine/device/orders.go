package device

import (
	"context"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Pause holds everything until a time, or until Resume when it is zero.
func (d *Device) Pause(ctx context.Context, until time.Time) error {
	return d.setPause(ctx, gate.PauseState{On: true, Since: time.Now(), Until: until})
}

// Resume ends a pause.
func (d *Device) Resume(ctx context.Context) error { return d.setPause(ctx, gate.PauseState{}) }

func (d *Device) setPause(ctx context.Context, p gate.PauseState) error {
	if err := d.keep(ctx, "pause", p); err != nil {
		return err
	}
	d.mu.Lock()
	d.pause = p
	d.turns++
	d.mu.Unlock()
	d.changed()
	return nil
}

func idsOf(copies []records.Copy) []int64 {
	ids := make([]int64, len(copies))
	for i, c := range copies {
		ids[i] = c.ID
	}
	return ids
}

// SendNow lets items go whatever their gates say. Over a network that costs it
// needs leave: otherwise the error is tell.NeedsMetered and nothing is ordered.
func (d *Device) SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error) {
	c, copies, err := d.MayCost(ctx, keys, metered)
	if err != nil {
		return c, err
	}
	order := records.OrderUnmetered
	if metered {
		order = records.OrderMetered
	}
	_, err = d.Records.Queue.Order(ctx, idsOf(copies), order, time.Now())
	d.changed()
	return c, err
}

// Retry takes up again what is stuck: the items named, or all with none. What a
// destination waits for is tried at once too. It returns how many items.
func (d *Device) Retry(ctx context.Context, keys []string) (int64, error) {
	var ids []int64
	if len(keys) > 0 {
		copies, err := d.CopiesOf(ctx, keys)
		if err != nil {
			return 0, err
		}
		ids = idsOf(copies)
	}
	n, err := d.Records.Queue.Retry(ctx, ids, time.Now())
	d.places.TryAgain("")
	d.changed()
	return n, err
}

// TryAgain has a destination in trouble tried at once.
func (d *Device) TryAgain(name string) {
	d.places.TryAgain(name)
	d.changed()
}

// Trouble is why a destination fails for every copy, and what the keeper can do;
// "" when it does not.
func (d *Device) Trouble(name string) (says, todo string) { return d.places.Trouble(name) }

// PlaceProblem is why what was proven at a destination does not count now, and
// what the keeper can do; "" when it counts.
func (d *Device) PlaceProblem(name string) (says, todo string) { return d.places.Problem(name) }

// StandsFor tells whether a place's identity is the one that a name stands for, as
// far as is known.
func (d *Device) StandsFor(name, id string) bool { return d.places.StandsFor(name, id) }

// SettlePlace is the keeper's answer about a destination whose name has come to
// stand for another place (see place.Places.Settle).
func (d *Device) SettlePlace(ctx context.Context, name string, moved bool) (int64, error) {
	return d.places.Settle(ctx, name, moved)
}

// Reprove has the proofs of safe copies taken again (see upkeep.Upkeep.Reprove).
func (d *Device) Reprove(ctx context.Context, destination string, sample int64) (int64, error) {
	return d.upkeep.Reprove(ctx, destination, sample)
}

// StopReproving has no more proofs taken again at a destination, or at all with "".
func (d *Device) StopReproving(ctx context.Context, destination string) error {
	return d.upkeep.StopReproving(ctx, destination)
}

// Lose takes copies that rest on a path at a destination back from safe.
func (d *Device) Lose(ctx context.Context, destination, path, says, todo string) error {
	_, err := d.Records.Proofs.Lost(ctx, destination, path, says, todo, time.Now())
	d.changed()
	return err
}

// LookAt sees whether what is called safe at a path is there, of whichever device it is.
func (d *Device) LookAt(ctx context.Context, destination, path string) error {
	return d.upkeep.LookAt(ctx, destination, path)
}

// Adopt lists what is at a destination and was not put there by a device of this
// process (see upkeep.Upkeep.Adopt).
func (d *Device) Adopt(ctx context.Context, destination string, found func(wire.Adopted)) (wire.Adopted, error) {
	return d.upkeep.Adopt(ctx, destination, found)
}

package device

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/awake"
	"yardtide/engine/bringback"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Orders are what a device does when it is told.
type Orders struct{ d *Device }

// Pause holds everything until a time, or until Resume when it is zero.
func (o Orders) Pause(ctx context.Context, until time.Time) error {
	return o.setPause(ctx, gate.PauseState{On: true, Since: time.Now(), Until: until})
}

// Resume ends a pause.
func (o Orders) Resume(ctx context.Context) error { return o.setPause(ctx, gate.PauseState{}) }

func (o Orders) setPause(ctx context.Context, p gate.PauseState) error {
	if err := pauseFact.Keep(ctx, &o.d.Records.Facts, p); err != nil {
		return err
	}
	o.d.mu.Lock()
	o.d.pause = p
	o.d.turns++
	o.d.mu.Unlock()
	o.d.changed()
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
func (o Orders) SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error) {
	c, copies, err := o.d.Told.MayCost(ctx, keys, metered)
	if err != nil {
		return c, err
	}
	order := records.OrderUnmetered
	if metered {
		order = records.OrderMetered
	}
	_, err = o.d.Records.Queue.Order(ctx, idsOf(copies), order, time.Now())
	o.d.changed()
	return c, err
}

// Retry takes up again what is stuck: the items named, or all with none. What a
// destination waits for is tried at once too. It returns how many items.
func (o Orders) Retry(ctx context.Context, keys []string) (int64, error) {
	var ids []int64
	if len(keys) > 0 {
		copies, err := o.d.Told.CopiesOf(ctx, keys)
		if err != nil {
			return 0, err
		}
		ids = idsOf(copies)
	}
	n, err := o.d.Records.Queue.Retry(ctx, ids, time.Now())
	o.d.places.TryAgain("")
	o.d.changed()
	return n, err
}

// TryAgain has a destination in trouble tried at once.
func (o Orders) TryAgain(name string) {
	o.d.places.TryAgain(name)
	o.d.changed()
}

// SettlePlace is the keeper's answer about a destination whose name has come to
// stand for another place (see place.Places.Settle).
func (o Orders) SettlePlace(ctx context.Context, name string, moved bool) (int64, error) {
	return o.d.places.Settle(ctx, name, moved)
}

// Reprove has the proofs of safe copies taken again (see upkeep.Upkeep.Reprove).
func (o Orders) Reprove(ctx context.Context, destination string, sample int64) (int64, error) {
	return o.d.upkeep.Reprove(ctx, destination, sample)
}

// StopReproving has no more proofs taken again at a destination, or at all with "".
func (o Orders) StopReproving(ctx context.Context, destination string) error {
	return o.d.upkeep.StopReproving(ctx, destination)
}

// Lose takes copies that rest on a path at a destination back from safe.
func (o Orders) Lose(ctx context.Context, destination, path, says, todo string) error {
	_, err := o.d.Records.Proofs.Lost(ctx, destination, path, says, todo, time.Now())
	o.d.changed()
	return err
}

// LookAt sees whether what is called safe at a path is there, of whichever device it is.
func (o Orders) LookAt(ctx context.Context, destination, path string) error {
	return o.d.upkeep.LookAt(ctx, destination, path)
}

// Adopt lists what is at a destination and was not put there by a device of this
// process (see upkeep.Upkeep.Adopt).
func (o Orders) Adopt(ctx context.Context, destination string, found func(wire.Adopted)) (wire.Adopted, error) {
	return o.d.upkeep.Adopt(ctx, destination, found)
}

// Finish has the system sleep, or go off, when nothing more can go under the plan; until
// then it is kept awake. "" takes that back.
func (o Orders) Finish(_ context.Context, then string) error {
	if o.d.Awake == nil && then != "" {
		return awake.ErrUnable
	}
	switch awake.Then(then) {
	case "", awake.Sleep, awake.Off:
	default:
		return fmt.Errorf("%q is nothing that a device does when it is done; it would be sleep or off", then)
	}
	o.d.waking.finish(awake.Then(then))
	o.d.changed()
	return nil
}

// Bring brings files of an item back from the places at which they are safe.
func (o Orders) Bring(ctx context.Context, order bringback.Order) (bringback.Result, error) {
	folder := o.d.Folder(order.Source)
	if order.Source == "" {
		if !filepath.IsLocal(filepath.FromSlash(order.Folder)) {
			return bringback.Result{}, fmt.Errorf("%q is no folder below that of %s", order.Folder, o.d.Name)
		}
		folder = filepath.Join(o.d.Root, filepath.FromSlash(order.Folder))
	}
	// Whoever orders may be elsewhere: programs read their settings from hidden files.
	for _, f := range append([]bringback.Wanted{{Path: order.Folder}}, order.Files...) {
		if plan.IsHidden(f.Path) {
			return bringback.Result{}, fmt.Errorf("%s: what is hidden is brought to no device; bring it into a folder of the service's computer", f.Path)
		}
	}
	return bringback.Carry(ctx, folder, order.Files, o.d.Driver)
}

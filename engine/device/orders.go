package device

import (
	"context"
	"fmt"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/queue"
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

// copiesOf reads the copies of items by their keys. The error is records.NoItem for
// a key that is none.
func (d *Device) copiesOf(ctx context.Context, keys []string) ([]records.Copy, error) {
	var ids []int64
	for _, key := range keys {
		it, err := d.Records.ByKey(ctx, key)
		if err != nil {
			return nil, err
		}
		ids = append(ids, it.ID)
	}
	of, err := d.Records.CopiesOf(ctx, ids)
	var copies []records.Copy
	for _, id := range ids {
		copies = append(copies, of[id]...)
		delete(of, id) // named twice it is one
	}
	return copies, err
}

func idsOf(copies []records.Copy) []int64 {
	ids := make([]int64, len(copies))
	for i, c := range copies {
		ids[i] = c.ID
	}
	return ids
}

// CostOf tells what sending items now would take, before it is done.
func (d *Device) CostOf(ctx context.Context, keys []string) (wire.Cost, error) {
	copies, err := d.copiesOf(ctx, keys)
	if err != nil {
		return wire.Cost{}, err
	}
	s, _, err := d.situation(ctx)
	if err != nil {
		return wire.Cost{}, err
	}
	return costOf(s, copies), nil
}

func costOf(s gate.Situation, copies []records.Copy) wire.Cost {
	over := s.Now.Network
	c := wire.Cost{Network: over, Left: -1}
	counted := map[int64]bool{}
	away := false
	for _, copy := range copies {
		if copy.State != queue.Waiting && copy.State != queue.Proving {
			continue
		}
		c.Bytes += copy.Bytes
		if !counted[copy.Item] {
			counted[copy.Item] = true
			c.N++
		}
		if copy.State == queue.Proving {
			continue
		}
		away = away || s.Away(copy.Destination)
		if !s.Costs(copy.Destination) {
			continue
		}
		c.Metered = true
		c.Spends += allowance.Cost(copy.Bytes)
		limit := s.Plan.Rules[copy.Rule].AllowanceOver(over)
		if limit.Bytes == 0 {
			continue
		}
		// All rules spend the same bytes: the tightest one counts.
		if left := allowance.Left(limit, s.Accounts[gate.Account{Over: over, Per: limit.Per}]); c.Left < 0 || left < c.Left {
			c.Left = left
		}
	}
	c.Says = costSays(c, away)
	return c
}

func costSays(c wire.Cost, noNetwork bool) string {
	switch {
	case c.N == 0:
		return "Nothing of it waits."
	case noNetwork:
		return "The device has no network; it goes first when there is one."
	case !c.Metered:
		return fmt.Sprintf("It sends %s and costs nothing.", gate.Bytes(c.Bytes))
	}
	says := fmt.Sprintf("It takes up to %s of metered data over %s", gate.Bytes(c.Spends), c.Network.Label())
	if c.Left >= 0 {
		says += fmt.Sprintf("; %s are left of the allowance", gate.Bytes(c.Left))
		if c.Spends > c.Left {
			says += ", which it passes by your order"
		}
	}
	return says + "."
}

// NeedsMetered is the answer to an order that would cost without leave to.
type NeedsMetered struct{ Cost wire.Cost }

func (e NeedsMetered) Error() string {
	return "sending now would cost: " + e.Cost.Says + " Say that it may."
}

// SendNow lets items go whatever their gates say. Over a network that costs it
// needs leave: otherwise the error is NeedsMetered and nothing is ordered.
func (d *Device) SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error) {
	copies, err := d.copiesOf(ctx, keys)
	if err != nil {
		return wire.Cost{}, err
	}
	s, _, err := d.situation(ctx)
	if err != nil {
		return wire.Cost{}, err
	}
	c := costOf(s, copies)
	if c.Metered && !metered {
		return c, NeedsMetered{c}
	}
	order := records.OrderUnmetered
	if metered {
		order = records.OrderMetered
	}
	_, err = d.Records.Order(ctx, idsOf(copies), order, time.Now())
	d.changed()
	return c, err
}

// Retry takes up again what is stuck: the items named, or all with none. What a
// destination waits for is tried at once too. It returns how many items.
func (d *Device) Retry(ctx context.Context, keys []string) (int64, error) {
	var ids []int64
	if len(keys) > 0 {
		copies, err := d.copiesOf(ctx, keys)
		if err != nil {
			return 0, err
		}
		ids = idsOf(copies)
	}
	n, err := d.Records.Retry(ctx, ids, time.Now())
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

// Proving tells how far the proofs are that are taken again at a destination, or at
// all with "".
func (d *Device) Proving(ctx context.Context, destination string) (wire.Proving, error) {
	return d.upkeep.Proving(ctx, destination)
}

// Adopt lists what is at a destination and was not put there by a device of this
// process (see upkeep.Upkeep.Adopt).
func (d *Device) Adopt(ctx context.Context, destination string, found func(wire.Adopted)) (wire.Adopted, error) {
	return d.upkeep.Adopt(ctx, destination, found)
}

package tell

import (
	"context"
	"fmt"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
)

// This file tells what sending now would take.

// CopiesOf reads the copies of items by their keys. The error is records.NoItem for
// a key that is none.
func (t Teller) CopiesOf(ctx context.Context, keys []string) ([]records.Copy, error) {
	var ids []int64
	for _, key := range keys {
		it, err := t.From.ByKey(ctx, key)
		if err != nil {
			return nil, err
		}
		ids = append(ids, it.ID)
	}
	of, err := t.From.CopiesOf(ctx, ids)
	var copies []records.Copy
	for _, id := range ids {
		copies = append(copies, of[id]...)
		delete(of, id) // named twice it is one
	}
	return copies, err
}

// CostOf tells what sending items now would take, before it is done.
func (t Teller) CostOf(ctx context.Context, keys []string) (wire.Cost, error) {
	c, _, err := t.MayCost(ctx, keys, true)
	return c, err
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

// MayCost tells what sending items now would take, and their copies. Over a network that
// costs it needs leave: otherwise the error is NeedsMetered.
func (t Teller) MayCost(ctx context.Context, keys []string, leave bool) (wire.Cost, []records.Copy, error) {
	copies, err := t.CopiesOf(ctx, keys)
	if err != nil {
		return wire.Cost{}, nil, err
	}
	v, err := t.view(ctx)
	if err != nil {
		return wire.Cost{}, nil, err
	}
	c := costOf(v.Situation, copies)
	if c.Metered && !leave {
		return c, nil, NeedsMetered{c}
	}
	return c, copies, nil
}

// NeedsMetered is the answer to an order that would cost without leave to.
type NeedsMetered struct{ Cost wire.Cost }

func (e NeedsMetered) Error() string {
	return "sending now would cost: " + e.Cost.Says + " Say that it may."
}

package tell

import (
	"context"
	"fmt"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/wire"
)

// This file tells what orders reach, and what sending now would take.

// CopiesOf reads the copies of items by their keys. The error is records.NoItem for
// a key that is none.
func (t Teller) CopiesOf(ctx context.Context, keys []string) ([]records.Copy, error) {
	var ids []int64
	for _, key := range keys {
		it, err := t.From.Catalogue.ByKey(ctx, key)
		if err != nil {
			return nil, err
		}
		ids = append(ids, it.ID)
	}
	of, err := t.From.Catalogue.CopiesOf(ctx, ids)
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
		if copy.Shelf != plan.Main || copy.State != queue.Waiting && copy.State != queue.Proving {
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
		return fmt.Sprintf("It sends %s and costs nothing.", words.Bytes(c.Bytes))
	}
	says := fmt.Sprintf("It takes up to %s of metered data over %s", words.Bytes(c.Spends), c.Network.Label())
	if c.Left >= 0 {
		says += fmt.Sprintf("; %s are left of the allowance", words.Bytes(c.Left))
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

// Stuck is how many copies the order to take up again what is stuck reaches: of the items
// named, or of all with none.
func (t Teller) Stuck(ctx context.Context, keys []string) (n int64, err error) {
	if len(keys) == 0 {
		return t.inState(ctx, queue.Stuck, "")
	}
	copies, err := t.CopiesOf(ctx, keys)
	for _, c := range copies {
		if c.State == queue.Stuck || c.State == queue.Waiting && c.NotBeforeMS > 0 {
			n++
		}
	}
	return n, err
}

// Safe is how many copies are safe at a destination, or at all with "".
func (t Teller) Safe(ctx context.Context, destination string) (int64, error) {
	return t.inState(ctx, queue.Safe, destination)
}

func (t Teller) inState(ctx context.Context, state queue.State, destination string) (n int64, err error) {
	counters, err := t.From.Queue.Counters(ctx)
	for _, c := range counters {
		if c.State == state && (destination == "" || destination == c.Destination) {
			n += c.N
		}
	}
	return n, err
}

// Proving tells how far the proofs are that are taken again at a destination, or at
// all with "".
func (t Teller) Proving(ctx context.Context, destination string) (p wire.Proving, err error) {
	counts, err := t.From.Proofs.Reproving(ctx)
	if err != nil {
		return p, err
	}
	if p.Stuck, err = t.inState(ctx, queue.Stuck, destination); err != nil {
		return p, err
	}
	s := t.Beside().Outlook(t.Of, time.Now())
	for name, n := range counts {
		if destination != "" && destination != name {
			continue
		}
		p.Left += n
		if s.Quiet(name) {
			p.Held += n
		}
	}
	return p, nil
}

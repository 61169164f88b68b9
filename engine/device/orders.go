package device

import (
	"context"
	"fmt"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
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

// Cost is what sending some copies now would take.
type Cost struct {
	Amount
	Network plan.Network `json:"network"`
	Metered bool         `json:"metered" doc:"The network costs"`
	Spends  int64        `json:"spends" doc:"Metered bytes that it would take at most, 0 over a network that costs nothing"`
	Left    int64        `json:"left" doc:"What is left of the allowances concerned, -1 without one"`
	Says    string       `json:"says"`
}

// CostOf tells what sending copies now would take, before it is done.
func (d *Device) CostOf(ctx context.Context, ids []int64) (Cost, error) {
	d.mu.Lock()
	p, now := d.plan, d.now
	d.mu.Unlock()
	c := Cost{Network: now.Network, Left: -1}
	rules := map[string]bool{}
	networked := false
	for _, id := range ids {
		copy, ok, err := d.Records.Copy(ctx, id)
		if err != nil {
			return c, err
		}
		if !ok || copy.State != queue.Waiting && copy.State != queue.Proving {
			continue
		}
		c.Amount = c.plus(1, copy.Bytes)
		if !p.Destinations[copy.Destination].Networked() || copy.State == queue.Proving {
			continue
		}
		networked = true
		if !now.Costs() {
			continue
		}
		c.Metered = true
		c.Spends += allowance.Cost(copy.Bytes)
		limit := p.Rules[copy.Rule].AllowanceOver(now.Network)
		if limit.Bytes == 0 || rules[copy.Rule] {
			continue
		}
		rules[copy.Rule] = true
		a, err := d.Records.Account(ctx, now.Network, d.periodOf(p, copy.Rule, now.Network, time.Now()))
		if err != nil {
			return c, err
		}
		// All rules spend the same bytes: the tightest one counts.
		if left := allowance.Left(limit, a); c.Left < 0 || left < c.Left {
			c.Left = left
		}
	}
	c.Says = costSays(c, networked && now.Network == plan.NoNetwork)
	return c, nil
}

func costSays(c Cost, noNetwork bool) string {
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
type NeedsMetered struct{ Cost Cost }

func (e NeedsMetered) Error() string {
	return "sending now would cost: " + e.Cost.Says + " Say that it may."
}

// SendNow lets copies go whatever their gates say. Over a network that costs
// it needs leave: otherwise the error is NeedsMetered and nothing is ordered.
func (d *Device) SendNow(ctx context.Context, ids []int64, metered bool) (Cost, error) {
	c, err := d.CostOf(ctx, ids)
	if err != nil {
		return c, err
	}
	if c.Metered && !metered {
		return c, NeedsMetered{c}
	}
	order := records.OrderUnmetered
	if metered {
		order = records.OrderMetered
	}
	c.N, err = d.Records.Order(ctx, ids, order, time.Now())
	d.changed()
	return c, err
}

// Retry takes stuck copies up again: those named, or all with nil. What a
// destination waits for is tried at once too.
func (d *Device) Retry(ctx context.Context, ids []int64) (int64, error) {
	n, err := d.Records.Retry(ctx, ids, time.Now())
	d.mu.Lock()
	for _, t := range d.troubles {
		t.until = time.Time{}
	}
	d.mu.Unlock()
	d.changed()
	return n, err
}

// TryAgain has a destination in trouble tried at once.
func (d *Device) TryAgain(name string) {
	d.mu.Lock()
	if t := d.troubles[name]; t != nil {
		t.until = time.Time{}
	}
	d.mu.Unlock()
	d.changed()
}

// Filter narrows a page; empty fields take everything.
type Filter struct {
	State queue.State
	Kind  media.Kind
	Hold  gate.Name // waiting and proving copies that this gate holds
}

// Page lists copies, newest first, after a cursor.
func (d *Device) Page(ctx context.Context, f Filter, after records.Cursor, limit int) ([]records.Copy, error) {
	now := time.Now()
	of := func(c records.Counter) bool {
		return (f.State == "" || d.shown(c.State, c.Destination) == f.State) && (f.Kind == "" || c.Kind == f.Kind) && (f.Hold == "" || d.held(c, f.Hold, now))
	}
	var retrying *bool
	if f.Hold != "" {
		retrying = new(bool)
		*retrying = f.Hold == gate.Retry
	}
	return d.Records.Page(ctx, of, retrying, after, limit, now)
}

// held tells whether a gate holds copies of a counter.
func (d *Device) held(c records.Counter, name gate.Name, now time.Time) bool {
	if d.shown(c.State, c.Destination) != c.State {
		return name == gate.Place
	}
	switch c.State {
	case queue.Waiting:
		if name == gate.Retry {
			return true // the page leaves only those that wait for a time
		}
		holds, _ := d.holds(c.Class, now)
		return len(holds) > 0 && holds[0].Gate == name
	case queue.Proving:
		h, shut := d.proofHold(c.Class)
		return shut && h.Gate == name
	}
	return false
}

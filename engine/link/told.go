package link

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/room"
	"yardtide/core/words"
	"yardtide/engine/tell"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file tells of a device elsewhere, as it was told last.

// Told is what is told of a device elsewhere.
type Told struct{ m *Mirror }

// teller tells of the device as it was told last, under the plan in force.
func (t Told) teller() tell.Teller {
	t.m.mu.Lock()
	defer t.m.mu.Unlock()
	known := t.m.told.Known
	known.Plan = t.m.plan.On(t.m.DeviceName())
	if known.Places == nil {
		known.Places = map[string]gate.At{}
	}
	now, from := time.Now(), t.m.now
	if !t.m.told.connected(now) {
		known.Sends = nil // what was on its way when it was heard of last
		if known.Plan.Devices[t.m.DeviceName()].InFrontOnly {
			known.Stopped = gate.Hold{Gate: gate.Front, Since: t.m.told.Heard, You: true,
				Says: words.WorksInFront(t.m.DeviceName())}
		}
	}
	teller := tell.Teller{Of: t.m.DeviceName(), From: from}
	teller.Beside = func() tell.Known {
		if known.Stopped.Gate != "" {
			if open, err := teller.OpenADay(context.Background(), now); err == nil {
				known.Stopped.Says += words.OpenADay(open)
			}
		}
		return known
	}
	return teller
}

// Status tells how the device stands, and when that was.
func (t Told) Status(ctx context.Context) (wire.Device, error) {
	d, err := t.teller().Status(ctx)
	if err == nil {
		err = t.doubtStatus(ctx, &d)
	}
	if err == nil {
		d.Link, err = t.link(ctx, d)
	}
	if t.m.spoiled(ctx, err) {
		return t.m.unreadableDevice(), nil
	}
	return d, err
}

// MayGo chooses what may go from the device to make room, by what it told last.
func (t Told) MayGo(ctx context.Context, w room.Want, lately time.Time) (room.Choice, []room.Disk, error) {
	c, disks, err := t.teller().MayGo(ctx, w, lately)
	if t.m.spoiled(ctx, err) {
		return room.Choice{}, nil, nil
	}
	return c, disks, err
}

// Cleared tells what went from the device.
func (t Told) Cleared(ctx context.Context) (tell.Cleared, error) {
	c, err := t.teller().Cleared(ctx)
	if t.m.spoiled(ctx, err) {
		return tell.Cleared{}, nil
	}
	return c, err
}

// ClearedFiles lists files that went.
func (t Told) ClearedFiles(ctx context.Context, held bool, below int64, limit int) ([]tell.ClearedFile, error) {
	list, err := t.teller().ClearedFiles(ctx, held, below, limit)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return list, err
}

// Items lists items, newest first.
func (t Told) Items(ctx context.Context, f wire.Filter) ([]wire.Item, error) {
	items, err := t.teller().Items(ctx, f)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return t.doubtItems(items), err
}

// ItemsOf lists items by their numbers.
func (t Told) ItemsOf(ctx context.Context, ids []int64) ([]wire.Item, error) {
	items, err := t.teller().ItemsOf(ctx, ids)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return t.doubtItems(items), err
}

// Lying tells where items lie.
func (t Told) Lying(ctx context.Context, ids []int64) ([]tell.Lying, error) {
	list, err := t.teller().Lying(ctx, ids)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return list, err
}

// Feed tells an index of the items.
func (t Told) Feed(ctx context.Context, f *tell.Feed, into tell.Into) error {
	err := t.teller().Feed(ctx, f, into)
	if t.m.spoiled(ctx, err) {
		return nil
	}
	return err
}

// Find lists items by name, path, or part of a name.
func (t Told) Find(ctx context.Context, text string, limit int) ([]wire.Item, error) {
	items, err := t.teller().Find(ctx, text, limit)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return t.doubtItems(items), err
}

// Story tells an item and all that happened to it.
func (t Told) Story(ctx context.Context, key string) (wire.Story, error) {
	story, err := t.teller().Story(ctx, key)
	if err == nil {
		story.Item = t.doubtItems([]wire.Item{story.Item})[0]
	}
	return story, err
}

// Day tells what it sensed and sent in the day of an instant, as far as it was told.
func (t Told) Day(ctx context.Context, in time.Time) (wire.DeviceDay, error) {
	return t.teller().Day(ctx, in)
}

// TryPlan tells what a plan would do to its items, as far as they were told.
func (t Told) TryPlan(ctx context.Context, p *plan.Plan) (tell.Tried, error) {
	tried, err := t.teller().TryPlan(ctx, p)
	if t.m.spoiled(ctx, err) {
		return tell.Tried{TriedDevice: planwire.TriedDevice{Device: t.m.DeviceName(), New: []planwire.TriedKind{},
			Left: []planwire.TriedKind{}, Today: []planwire.TriedWay{}, Then: []planwire.TriedWay{}, Unknown: []string{}}}, nil
	}
	return tried, err
}

// CostOf tells what sending items now would take, as far as was told.
func (t Told) CostOf(ctx context.Context, keys []string) (wire.Cost, error) {
	return t.teller().CostOf(ctx, keys)
}

// Held tells what its sources and rules hold, as far as was told.
func (t Told) Held(ctx context.Context) (planwire.PlanHeld, error) {
	held, err := t.teller().Held(ctx)
	if t.m.spoiled(ctx, err) {
		return planwire.PlanHeld{}, nil
	}
	return held, err
}

// Doubts tells what a plan allows on it and was hardly meant, as far as was told.
func (t Told) Doubts(ctx context.Context, p *plan.Plan) ([]words.Doubt, error) {
	doubts, err := t.teller().Doubts(ctx, p)
	if t.m.spoiled(ctx, err) {
		return nil, nil
	}
	return doubts, err
}

// link tells how the device and its service stand.
func (t Told) link(ctx context.Context, d wire.Device) (*wire.DeviceLink, error) {
	network, name, until, err := t.m.Records().Journal.LastOn(ctx)
	if err != nil {
		return nil, err
	}
	t.m.mu.Lock()
	defer t.m.mu.Unlock()
	now := time.Now()
	l := &wire.DeviceLink{
		Heard: t.m.told.Heard, Connected: t.m.told.connected(now), Ahead: int64(t.m.told.Ahead / time.Second),
		Version: t.m.told.Version,
		Follows: t.m.mark != "" && t.m.told.Plan == t.m.mark, Telling: t.m.next != nil, Reached: []wire.Reached{},
	}
	l.Silent = now.Sub(l.Heard) > t.m.plan.SilentAfterOrDefault() && !l.Heard.IsZero()
	l.Says = linkSays(*l)
	if !l.Connected && network != "" {
		on := plan.Network(network).Label()
		if name != "" {
			on += " (" + name + ")"
		}
		if until.IsZero() {
			until = l.Heard
		}
		l.Says += fmt.Sprintf(" It was last on %s, until %s.", on, until.Format("15:04 on 2 January"))
	}
	if n := d.States[queue.Waiting].N; l.Silent && n > 0 {
		l.Says += " " + words.Things(n, d.Kinds...) + " waited on it then."
	}
	for _, name := range slices.Sorted(maps.Keys(t.m.told.Known.Stands)) {
		if t.m.plan.SendsTo(t.m.DeviceName(), name) {
			l.Reached = append(l.Reached, wire.Reached{Destination: name, At: t.m.told.Known.Stands[name].Seen,
				Says: t.m.told.Known.Places[name].Failing.Says})
		}
	}
	return l, nil
}

func linkSays(l wire.DeviceLink) string {
	switch {
	case l.Heard.IsZero():
		return "Not heard of yet."
	case !l.Connected:
		return "Last heard of at " + l.Heard.Format("15:04 on 2 January") + "; what is told of it is from then."
	case l.Telling:
		return "Tells everything anew; what is told of it may be older."
	}
	return "In touch."
}

// Proving tells how far the proofs are that are taken again.
func (t Told) Proving(ctx context.Context, destination string) (wire.Proving, error) {
	return t.teller().Proving(ctx, destination)
}

// Trouble is why a destination fails for every copy, as the device told.
func (t Told) Trouble(name string) (says, todo string) {
	at := t.at(name)
	return at.Failing.Says, at.Failing.Todo
}

// PlaceProblem is why what was proven at a destination does not count, as the device told.
func (t Told) PlaceProblem(name string) (says, todo string) {
	at := t.at(name)
	if !at.Moved.You {
		return "", ""
	}
	return at.Moved.Says, at.MovedTodo
}

func (t Told) at(name string) gate.At {
	t.m.mu.Lock()
	defer t.m.mu.Unlock()
	return t.m.told.Known.Places[name]
}

// Counts tells whether what it proved at a destination counts there.
func (t Told) Counts(name string) bool { return t.at(name).Moved.Gate == "" }

// StandsFor tells whether a place's identity is the one that a name stands for, as far as
// is known.
func (t Told) StandsFor(name, id string) bool {
	t.m.mu.Lock()
	defer t.m.mu.Unlock()
	is := t.m.told.Known.Stands[name].ID
	return is == "" || is == id
}

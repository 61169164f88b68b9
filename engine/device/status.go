package device

import (
	"cmp"
	"context"
	"slices"
	"time"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// largeSend is the size from which a send says that it cannot go on.
const largeSend = 32 << 20

// Status tells how the device stands, in items. It reads counters only: it costs
// the same with ten items and with a million.
func (d *Device) Status(ctx context.Context) (wire.Device, error) {
	standings, err := d.Records.Standings(ctx)
	if err != nil {
		return wire.Device{}, err
	}
	now := time.Now()
	retries, err := d.retries(ctx, now)
	if err != nil {
		return wire.Device{}, err
	}
	s := wire.Device{Name: d.Name, States: map[queue.State]wire.Amount{}, Sends: d.sending(now), Sources: []wire.Source{}}
	d.mu.Lock()
	s.Conditions, s.Pause, s.Problem = d.now, d.pause, d.problem
	s.Pause.On = s.Pause.Active(now)
	p := d.plan
	for _, src := range p.Devices[d.Name].Sources {
		one := wire.Source{Folder: src.Folder, Path: d.Folder(src.Folder), Rule: src.Rule, Problems: []wire.Problem{}}
		if known := d.sources[src.Folder]; known != nil {
			one.Scanned = known.scanned
			for _, problem := range known.problems {
				one.Problems = append(one.Problems, wire.Problem(problem))
			}
		}
		s.Sources = append(s.Sources, one)
	}
	active := map[queue.Class]int64{} // proofs that are being taken hold nothing up
	for _, c := range d.active {
		if c.copy.State == queue.Proving {
			active[c.copy.Class]++
		}
	}
	d.mu.Unlock()
	holds := holdGroups{}
	for _, st := range standings {
		state, safe := d.together(st.Kind, st.Copies)
		s.States[state] = s.States[state].Plus(st.N, st.Bytes)
		if safe && state != queue.Safe {
			s.Partly = s.Partly.Plus(st.N, st.Bytes)
		}
		if d.addHolds(holds, st, retries, active, now) {
			s.Going = s.Going.Plus(st.N, st.Bytes)
		}
	}
	s.Holds = holds.sorted(d.Name)
	if s.Lanes, err = d.lanes(ctx, p, now); err != nil {
		return wire.Device{}, err
	}
	return s, nil
}

// together is the state of items that stand alike, and whether they lie proven
// somewhere. Copies that the plan no longer asks for count only where it asks for
// none.
func (d *Device) together(kind media.Kind, copies []records.Stand) (state queue.State, somewhere bool) {
	p := d.currentPlan()
	var asked, all []queue.State
	for _, c := range copies {
		state := d.shown(c.State, c.Destination)
		somewhere = somewhere || state == queue.Safe
		all = append(all, state)
		if rule := p.Rules[c.Rule]; slices.Contains(rule.To, c.Destination) && slices.Contains(rule.Take, kind) {
			asked = append(asked, state)
		}
	}
	if len(asked) == 0 {
		asked = all
	}
	return queue.Together(asked), somewhere
}

// retryKey names the copies that wait for their next try.
type retryKey struct {
	standing    int64
	destination string
}

func (d *Device) retries(ctx context.Context, now time.Time) (map[retryKey]records.Retrying, error) {
	rows, err := d.Records.Retries(ctx, now)
	retries := make(map[retryKey]records.Retrying, len(rows))
	for _, r := range rows {
		retries[retryKey{r.Standing, r.Destination}] = r
	}
	return retries, err
}

// addHolds adds the reasons for which items that stand alike wait. going tells
// whether a copy of theirs waits that nothing holds.
func (d *Device) addHolds(holds holdGroups, st records.Standing, retries map[retryKey]records.Retrying, active map[queue.Class]int64, now time.Time) (going bool) {
	one := holdGroups{} // an item that waits for one reason at two places waits once
	for _, c := range st.Copies {
		class := c.Class(st.Kind)
		all := wire.Amount{N: st.N, Bytes: st.Bytes}
		if d.shown(c.State, c.Destination) != c.State {
			d.mu.Lock()
			hold := d.placeHold(c.Destination)
			d.mu.Unlock()
			_, todo := d.PlaceProblem(c.Destination)
			one.add(hold, todo, st.Kind, c.Destination, all)
			continue
		}
		switch c.State {
		case queue.Waiting:
			if r, some := retries[retryKey{st.ID, c.Destination}]; some {
				one.add(retryHold(records.FromMS(r.NextMS)), "", st.Kind, c.Destination, wire.Amount{N: r.N, Bytes: r.Bytes})
				all = all.Plus(-r.N, -r.Bytes)
			}
			if all.N <= 0 {
				continue
			}
			if shut, todo := d.holds(class, now); len(shut) > 0 {
				one.add(shut[0], todo, st.Kind, c.Destination, all)
			} else {
				going = true
			}
		case queue.Proving:
			busy := min(active[class], all.N)
			active[class] -= busy
			if all.N == busy {
				continue
			}
			if busy > 0 {
				all = wire.Amount{N: all.N - busy, Bytes: all.Bytes / all.N * (all.N - busy)}
			}
			if hold, shut := d.proofHold(class); shut {
				one.add(hold, "", st.Kind, c.Destination, all)
			}
		}
	}
	holds.join(one)
	return going
}

// holdGroups gathers why items wait: what one gate says is one group, whatever
// kinds and places it concerns.
type holdGroups map[holdKey]*wire.HoldGroup

type holdKey struct {
	gate  gate.Name
	says  string
	opens int64
}

// add adds a reason of one item's copy at a destination. Added twice, it is the
// same item.
func (g holdGroups) add(h gate.Hold, todo string, kind media.Kind, to string, amount wire.Amount) {
	key := holdKey{h.Gate, h.Says, h.Opens.UnixNano()}
	group := g[key]
	if group == nil {
		group = &wire.HoldGroup{Hold: h, Todo: todo, Kinds: []media.Kind{kind}}
		g[key] = group
	}
	if amount.N > group.N {
		group.Amount = amount
	}
	group.Destinations = append(group.Destinations, to) // once for each: they are one item's
}

// join adds the reasons of other items.
func (g holdGroups) join(other holdGroups) {
	for key, o := range other {
		if group := g[key]; group != nil {
			group.Join(*o)
		} else {
			g[key] = o
		}
	}
}

// sorted lists the groups of a device, the largest first.
func (g holdGroups) sorted(device string) []wire.HoldGroup {
	list := make([]wire.HoldGroup, 0, len(g))
	for _, group := range g {
		group.Devices = []string{device}
		list = append(list, *group)
	}
	slices.SortFunc(list, wire.HoldGroup.Compare)
	return list
}

// shown is the state in which a copy counts: what was proven at another place than
// its destination's name stands for counts as owing its proof.
func (d *Device) shown(state queue.State, name string) queue.State {
	d.mu.Lock()
	defer d.mu.Unlock()
	if state == queue.Safe && !d.settled(name) {
		return queue.Proving
	}
	return state
}

func (d *Device) sending(now time.Time) []wire.Send {
	d.mu.Lock()
	defer d.mu.Unlock()
	sends := []wire.Send{}
	for _, c := range d.active {
		sent := c.meter.from.Load() + c.meter.n.Load()
		s := wire.Send{Item: d.Records.Key(c.copy.Item), Name: c.copy.Name, Kind: c.copy.Kind, Destination: c.copy.Destination, State: c.copy.State, Bytes: c.copy.Bytes, Sent: sent, Metered: c.metered}
		if took := now.Sub(c.started).Seconds(); took > 0.5 && !c.proving {
			s.Rate = int64(float64(c.meter.n.Load()) / took)
		}
		if r, able := c.driver.(destination.Resumer); s.Bytes >= largeSend && s.State == queue.Sending {
			s.BeginsAnew = !able || !r.Resumes()
		}
		sends = append(sends, s)
	}
	slices.SortFunc(sends, func(a, b wire.Send) int {
		return cmp.Or(cmp.Compare(a.Item, b.Item), cmp.Compare(a.Destination, b.Destination))
	})
	return sends
}

// Sends tells what is on its way, cheaply.
func (d *Device) Sends() []wire.Send { return d.sending(time.Now()) }

func retryHold(next time.Time) gate.Hold {
	return gate.Hold{Gate: gate.Retry, Says: "Waits a little after a failed try.", Opens: next}
}

// holds tells why a class waits: its destination's trouble, or its shut gates.
func (d *Device) holds(class queue.Class, now time.Time) (holds []gate.Hold, todo string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	v, decided := d.verdicts[class]
	t := d.troubles[class.Destination]
	switch {
	case decided && !v.Open() && len(v.Holds) > 0 && v.Holds[0].Gate == gate.Space:
		return v.Holds, spaceTodo
	case decided && !v.Open():
		return v.Holds, ""
	case t != nil:
		return []gate.Hold{t.hold(class.Destination)}, t.todo
	}
	return nil, ""
}

// Trouble is why a destination fails for every copy, and what the keeper can do;
// "" when it does not.
func (d *Device) Trouble(name string) (says, todo string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	t := d.troubles[name]
	if t == nil {
		return "", ""
	}
	return t.says, t.todo
}

// hold is what a trouble at a destination holds copies with.
func (t *trouble) hold(destination string) gate.Hold {
	return gate.Hold{Gate: gate.Trouble, Says: destination + ": " + t.says, Since: t.since, Opens: t.until, You: t.you}
}

// proofHold tells why proofs of a class are owed.
func (d *Device) proofHold(class queue.Class) (gate.Hold, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	networked := d.plan.Destinations[class.Destination].Networked()
	t := d.troubles[class.Destination]
	switch {
	case !networked && t == nil:
		return gate.Hold{}, false
	case networked && (d.now.Costs() || d.now.Network == plan.NoNetwork):
		return gate.Hold{Gate: gate.Proof, Says: "Sent; its proof is read back when a network is there that costs nothing.", Since: d.now.NetworkSince}, true
	case t != nil:
		return t.hold(class.Destination), true
	case d.pause.Active(time.Now()):
		return gate.Hold{Gate: gate.Pause, Says: "Paused by you.", Since: d.pause.Since, Opens: d.pause.Until}, true
	}
	return gate.Hold{}, false
}

// lanes tells every lane of the plan that matters to this device.
func (d *Device) lanes(ctx context.Context, p *plan.Plan, now time.Time) ([]wire.Lane, error) {
	lanes := []wire.Lane{}
	seen := map[queue.Class]bool{}
	for _, src := range p.Devices[d.Name].Sources {
		rule := p.Rules[src.Rule]
		for _, destination := range rule.To {
			for _, kind := range rule.Take {
				class := queue.Class{Rule: src.Rule, Kind: kind, Destination: destination}
				if seen[class] {
					continue
				}
				seen[class] = true
				v, err := d.decide(ctx, class, now)
				if err != nil {
					return nil, err
				}
				for i, lane := range rule.Lanes {
					if !lane.Takes(kind) {
						continue
					}
					limit := rule.AllowanceOver(lane.Over)
					one := wire.Lane{Rule: src.Rule, Kind: kind, Destination: destination, Over: lane.Over, Limit: limit.Bytes, Per: limit.Per, Holds: []gate.Hold{}}
					if i < len(v.Lanes) {
						one.Holds = append(one.Holds, v.Lanes[i].Holds...)
					} else {
						one.Holds = append(one.Holds, v.Holds...) // paused
					}
					one.Open = len(one.Holds) == 0
					if limit.Bytes > 0 {
						a, err := d.Records.Account(ctx, lane.Over, d.periodOf(p, src.Rule, lane.Over, now))
						if err != nil {
							return nil, err
						}
						one.Spent = a.Spent + a.Reserved
					}
					lanes = append(lanes, one)
				}
			}
		}
	}
	return lanes, nil
}

// why tells why a copy is where it is: its holds while it waits or owes a
// proof, none when it goes or rests.
func (d *Device) why(c records.Copy, now time.Time) (holds []gate.Hold, todo string) {
	d.mu.Lock()
	_, going := d.active[c.ID]
	d.mu.Unlock()
	if going {
		return nil, ""
	}
	until := records.FromMS(c.NotBeforeMS)
	retry := func() []gate.Hold {
		h := retryHold(until)
		h.Says, h.Since = c.Says+" It is tried again.", records.FromMS(c.ChangedMS)
		return []gate.Hold{h}
	}
	switch {
	case d.shown(c.State, c.Destination) != c.State:
		_, todo := d.PlaceProblem(c.Destination)
		d.mu.Lock()
		defer d.mu.Unlock()
		return []gate.Hold{d.placeHold(c.Destination)}, todo
	case c.State == queue.Waiting && until.After(now):
		return retry(), ""
	case c.State == queue.Waiting:
		if holds, todo = d.holds(c.Class, now); len(holds) > 0 {
			return holds, todo
		}
		return d.tooLarge(c, now), ""
	case c.State == queue.Proving:
		if h, shut := d.proofHold(c.Class); shut {
			return []gate.Hold{h}, ""
		}
		if until.After(now) {
			return retry(), ""
		}
	}
	return nil, c.Todo
}

// tooLarge tells whether the rest of the open lane's allowance can carry a copy.
func (d *Device) tooLarge(c records.Copy, now time.Time) []gate.Hold {
	d.mu.Lock()
	v, p := d.verdicts[c.Class], d.plan
	d.mu.Unlock()
	if !v.Open() || len(v.Lanes) == 0 || v.Lanes[v.Lane].Left < 0 || allowance.Cost(c.Bytes) <= v.Lanes[v.Lane].Left {
		return nil
	}
	lanes := p.Rules[c.Rule].Lanes
	if v.Lane >= len(lanes) {
		return nil
	}
	lane := lanes[v.Lane]
	lane.Allowance = p.Rules[c.Rule].AllowanceOver(lane.Over)
	return []gate.Hold{gate.TooLarge(lane, v.Lanes[v.Lane].Left, c.Bytes, now, p.Zone(d.Name))}
}

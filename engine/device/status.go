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
	"yardtide/engine/scan"
)

// Amount is a number of copies and their bytes.
type Amount struct {
	N     int64 `json:"n"`
	Bytes int64 `json:"bytes"`
}

func (a Amount) plus(n, bytes int64) Amount { return Amount{a.N + n, a.Bytes + bytes} }

// Status is a device at one moment.
type Status struct {
	Name       string                 `json:"name"`
	Conditions gate.Conditions        `json:"conditions"`
	Pause      gate.PauseState        `json:"pause"`
	States     map[queue.State]Amount `json:"states" doc:"Copies by state; absent is none"`
	Going      Amount                 `json:"going" doc:"Waiting copies that no gate holds"`
	Holds      []HoldGroup            `json:"holds" doc:"Why copies wait, the largest group first"`
	Sends      []Send                 `json:"sends"`
	Lanes      []LaneStatus           `json:"lanes"`
	Sources    []SourceStatus         `json:"sources"`
	Problem    string                 `json:"problem" doc:"Why the device cannot work, empty when it can"`
}

// HoldGroup is the copies that wait for one reason.
type HoldGroup struct {
	gate.Hold
	Amount
	Todo string `json:"todo" doc:"What the keeper can do, empty when it mends itself"`
}

// Send is a copy on its way right now.
type Send struct {
	Copy        int64       `json:"copy"`
	Name        string      `json:"name"`
	Kind        media.Kind  `json:"kind"`
	Destination string      `json:"destination"`
	State       queue.State `json:"state"`
	Bytes       int64       `json:"bytes"`
	Sent        int64       `json:"sent"`
	Rate        int64       `json:"rate" doc:"Bytes a second since it began, 0 while it is not known"`
	Metered     bool        `json:"metered"`
	BeginsAnew  bool        `json:"beginsAnew" doc:"It is large, and this storage cannot go on after a cut: it would begin anew"`
}

// largeSend is the size from which a send says that it cannot go on.
const largeSend = 32 << 20

// LaneStatus is one lane of a rule for one kind and whether it is open now.
type LaneStatus struct {
	Rule        string       `json:"rule"`
	Kind        media.Kind   `json:"kind"`
	Destination string       `json:"destination"`
	Over        plan.Network `json:"over"`
	Open        bool         `json:"open"`
	Holds       []gate.Hold  `json:"holds"`
	Limit       int64        `json:"limit" doc:"The allowance in bytes, 0 without one"`
	Per         plan.Period  `json:"per" doc:"The allowance's period"`
	Spent       int64        `json:"spent" doc:"Bytes spent or reserved in this period"`
}

// SourceStatus is a source and how its last scan went.
type SourceStatus struct {
	Folder   string         `json:"folder"`
	Path     string         `json:"path"`
	Rule     string         `json:"rule"`
	Scanned  time.Time      `json:"scanned,omitzero" doc:"Absent before the first scan ended"`
	Problems []scan.Problem `json:"problems"`
}

// Status tells how the device stands. It reads counters only: it costs the
// same with ten copies and with a million.
func (d *Device) Status(ctx context.Context) (Status, error) {
	counters, err := d.Records.Counters(ctx)
	if err != nil {
		return Status{}, err
	}
	now := time.Now()
	s := Status{Name: d.Name, States: map[queue.State]Amount{}, Holds: []HoldGroup{}, Sends: d.sending(now), Sources: []SourceStatus{}}
	d.mu.Lock()
	s.Conditions, s.Pause, s.Problem = d.now, d.pause, d.problem
	s.Pause.On = s.Pause.Active(now)
	p := d.plan
	for _, src := range p.Devices[d.Name].Sources {
		one := SourceStatus{Folder: src.Folder, Path: d.Folder(src.Folder), Rule: src.Rule, Problems: []scan.Problem{}}
		if known := d.sources[src.Folder]; known != nil {
			one.Scanned = known.scanned
			one.Problems = append(one.Problems, known.problems...)
		}
		s.Sources = append(s.Sources, one)
	}
	active := map[queue.Class]Amount{}
	for _, c := range d.active {
		if c.copy.State == queue.Proving {
			active[c.copy.Class] = active[c.copy.Class].plus(1, c.copy.Bytes)
		}
	}
	d.mu.Unlock()
	for _, c := range counters {
		state := d.shown(c.State, c.Destination)
		s.States[state] = s.States[state].plus(c.N, c.Bytes)
		if state != c.State {
			d.mu.Lock()
			hold := d.placeHold(c.Destination)
			d.mu.Unlock()
			_, todo := d.PlaceProblem(c.Destination)
			s.addHold(hold, todo, c.N, c.Bytes)
			continue
		}
		switch c.State {
		case queue.Waiting:
			if err := d.addWaiting(ctx, &s, c, now); err != nil {
				return Status{}, err
			}
		case queue.Proving:
			busy := active[c.Class]
			if hold, shut := d.proofHold(c.Class); shut && c.N > busy.N {
				s.addHold(hold, "", c.N-busy.N, c.Bytes-busy.Bytes)
			}
		}
	}
	slices.SortFunc(s.Holds, func(a, b HoldGroup) int { return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Says, b.Says)) })
	if s.Lanes, err = d.lanes(ctx, p, now); err != nil {
		return Status{}, err
	}
	return s, nil
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

// Shown is the state in which a copy counts (see shown).
func (d *Device) Shown(c records.Copy) queue.State { return d.shown(c.State, c.Destination) }

func (d *Device) sending(now time.Time) []Send {
	d.mu.Lock()
	defer d.mu.Unlock()
	sends := []Send{}
	for id, c := range d.active {
		sent := c.meter.from.Load() + c.meter.n.Load()
		s := Send{Copy: id, Name: c.copy.Name, Kind: c.copy.Kind, Destination: c.copy.Destination, State: c.copy.State, Bytes: c.copy.Bytes, Sent: sent, Metered: c.metered}
		if took := now.Sub(c.started).Seconds(); took > 0.5 && !c.proving {
			s.Rate = int64(float64(c.meter.n.Load()) / took)
		}
		if r, able := c.driver.(destination.Resumer); s.Bytes >= largeSend && s.State == queue.Sending {
			s.BeginsAnew = !able || !r.Resumes()
		}
		sends = append(sends, s)
	}
	slices.SortFunc(sends, func(a, b Send) int { return cmp.Compare(a.Copy, b.Copy) })
	return sends
}

// Sends tells what is on its way, cheaply.
func (d *Device) Sends() []Send { return d.sending(time.Now()) }

func (s *Status) addHold(h gate.Hold, todo string, n, bytes int64) {
	for i := range s.Holds {
		g := &s.Holds[i]
		if g.Gate == h.Gate && g.Says == h.Says && g.Opens.Equal(h.Opens) {
			g.Amount = g.plus(n, bytes)
			return
		}
	}
	s.Holds = append(s.Holds, HoldGroup{h, Amount{n, bytes}, todo})
}

// addWaiting parts a class's waiting copies into those that wait for their
// next try, those that a gate holds, and those that go.
func (d *Device) addWaiting(ctx context.Context, s *Status, c records.Counter, now time.Time) error {
	n, bytes, next, err := d.Records.Retries(ctx, c.Class, now)
	if err != nil {
		return err
	}
	if n > 0 {
		s.addHold(retryHold(next), "", n, bytes)
	}
	if n = c.N - n; n == 0 {
		return nil
	}
	bytes = c.Bytes - bytes
	if holds, todo := d.holds(c.Class, now); len(holds) > 0 {
		s.addHold(holds[0], todo, n, bytes)
		return nil
	}
	s.Going = s.Going.plus(n, bytes)
	return nil
}

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
func (d *Device) lanes(ctx context.Context, p *plan.Plan, now time.Time) ([]LaneStatus, error) {
	lanes := []LaneStatus{}
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
					one := LaneStatus{Rule: src.Rule, Kind: kind, Destination: destination, Over: lane.Over, Limit: limit.Bytes, Per: limit.Per, Holds: []gate.Hold{}}
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

// Why tells why a copy is where it is: its holds while it waits or owes a
// proof, none when it goes or rests.
func (d *Device) Why(c records.Copy, now time.Time) (holds []gate.Hold, todo string) {
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

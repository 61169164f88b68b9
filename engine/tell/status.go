package tell

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

// Status tells how the device stands, in items. It reads counters only: it costs
// the same with ten items and with a million.
func (t Teller) Status(ctx context.Context) (wire.Device, error) {
	// What is known of places comes first: proofs that were taken back meanwhile are not called safe by a place that
	// counts since.
	v, err := t.view(ctx)
	if err != nil {
		return wire.Device{}, err
	}
	standings, err := t.From.Queue.Standings(ctx)
	if err != nil {
		return wire.Device{}, err
	}
	now := time.Now()
	retries, err := t.retries(ctx, now)
	if err != nil {
		return wire.Device{}, err
	}
	s := wire.Device{
		Name: t.Of, States: map[queue.State]wire.Amount{}, Kinds: []media.Kind{}, Sends: v.sends(), Sources: []wire.Source{},
		Conditions: v.Now, Modem: v.known.Modem, Pause: v.Pause, Problem: v.known.Problem,
	}
	s.Pause.On = s.Pause.Active(now)
	s.Awake = v.known.Awake
	s.Strays = v.strays()
	s.Cards = append([]cardwire.Card{}, v.known.Cards...)
	s.Person = v.Plan.Devices[t.Of].Person
	if s.Stops, err = t.stops(ctx, now); err != nil {
		return wire.Device{}, err
	}
	for _, src := range v.Plan.Devices[t.Of].Sources {
		known := v.known.Sources[src.Folder]
		s.Sources = append(s.Sources, wire.Source{
			Folder: src.Folder, Path: known.Path, Rules: src.Rules, Says: words.Follows(src), Scanned: known.Scanned,
			Problems: append([]wire.Problem{}, known.Problems...), Away: known.Away,
		})
	}
	active := map[queue.Class]int64{} // proofs that are being taken hold nothing up
	for _, s := range v.known.Sends {
		if s.State == queue.Proving {
			active[s.Class()]++
		}
	}
	holds := holdGroups{}
	for _, st := range standings {
		state, safe, small := v.together(st.Kind, st.Copies)
		s.States[state] = s.States[state].Plus(st.N, st.Bytes)
		if st.N > 0 && state != queue.Skipped && !slices.Contains(s.Kinds, st.Kind) {
			s.Kinds = append(s.Kinds, st.Kind)
		}
		if safe && state != queue.Safe {
			s.Partly = s.Partly.Plus(st.N, st.Bytes)
		}
		if small {
			s.InSmall = s.InSmall.Plus(st.N, st.Bytes)
		}
		if v.addHolds(holds, st, retries, active) {
			s.Going = s.Going.Plus(st.N, st.Bytes)
		}
	}
	s.Holds = holds.sorted(t.Of)
	s.Lanes = v.lanes()
	s.Beside = beside(v.counters)
	s.Doubles = doubled(v.known.Doubles)
	return s, nil
}

// doubled tells what lies at places twice.
func doubled(doubles map[string]int64) []wire.Doubled {
	list := []wire.Doubled{}
	for _, name := range slices.Sorted(maps.Keys(doubles)) {
		n := doubles[name]
		if n <= 0 {
			continue
		}
		lie := words.Things(n) + " lie"
		if n == 1 {
			lie += "s"
		}
		list = append(list, wire.Doubled{Destination: name, N: n, Says: lie + " at " + name +
			" twice: another device sent the same while the two could not know of each other. Both stay."})
	}
	return list
}

// beside tells how it stands with what is put beside the copies.
func beside(counters []records.Counter) []wire.Beside {
	list := []wire.Beside{}
	for shelf, states := range records.Beside(counters) {
		one := wire.Beside{Shelf: shelf, Stuck: states[queue.Stuck].N}
		for state, sum := range states {
			switch state {
			case queue.Safe:
				one.There = one.There.Plus(sum.N, sum.Bytes)
			case queue.Waiting, queue.Preparing, queue.Sending, queue.Proving:
				one.Waiting = one.Waiting.Plus(sum.N, sum.Bytes)
			}
		}
		if one.There.N+one.Waiting.N+one.Stuck > 0 {
			one.Says = words.Beside(shelf, one.There.N, one.Waiting.N, one.Stuck)
			list = append(list, one)
		}
	}
	slices.SortFunc(list, func(a, b wire.Beside) int { return cmp.Compare(a.Shelf, b.Shelf) })
	return list
}

// together is the state of items that stand alike, whether they lie proven somewhere, and
// whether they are not safe but in small. Copies that the plan no longer asks for count
// only where it asks for none.
func (v view) together(kind media.Kind, copies []records.Stand) (state queue.State, somewhere, small bool) {
	var asked, all []queue.State
	there := map[string]bool{} // whether each of its files is proven at a destination
	for _, c := range copies {
		state := v.Shown(c.State, c.Destination)
		if c.Shelf != plan.Main {
			small = small || state == queue.Safe
			continue
		}
		before, seen := there[c.Destination]
		there[c.Destination] = (before || !seen) && state == queue.Safe
		all = append(all, state)
		if v.Asks(c.Class(kind)) {
			asked = append(asked, state)
		}
	}
	for _, whole := range there {
		somewhere = somewhere || whole
	}
	if len(asked) == 0 {
		asked = all
	}
	state = queue.Together(asked)
	return state, somewhere, small && state != queue.Safe && state != queue.Skipped
}

// retryKey names the copies that wait for their next try.
type retryKey struct {
	standing    int64
	destination string
}

func (t Teller) retries(ctx context.Context, now time.Time) (map[retryKey]records.Retrying, error) {
	rows, err := t.From.Queue.Retries(ctx, now)
	retries := make(map[retryKey]records.Retrying, len(rows))
	for _, r := range rows {
		retries[retryKey{r.Standing, r.Destination}] = r
	}
	return retries, err
}

// addHolds adds the reasons for which items that stand alike wait. going tells
// whether a copy of theirs waits that nothing holds.
func (v view) addHolds(holds holdGroups, st records.Standing, retries map[retryKey]records.Retrying,
	active map[queue.Class]int64) (going bool) {
	one := holdGroups{} // an item that waits for one reason at two places waits once
	for _, c := range st.Copies {
		class := c.Class(st.Kind)
		if c.Shelf != plan.Main {
			if shut, _ := v.waits(class); c.State == queue.Waiting && len(shut) == 0 && v.Asks(class) {
				going = true
			}
			continue // the copy itself tells why it waits
		}
		all := wire.Amount{N: st.N, Bytes: st.Bytes}
		if v.Shown(c.State, c.Destination) != c.State {
			at := v.Places[c.Destination]
			one.add(at.Moved, at.MovedTodo, st.Kind, c.Destination, all)
			continue
		}
		switch c.State {
		case queue.Waiting:
			if r, some := retries[retryKey{st.ID, c.Destination}]; some && c.Kind == "" {
				one.add(retryHold(records.FromMS(r.NextMS)), "", st.Kind, c.Destination, wire.Amount{N: r.N, Bytes: r.Bytes})
				all = all.Plus(-r.N, -r.Bytes)
			}
			if all.N <= 0 {
				continue
			}
			if shut, todo := v.waits(class); len(shut) > 0 {
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
			if hold, shut := v.OwesProof(c.Destination); shut {
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

// sends tells what is on its way.
func (v view) sends() []wire.Send {
	list := make([]wire.Send, len(v.known.Sends))
	for i, s := range v.known.Sends {
		list[i] = s.Send
	}
	return list
}

func retryHold(next time.Time) gate.Hold {
	return gate.Hold{Gate: gate.Retry, Says: words.WaitsALittle(), Opens: next}
}

// lanes tells every lane of the plan that matters to this device.
func (v view) lanes() []wire.Lane {
	lanes := []wire.Lane{}
	seen := map[queue.Class]bool{}
	for _, name := range v.rules() {
		rule := v.Plan.Rules[name]
		for _, destination := range rule.To {
			for _, kind := range rule.Take {
				class := queue.Class{Rule: name, Kind: kind, Destination: destination}
				if seen[class] {
					continue
				}
				seen[class] = true
				verdict := v.decide(class)
				for i, lane := range rule.Lanes {
					if !lane.Takes(kind) || lane.Over == plan.Cellular && v.known.Modem == gate.No && len(rule.Lanes) > 1 {
						continue // it has no part for it; where that is its only way, it is told
					}
					verdict := verdict
					if lane.Send != "" { // it carries small copies alone
						small := class
						if small.Shelf = plan.Small; !v.Asks(small) {
							continue
						}
						verdict = v.decide(small)
					}
					limit := rule.AllowanceOver(lane.Over)
					one := wire.Lane{Rule: name, Kind: kind, Destination: destination, Over: lane.Over, Limit: limit.Bytes,
						Per: limit.Per, Holds: []gate.Hold{}}
					if i < len(verdict.Lanes) {
						one.Holds = append(one.Holds, verdict.Lanes[i].Holds...)
					} else {
						one.Holds = append(one.Holds, verdict.Holds...) // paused
					}
					one.Open = len(one.Holds) == 0
					if limit.Bytes > 0 {
						a := v.Accounts[gate.Account{Over: lane.Over, Per: limit.Per}]
						one.Spent = a.Spent + a.Reserved
					}
					lanes = append(lanes, one)
				}
			}
		}
	}
	return lanes
}

// strays is what the device saw of strays last, without the new folders that were decided about since; nil before it
// looked.
func (v view) strays() *wire.StraySum {
	if v.known.Strays == nil {
		return nil
	}
	sum, own := *v.known.Strays, v.Plan.Devices[v.Device]
	sum.Says = words.StraysInShort(sum.N, int64(sum.Folders), int64(sum.Libraries))
	sum.New = slices.DeleteFunc(slices.Clone(sum.New), func(f wire.StrayFolder) bool {
		return slices.Contains(own.LetBe, f.Folder) ||
			slices.ContainsFunc(own.Sources, func(of plan.Source) bool { return plan.Inside(f.Folder, of.Folder) })
	})
	return &sum
}

// rules are the names of the rules that the device's sources follow, each once.
func (v view) rules() (names []string) {
	for _, src := range v.Plan.Devices[v.Device].Sources {
		for _, name := range src.Rules {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// why tells why a copy is where it is: its holds while it waits or owes a
// proof, none when it goes or rests.
func (v view) why(c records.Copy) (holds []gate.Hold, todo string) {
	if slices.ContainsFunc(v.known.Sends, func(s Send) bool { return s.Copy == c.ID }) {
		return nil, ""
	}
	until := records.FromMS(c.NotBeforeMS)
	retry := func() []gate.Hold {
		h := retryHold(until)
		h.Says, h.Since = c.Says+" It is tried again.", records.FromMS(c.ChangedMS)
		return []gate.Hold{h}
	}
	switch {
	case v.Shown(c.State, c.Destination) != c.State:
		at := v.Places[c.Destination]
		return []gate.Hold{at.Moved}, at.MovedTodo
	case c.State == queue.Waiting && until.After(v.Time):
		return retry(), ""
	case c.State == queue.Waiting:
		if holds, todo = v.waits(c.Class); len(holds) > 0 {
			return holds, todo
		}
		if holds = v.Unready(c.Class, c.Form); len(holds) > 0 {
			return holds, ""
		}
		return v.TooLarge(c.Class, v.decide(c.Class), c.Bytes), ""
	case c.State == queue.Proving:
		if h, shut := v.OwesProof(c.Destination); shut {
			return []gate.Hold{h}, ""
		}
		if until.After(v.Time) {
			return retry(), ""
		}
	}
	return nil, c.Todo
}

package tell

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file tells what a plan would do to a device's items. It changes nothing.

// Tried is what a plan would do to a device's items, and what would still come to each
// place, today and then.
type Tried struct {
	planwire.TriedDevice
	Today, Then map[string]wire.Amount // by destination, as shot
	// Reduced is what of Then goes in another form, as shot.
	Reduced map[Reduced]wire.Amount
}

// Reduced are items that go to a destination in a form that is not as shot.
type Reduced struct {
	Destination, Rule string
	Kind              media.Kind
	Form              plan.Rendition
}

// TryPlan tells what a plan would do.
func (teller Teller) TryPlan(ctx context.Context, p *plan.Plan) (Tried, error) {
	t := Tried{TriedDevice: planwire.TriedDevice{Device: teller.Of, New: []planwire.TriedKind{},
		Left: []planwire.TriedKind{}, Unknown: []string{}}, Today: map[string]wire.Amount{}, Then: map[string]wire.Amount{},
		Reduced: map[Reduced]wire.Amount{}}
	now, err := teller.view(ctx)
	if err != nil {
		return t, err
	}
	then, err := teller.viewUnder(ctx, now, p.On(teller.Of))
	if err != nil {
		return t, err
	}
	standings, err := teller.From.Queue.Standings(ctx)
	if err != nil {
		return t, err
	}
	byID := map[int64]records.Standing{}
	for _, st := range standings {
		byID[st.ID] = st
	}
	today, later := ways{}, ways{}
	by, kept := map[string]plan.Chooser{}, map[string]bool{}
	for _, s := range now.Plan.Devices[teller.Of].Sources { // one that is not in the other is left out whole
		by[s.Folder] = then.Plan.Chooser(plan.Source{Folder: s.Folder, Scope: plan.Scope{Hidden: true}}, then.Zone)
	}
	for _, s := range then.Plan.Devices[teller.Of].Sources {
		by[s.Folder], kept[s.Folder] = then.Plan.Chooser(s, then.Zone), true
		if now.known.Sources[s.Folder].Scanned.IsZero() {
			t.Unknown = append(t.Unknown, s.Folder)
		}
	}
	groups, err := teller.From.Catalogue.Regroup(ctx, by)
	if err != nil {
		return t, err
	}
	for _, g := range groups {
		if !kept[g.Source] {
			g.Why = "Its folder is no longer in the plan."
		}
		t.add(now, then, g, byID[g.Standing], today, later)
	}
	t.TriedDevice.Today, t.TriedDevice.Then = today.list(), later.list()
	for _, list := range [][]planwire.TriedKind{t.New, t.Left} {
		slices.SortFunc(list, func(a, b planwire.TriedKind) int {
			return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Why, b.Why))
		})
	}
	return t, nil
}

// viewUnder is what decisions would rest on under another plan.
func (teller Teller) viewUnder(ctx context.Context, now view, p *plan.Plan) (view, error) {
	s := now.Situation
	s.Plan, s.Zone, s.Places = p, p.Zone(teller.Of), map[string]gate.At{}
	for name, dest := range p.Destinations {
		today, there := now.Plan.Destinations[name]
		at, known := now.Places[name]
		if !there || !known || today.Where() != dest.Where() {
			at = gate.At{Left: -1} // nothing is known of it yet
		} else if now.known.Room != nil {
			at.Left = now.known.Room(name, int64(dest.KeepFree))
		}
		s.Places[name] = at
	}
	_, err := Gather(ctx, teller.From, &s)
	return view{s, now.known, map[queue.Class]gate.Verdict{}, nil}, err
}

// add counts a group of items that stand alike.
func (t *Tried) add(now, then view, g records.Group, st records.Standing, today, later ways) {
	switch amount := (wire.Amount{N: g.N, Bytes: g.Bytes}); {
	case g.Before == "" && g.After != "":
		t.New = addKind(t.New, planwire.TriedKind{Kind: g.Kind, Amount: amount, Paths: g.Paths})
	case g.Before != "" && g.After == "":
		t.Left = addKind(t.Left, planwire.TriedKind{Kind: g.Kind, Why: g.Why, Amount: amount, Paths: g.Paths})
	}
	safeToday := coming(now, g, g.Before, st, today, func(string) bool { return true }, func(to string) {
		t.Today[to] = t.Today[to].Plus(g.N, g.Bytes)
	})
	safeThen := coming(then, g, g.After, st, later, func(to string) bool {
		return now.Plan.Destinations[to].Where() == then.Plan.Destinations[to].Where()
	}, func(to string) {
		t.Then[to] = t.Then[to].Plus(g.N, g.Bytes)
		if form, made := then.Plan.Form(g.After, g.Kind, to, plan.Main); made {
			of := Reduced{to, g.After, g.Kind, form}
			t.Reduced[of] = t.Reduced[of].Plus(g.N, g.Bytes)
		}
	})
	if safeToday && !safeThen && g.After != "" {
		t.Uncounted = t.Uncounted.Plus(g.N, g.Bytes)
	}
}

func addKind(list []planwire.TriedKind, one planwire.TriedKind) []planwire.TriedKind {
	for i, k := range list {
		if k.Kind == one.Kind && k.Why == one.Why {
			list[i].Amount = k.Plus(one.N, one.Bytes)
			list[i].Paths = append(k.Paths, one.Paths...)[:min(len(k.Paths)+len(one.Paths), 20)]
			return list
		}
	}
	return append(list, one)
}

// coming tells of the copies of a group that a rule asks for and that are not safe, by their destinations,
// and counts how they go; safe tells whether none is.
func coming(v view, g records.Group, rule string, st records.Standing, by ways, same func(destination string) bool,
	comes func(destination string)) (safe bool) {
	if rule == "" {
		return false
	}
	safe = true
	for _, to := range v.Plan.Rules[rule].To {
		i := slices.IndexFunc(st.Copies, func(c records.Stand) bool { return c.Destination == to })
		if i >= 0 && same(to) {
			switch state := v.Shown(st.Copies[i].State, to); {
			case state == queue.Safe:
				continue
			case state == queue.Skipped && g.Before != "": // it has a problem of its own
				safe = false
				continue
			case state == queue.Proving: // it is there
				safe = false
				by.add(planwire.TriedWay{Says: "Sent; its proof is owed at " + to + ".", Goes: true}, g)
				continue
			}
		}
		safe = false
		comes(to)
		class := queue.Class{Rule: rule, Kind: g.Kind, Destination: to}
		verdict := v.decide(class)
		if holds, _ := v.Waits(class, verdict); len(holds) > 0 {
			by.add(planwire.TriedWay{Says: holds[0].Says}, g)
			continue
		}
		over := "Goes now, to a folder of this computer."
		if v.Networked(to) {
			over = "Goes now, over " + v.Plan.Rules[rule].Lanes[verdict.Lane].Over.Label() + "."
		}
		by.add(planwire.TriedWay{Says: over, Goes: true}, g)
	}
	return safe
}

// ways are copies by how they go, or why they wait.
type ways map[string]planwire.TriedWay

func (w ways) add(one planwire.TriedWay, g records.Group) {
	one.Amount = w[one.Says].Plus(g.N, g.Bytes)
	w[one.Says] = one
}

func (w ways) list() []planwire.TriedWay {
	list := slices.AppendSeq([]planwire.TriedWay{}, maps.Values(w))
	slices.SortFunc(list, func(a, b planwire.TriedWay) int {
		return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Says, b.Says))
	})
	return list
}

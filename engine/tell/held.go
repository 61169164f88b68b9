package tell

import (
	"context"

	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Held tells what the sources of the device hold, and the rules that it follows.
func (t Teller) Held(ctx context.Context) (planwire.PlanHeld, error) {
	var held planwire.PlanHeld
	v, err := t.view(ctx)
	if err != nil {
		return held, err
	}
	standings, err := t.From.Queue.Standings(ctx)
	if err != nil {
		return held, err
	}
	if held.Rules, err = t.heldByRules(ctx, v, standings); err != nil {
		return held, err
	}
	held.Folders, err = t.heldBySources(ctx, v, standings)
	return held, err
}

// heldBySources counts the items of each source of the plan.
func (t Teller) heldBySources(ctx context.Context, v view, standings []records.Standing) ([]planwire.HeldFolder, error) {
	rows, err := t.From.Queue.SourceStandings(ctx)
	if err != nil {
		return nil, err
	}
	states := map[int64]queue.State{}
	for _, st := range standings {
		states[st.ID], _, _ = v.together(st.Kind, st.Copies)
	}
	bySource := map[string]*planwire.HeldFolder{}
	var list []planwire.HeldFolder
	for _, src := range v.Plan.Devices[t.Of].Sources {
		known := v.known.Sources[src.Folder]
		list = append(list, planwire.HeldFolder{PlanSource: planwire.PlanSource{Device: t.Of, Folder: src.Folder},
			Scanned: known.Scanned, Away: known.Away, Problems: append([]wire.Problem{}, known.Problems...)})
	}
	for i := range list {
		bySource[list[i].Folder] = &list[i]
	}
	for _, row := range rows {
		f := bySource[row.Source]
		if f == nil {
			continue // the plan does not take it up any more
		}
		if newest := records.FromMS(row.FoundMS); newest.After(f.Changed) {
			f.Changed = newest
		}
		switch states[row.Standing] {
		case "", queue.Skipped:
			f.LeftOut = f.LeftOut.Plus(row.N, row.Bytes)
		case queue.Safe:
			f.Safe = f.Safe.Plus(row.N, row.Bytes)
			fallthrough
		default:
			f.All = f.All.Plus(row.N, row.Bytes)
		}
	}
	return list, nil
}

// heldByRules counts the items of each rule, and tells why some of them wait.
func (t Teller) heldByRules(ctx context.Context, v view, standings []records.Standing) ([]planwire.HeldRule, error) {
	retries, err := t.retries(ctx, v.Time)
	if err != nil {
		return nil, err
	}
	type held struct {
		planwire.HeldRule
		groups holdGroups
	}
	byRule, active := map[string]*held{}, map[queue.Class]int64{}
	for _, st := range standings {
		state, _, _ := v.together(st.Kind, st.Copies)
		if len(st.Copies) == 0 || state == queue.Skipped {
			continue
		}
		name := st.Copies[0].Rule
		one := byRule[name]
		if one == nil {
			one = &held{planwire.HeldRule{Rule: name}, holdGroups{}}
			byRule[name] = one
		}
		one.All = one.All.Plus(st.N, st.Bytes)
		if state == queue.Safe {
			one.Safe = one.Safe.Plus(st.N, st.Bytes)
		}
		v.addHolds(one.groups, st, retries, active)
	}
	var list []planwire.HeldRule
	for _, name := range v.rules() {
		if one := byRule[name]; one != nil {
			one.Holds = one.groups.sorted(t.Of)
			list = append(list, one.HeldRule)
		}
	}
	return list, nil
}

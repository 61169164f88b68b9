package service

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/tell"
	"yardtide/wire/planwire"
)

// This file tells what would help where the room at a place runs out: each offer is a change of the plan, tried.

// form is a rendition under its name.
type form struct {
	name string
	form plan.Rendition
}

// offered are the forms that are offered beside those of the plan: for any screen, for a small storage, and that with
// its clips.
var offered = []form{
	{"medium", plan.Rendition{LongEdge: 2560}},
	{"small", plan.Rendition{LongEdge: 1600}},
	{"small-clips", plan.Rendition{LongEdge: 1600, Height: 720}},
}

// Offers tells what would help a destination whose room runs out, each in figures; what fits comes first. The error is
// ErrNoDestination for a name that is none.
func (s *Trials) Offers(ctx context.Context, name string) ([]planwire.PlanOffer, error) {
	text, version := s.book.Text()
	p := s.book.PlanOrEmpty()
	if _, there := p.Destinations[name]; !there {
		return nil, fmt.Errorf("%w: %s", ErrNoDestination, name)
	}
	list, samples := []planwire.PlanOffer{}, map[tell.Reduced]planwire.FormForecast{}
	for _, o := range slices.Concat(otherForms(p, name), otherPlaces(p, name), fewerKinds(p, name)) {
		after, err := plantext.Set(text, o.Edits...)
		if err != nil {
			continue // written in a way that a program does not change
		}
		changed, err := plantext.Parse("plan.yaml", []byte(after))
		if err != nil {
			continue // it asks for something else that the plan does not have
		}
		_, places, err := s.try(ctx, changed, samples)
		if err != nil {
			return nil, err
		}
		o.Base, o.Fits = version, true
		for _, one := range places {
			if one.Name == name || one.Name == o.Instead {
				o.Says += " " + one.Says
				o.Fits = o.Fits && one.Fits
			}
		}
		list = append(list, o)
	}
	slices.SortStableFunc(list, func(a, b planwire.PlanOffer) int {
		switch {
		case a.Fits == b.Fits:
			return 0
		case a.Fits:
			return -1
		}
		return 1
	})
	return list, nil
}

// sendingTo are the rules that send to a destination, by name.
func sendingTo(p *plan.Plan, name string) (rules []string) {
	for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
		if slices.Contains(p.Rules[rule].To, name) {
			rules = append(rules, rule)
		}
	}
	return rules
}

// to is the edit that has a rule send to some places, as the plan writes them.
func to(rule string, places []string) plan.Edit {
	return plan.Edit{Path: []string{"rules", rule, "to"}, Value: places}
}

// otherForms offers smaller forms for a place: those of the plan, and some of our own.
func otherForms(p *plan.Plan, name string) (list []planwire.PlanOffer) {
	forms := slices.DeleteFunc(slices.Clone(offered), func(f form) bool {
		_, there := p.Renditions[f.name]
		return there
	})
	for _, own := range slices.Sorted(maps.Keys(p.Renditions)) {
		forms = append(forms, form{own, p.Renditions[own]})
	}
	for _, f := range forms {
		o := planwire.PlanOffer{Says: fmt.Sprintf("To %s as %s, %s.", name, f.name, f.form)}
		if _, there := p.Renditions[f.name]; !there {
			value := map[string]any{"long-edge": f.form.LongEdge}
			if f.form.Height > 0 {
				value["height"] = f.form.Height
			}
			o.Edits = append(o.Edits, plan.Edit{Path: []string{"renditions", f.name}, Value: value, New: true})
		}
		changes := false
		for _, rule := range sendingTo(p, name) {
			r := p.Rules[rule]
			if r.As[name] == f.name {
				continue
			}
			places := r.Places()
			places[slices.Index(r.To, name)] = name + " as " + f.name
			o.Edits, changes = append(o.Edits, to(rule, places)), true
		}
		if changes {
			list = append(list, o)
		}
	}
	return list
}

// otherPlaces offers other destinations of the plan in the place of one.
func otherPlaces(p *plan.Plan, name string) (list []planwire.PlanOffer) {
	for _, other := range slices.Sorted(maps.Keys(p.Destinations)) {
		o := planwire.PlanOffer{Says: fmt.Sprintf("To %s instead of %s.", other, name), Instead: other}
		for _, rule := range sendingTo(p, name) {
			r := p.Rules[rule]
			if other == name || slices.Contains(r.To, other) {
				continue
			}
			places := r.Places()
			places[slices.Index(r.To, name)] = other
			o.Edits = append(o.Edits, to(rule, places))
		}
		if len(o.Edits) > 0 {
			list = append(list, o)
		}
	}
	return list
}

// fewerKinds offers to leave out clips, where pictures go to a place as well.
func fewerKinds(p *plan.Plan, name string) []planwire.PlanOffer {
	o := planwire.PlanOffer{Says: "Without clips: they go nowhere then."}
	without := func(kinds []media.Kind) []media.Kind {
		return slices.DeleteFunc(slices.Clone(kinds), func(k media.Kind) bool { return k == media.Video })
	}
	for _, rule := range sendingTo(p, name) {
		r := p.Rules[rule]
		take := without(r.Take)
		if len(take) == 0 || len(take) == len(r.Take) {
			continue
		}
		at := []string{"rules", rule}
		for i := len(r.Lanes) - 1; i >= 0; i-- { // from the end: what is taken out moves those behind it
			lane := append(slices.Clone(at), "lanes", fmt.Sprint("#", i))
			switch carried := without(r.Lanes[i].Take); {
			case len(r.Lanes[i].Take) == len(carried):
			case len(carried) == 0:
				o.Edits = append(o.Edits, plan.Edit{Path: lane})
			default:
				o.Edits = append(o.Edits, plan.Edit{Path: append(lane, "take"), Value: carried})
			}
		}
		o.Edits = append(o.Edits, plan.Edit{Path: append(at, "take"), Value: take})
	}
	if len(o.Edits) == 0 {
		return nil
	}
	return []planwire.PlanOffer{o}
}

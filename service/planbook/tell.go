package planbook

import (
	"maps"
	"slices"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/wire/planwire"
)

// Tell is the plan in force as it is shown: its text, what it says, and sentences of its parts.
func (b *Book) Tell() planwire.PlanText {
	text, version := b.Text()
	p, values := b.PlanOrEmpty(), map[string]any{}
	if version > 0 {
		values = plantext.Value(p)
	}
	return planwire.PlanText{Text: text, Version: version, Values: values, Rules: rules(p), Sources: sources(p),
		Devices: devices(p), Renditions: renditions(p)}
}

// rules tells what the rules of a plan do, by name.
func rules(p *plan.Plan) []planwire.PlanRule {
	list := []planwire.PlanRule{}
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		r := p.Rules[name]
		one := planwire.PlanRule{Name: name, Says: words.Rule(r), Phrases: words.RulePhrases(r), Follows: []planwire.PlanSource{}, Own: ownOf(p, name)}
		for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
			for _, source := range p.Devices[device].Sources {
				if slices.Contains(source.Rules, name) {
					one.Follows = append(one.Follows, planwire.PlanSource{Device: device, Folder: source.Folder})
				}
			}
		}
		list = append(list, one)
	}
	return list
}

// ownOf tells what devices have otherwise than a rule says.
func ownOf(p *plan.Plan, rule string) []planwire.RuleOwn {
	list := []planwire.RuleOwn{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		o, there := p.Devices[device].Rules[rule]
		if !there {
			continue
		}
		list = append(list, planwire.RuleOwn{Device: device, Says: words.Override(o),
			Phrases: words.WayPhrases(p.On(device).Rules[rule])})
	}
	return list
}

// devices lists the devices of a plan.
func devices(p *plan.Plan) []planwire.PlanDevice {
	list := []planwire.PlanDevice{}
	for _, name := range slices.Sorted(maps.Keys(p.Devices)) {
		d := p.Devices[name]
		list = append(list, planwire.PlanDevice{Device: name, Says: words.Device(d)})
	}
	return list
}

// sources lists the folders that the plan has taken up.
func sources(p *plan.Plan) []planwire.PlanFolder {
	list := []planwire.PlanFolder{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		for _, source := range p.Devices[device].Sources {
			list = append(list, planwire.PlanFolder{PlanSource: planwire.PlanSource{Device: device, Folder: source.Folder},
				Says: words.Follows(source)})
		}
	}
	return list
}

// renditions lists the forms of a plan.
func renditions(p *plan.Plan) []planwire.PlanRendition {
	list := []planwire.PlanRendition{}
	for _, name := range slices.Sorted(maps.Keys(p.Renditions)) {
		r := p.Renditions[name]
		one := planwire.PlanRendition{Name: name, Says: r.String(), Pictures: r.Limits(media.Photo),
			Clips: r.Limits(media.Video), Rules: []string{}}
		for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
			if p.Rules[rule].Uses(name) {
				one.Rules = append(one.Rules, rule)
			}
		}
		list = append(list, one)
	}
	return list
}

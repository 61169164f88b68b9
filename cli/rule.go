package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/wire/planwire"
)

func ruleCommand() Command {
	return Command{
		Name: "rule", Usage: "list | show NAME | set NAME [flags] | add NAME [flags] | remove NAME",
		Short: "what each rule does, in a sentence; change, add and take out rules",
		Long: `list tells every rule in a sentence, and the folders that follow it. set changes one:
only what a flag names; add makes a new one, remove takes one out that nobody follows.
Each tells in a sentence what it changes, and what that does to the items that there are;
with -try it only tells. The plan's text keeps its comments and its order: see yardtide plan diff.

  yardtide rule set everyday -to north-locker,tool-shed -power "charging or at least 40%" -try
  yardtide rule set everyday -hours ""       # at any hour
  yardtide rule set everyday -over wifi,cellular -allowance "200 MB per month"
  yardtide rule set everyday -device slate -over wifi -hours any   # on this device alone
  yardtide rule set everyday -quick pocket   # over cellular in small, the whole at home
  yardtide rule set everyday -also "rated 4 = best/{year}/{name}" -previews tiny
  yardtide rule add films -take video -to tool-shed -over wifi
  yardtide rule set films -take video -longer-than "10 min" -larger-than "2 GB"`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			e := ruleEdit{}
			e.flags(fs)
			return func(ctx context.Context, env Env, args []string) error {
				c := r.client(env)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listRules(ctx, env, c, r.json)
				case len(args) == 2 && args[0] == "show":
					return showRule(ctx, env, c, args[1], r.json)
				case len(args) != 2 || args[0] != "set" && args[0] != "add" && args[0] != "remove":
					return WrongUse("say list, or show, set, add or remove and the name of a rule")
				}
				now, err := c.Plans().InForce(ctx)
				if err != nil {
					return err
				}
				edits, err := e.edits(fs, now, args[0], args[1])
				if err != nil {
					return err
				}
				return editPlan(ctx, env, c, planwire.PlanEdits{Base: now.Version, Edits: edits, Try: e.try}, r.json)
			}
		},
	}
}

// ruleEdit is what the flags of a rule say.
type ruleEdit struct {
	given
	device              string
	asItIs, try         bool
	over                []string
	also                []any
	allowance, quick    *string
	metered, roaming    *bool
	saidAlso, saidLanes bool
}

func (e *ruleEdit) flags(fs *flag.FlagSet) {
	keyFlags(fs, &e.given, partKeys("rules"), "also")
	lane := partKeys("rules", "lanes")
	of := func(name string, into func(value any)) {
		k := keyNamed(lane, name)
		fs.Func(name, flagSays(k), func(text string) error {
			value, err := valueOf(k, text)
			if err == nil {
				e.saidLanes = true
				into(value)
			}
			return err
		})
	}
	of("metered", func(v any) { e.metered = new(v.(bool)) })
	of("roaming", func(v any) { e.roaming = new(v.(bool)) })
	of("allowance", func(v any) { e.allowance = new(v.(string)) })
	fs.Func("over", "the `networks` that it goes over, with commas: wifi, wired, cellular; the first open one is used",
		func(text string) error {
			e.over, e.saidLanes = listOf(text), true
			return nil
		})
	fs.Func("quick", "a `rendition`: over cellular small copies go in it, and the whole ones over another network; "+
		"empty for whole ones", func(text string) error {
		e.quick, e.saidLanes = &text, true
		return nil
	})
	fs.Func("also", "what carries a mark goes under a second layout, too: \"rated 4 = picks/{year}/{caption}\", "+
		"captioned, keyword WORD, marked or set NAME; may be given several `times`, empty for none", func(text string) error {
		e.saidAlso = true
		if text == "" {
			return nil
		}
		when, layout, said := strings.Cut(text, "=")
		if !said {
			return fmt.Errorf("say a mark and a layout, such as \"rated 4 = picks/{year}/{caption}\"")
		}
		e.also = append(e.also, map[string]any{"when": strings.TrimSpace(when), "layout": strings.TrimSpace(layout)})
		return nil
	})
	fs.StringVar(&e.device, "device", "", "change only what this `device` has otherwise: -over, -allowance and the "+
		"gates; any sets the rule's aside, empty leaves it")
	fs.BoolVar(&e.asItIs, "as-it-is", false, "with -device: it follows the rule as it is")
	fs.BoolVar(&e.try, "try", false, "only tell what it would change")
}

// edits are those of the plan that the flags ask for.
func (e ruleEdit) edits(fs *flag.FlagSet, now planwire.PlanText, verb, name string) ([]plan.Edit, error) {
	rule := []string{"rules", name}
	if verb == "remove" {
		return []plan.Edit{{Path: rule}}, nil
	}
	if verb == "set" && partOf(now.Values, rule...) == nil {
		return nil, fmt.Errorf("the plan has no rule %q; yardtide rule list tells those that it has", name)
	}
	at := rule
	if e.device != "" {
		if at = []string{"devices", e.device, "rules", name}; e.asItIs {
			return []plan.Edit{{Path: at}}, nil
		}
	}
	ofARule := func(edit plan.Edit) bool { return edit.Path[0] != "gates" }
	if e.asItIs || e.device != "" && (verb != "set" || e.saidAlso || slices.ContainsFunc(e.given.edits, ofARule)) {
		return nil, WrongUse("with -device only -over, -quick, -allowance, -metered, -roaming, the gates and -as-it-is " +
			"can be set")
	}
	if e.saidAlso {
		e.set(e.also, "also")
	}
	if e.saidLanes || verb == "add" {
		lanes, err := e.lanes(now, name, verb == "add")
		if err != nil {
			return nil, err
		}
		e.set(lanes, "lanes")
	}
	switch whole := e.whole(); {
	case verb == "add" && (whole["take"] == nil || whole["to"] == nil):
		return nil, WrongUse("say what it takes and where it goes: -take and -to")
	case verb == "add":
		return []plan.Edit{{Path: rule, Value: whole, New: true}}, nil
	case len(whole) == 0:
		return nil, WrongUse("say what to change: %s", flagNames(fs, "url", "json", "device", "try", "data", "as-it-is"))
	}
	return e.under(at...), nil
}

// lanes are the lanes of a rule as the flags change them: one for each network, those
// that there are where they stay.
func (e ruleEdit) lanes(now planwire.PlanText, rule string, isNew bool) (lanes []any, err error) {
	list := partOf(now.Values, "rules", rule)["lanes"]
	if own := partOf(now.Values, "devices", e.device, "rules", rule)["lanes"]; own != nil {
		list = own
	}
	before, _ := list.([]any)
	over := e.over
	if over == nil && isNew {
		over = []string{string(plan.WiFi)}
	}
	for _, l := range before {
		if lane := maps.Clone(l.(map[string]any)); over == nil || slices.Contains(over, fmt.Sprint(lane["over"])) {
			lanes = append(lanes, lane)
		}
	}
	if over != nil {
		at := func(l any) int { return slices.Index(over, fmt.Sprint(l.(map[string]any)["over"])) }
		for _, network := range over {
			if !slices.ContainsFunc(lanes, func(l any) bool { return l.(map[string]any)["over"] == network }) {
				lanes = append(lanes, map[string]any{"over": network})
			}
		}
		slices.SortStableFunc(lanes, func(a, b any) int { return at(a) - at(b) })
	}
	cellular := false
	for _, l := range lanes {
		lane := l.(map[string]any)
		switch isCellular := lane["over"] == string(plan.Cellular); {
		case !isCellular && e.metered != nil:
			lane["metered"] = *e.metered
		case isCellular:
			if e.roaming != nil {
				lane["roaming"] = *e.roaming
			}
			if e.quick != nil {
				lane["send"] = *e.quick
			}
			if e.allowance != nil && !cellular { // all lanes over a network share the one allowance
				lane["allowance"] = *e.allowance
			}
			cellular = true
		}
	}
	if !cellular && (e.allowance != nil && (*e.allowance != "" || e.roaming != nil) || e.quick != nil && *e.quick != "") {
		return nil, WrongUse("%s has no lane over cellular; give it one with -over", rule)
	}
	return lanes, nil
}

func listRules(ctx context.Context, e Env, c client.Client, json bool) error {
	now, err := c.Plans().InForce(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, now.Rules)
	}
	p := newPage(e, c.URL)
	for _, r := range now.Rules {
		printRule(p, r)
	}
	for _, d := range now.Doubts {
		p.line(0, "%s %s", p.paint(asks, "!"), plain(d.String()))
	}
	return nil
}

func showRule(ctx context.Context, e Env, c client.Client, name string, json bool) error {
	now, err := c.Plans().InForce(ctx)
	if err != nil {
		return err
	}
	for _, r := range now.Rules {
		if r.Name != name {
			continue
		}
		if json {
			return asJSON(e.Out, r)
		}
		printRule(newPage(e, c.URL), r)
		return nil
	}
	return fmt.Errorf("the plan has no rule %q; yardtide rule list tells those that it has", name)
}

func printRule(p page, r planwire.PlanRule) {
	p.line(0, "%s: %s", p.paint(strong, r.Name), plain(r.Says))
	for _, s := range r.Follows {
		p.line(2, "%s of %s", plain(s.Folder), plain(s.Device))
	}
	for _, own := range r.Own {
		p.line(2, "on %s: %s", plain(own.Device), plain(own.Says))
	}
}

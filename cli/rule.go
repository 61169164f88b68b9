package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/wire"
)

func ruleCommand() command {
	return command{
		name: "rule", usage: "list | show NAME | set NAME [flags] | add NAME [flags] | remove NAME", short: "what each rule does, in a sentence; change, add and take out rules",
		long: `list tells every rule in a sentence, and the folders that follow it. set changes one:
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
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var edit wire.RuleEdit
			words := func(into func([]string)) func(string) error {
				return func(text string) error { into(listOf(text)); return nil }
			}
			text := func(into **string) func(string) error {
				return func(s string) error { *into = &s; return nil }
			}
			fs.Func("take", "the `kinds` that it takes, with commas", words(func(list []string) {
				for _, k := range list {
					if media.Kind(k) == media.Everything {
						edit.Take = media.Kinds
						return
					}
					edit.Take = append(edit.Take, media.Kind(k))
				}
			}))
			fs.Func("to", "the `destinations` that it sends to, with commas", words(func(list []string) { edit.To = list }))
			fs.Func("send", "in which rendition a `kind` goes: photo=family, graphic=small, with commas; photo= is as shot again", func(s string) error {
				edit.Send = map[media.Kind]string{}
				for _, one := range listOf(s) {
					kind, name, said := strings.Cut(one, "=")
					if !said {
						return fmt.Errorf("say a kind and a rendition, such as photo=family")
					}
					edit.Send[media.Kind(strings.TrimSpace(kind))] = strings.TrimSpace(name)
				}
				return nil
			})
			fs.Func("larger-than", "only files larger than this `size`, or longer; empty for any", text(&edit.Larger))
			fs.Func("longer-than", "only clips longer than this `time`, or larger; empty for any", text(&edit.Longer))
			fs.Func("power", "on which `power` it sends; empty for any", text(&edit.Power))
			fs.Func("hours", "at which `hours` it sends; empty for any", text(&edit.Hours))
			fs.Func("order", "what goes `first`: newest, oldest or smallest", func(s string) error { edit.Order = new(plan.Order(s)); return nil })
			var over []string
			var allowance *string
			var metered, roaming *bool
			fs.Func("over", "the `networks` that it goes over, with commas: wifi, wired, cellular; the first open one is used", words(func(list []string) { over = list }))
			fs.Func("allowance", "what may go over cellular, such as 45 MB per `day`; empty for no bound", text(&allowance))
			yesNo := func(name, says string, into **bool) {
				fs.Func(name, says, func(s string) error {
					if s != "yes" && s != "no" {
						return fmt.Errorf("say yes or no")
					}
					*into = new(s == "yes")
					return nil
				})
			}
			yesNo("metered", "yes or no: over Wi-Fi and cable `also` where it is metered", &metered)
			yesNo("roaming", "yes or no: over cellular `also` while roaming", &roaming)
			yesNo("idle", "yes or no: only while `nobody` uses the device", &edit.Idle)
			fs.Func("unused-for", "only when `nobody` used the device for so long, such as \"10 min\"; empty for any", text(&edit.Unused))
			fs.Func("rest", "only when it has been on charge and unused for so `long`, such as \"30 min\"; empty for any", text(&edit.Rest))
			fs.Func("screen", "`off`: only while the screen is dark; empty for any", text(&edit.Screen))
			fs.Func("battery-saver", "`off`: not while the system saves battery; empty for any", text(&edit.Saver))
			yesNo("store-each", "yes or no: store `equal` files from several places each", &edit.StoreEach)
			fs.Func("previews", "a `rendition`: a small picture of each is put beside, in the folder previews; empty for none", text(&edit.Previews))
			fs.Func("also", "what carries a mark goes under a second layout, too: \"rated 4 = picks/{year}/{caption}\", captioned or keyword WORD; may be given several `times`, empty for none", func(s string) error {
				if edit.Also == nil {
					edit.Also = &[]wire.RuleAlso{}
				}
				if s == "" {
					return nil
				}
				when, layout, said := strings.Cut(s, "=")
				if !said {
					return fmt.Errorf("say a mark and a layout, such as \"rated 4 = picks/{year}/{caption}\"")
				}
				*edit.Also = append(*edit.Also, wire.RuleAlso{When: strings.TrimSpace(when), Layout: strings.TrimSpace(layout)})
				return nil
			})
			fs.Func("on-clash", "where something else has the name: `name`, a name that says so, or skip", func(s string) error { edit.OnClash = new(plan.Clash(s)); return nil })
			fs.Func("companions", "which `parts` go with an item: raw, clip, sidecar, with commas, or none; empty for those whose kind it takes, and sidecars", func(s string) error {
				edit.Companions = &[]media.Companion{}
				for _, c := range listOf(s) {
					*edit.Companions = append(*edit.Companions, media.Companion(c))
				}
				return nil
			})
			yesNo("bursts", "yes or no: of shots in a row make a short `clip`, beside them (yardtide bursts shows them)", &edit.Bursts)
			var quick *string
			fs.Func("quick", "a `rendition`: over cellular small copies go in it, and the whole ones over another network; empty for whole ones", text(&quick))
			fs.StringVar(&edit.Device, "device", "", "change only what this `device` has otherwise: -over, -allowance, -power, -hours, -idle; any sets the rule's aside, empty leaves it")
			fs.BoolVar(&edit.Reset, "as-it-is", false, "with -device: it follows the rule as it is")
			fs.BoolVar(&edit.Try, "try", false, "only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listRules(ctx, e, c, r.json)
				case len(args) == 2 && args[0] == "show":
					return showRule(ctx, e, c, args[1], r.json)
				case len(args) != 2 || args[0] != "set" && args[0] != "add" && args[0] != "remove":
					return wrongUse("say list, or show, set, add or remove and the name of a rule")
				case args[0] == "add" && (edit.Take == nil || edit.To == nil):
					return wrongUse("say what it takes and where it goes: -take and -to")
				case args[0] == "set" && quick == nil && edit.Previews == nil && edit.Also == nil && edit.OnClash == nil && edit.Companions == nil && edit.Bursts == nil && edit.Send == nil && edit.Idle == nil && edit.Unused == nil && edit.Rest == nil && edit.Screen == nil && edit.Saver == nil && edit.StoreEach == nil && !edit.Reset && over == nil && allowance == nil && metered == nil && roaming == nil && edit.Take == nil && edit.To == nil && edit.Larger == nil && edit.Longer == nil && edit.Power == nil && edit.Hours == nil && edit.Order == nil:
					return wrongUse("say what to change: -take, -to, -over, -allowance, -metered, -roaming, -larger-than, -longer-than, -power, -hours, -idle, -unused-for, -rest, -screen, -battery-saver, -store-each, -send, -quick, -previews, -also, -companions, -bursts, -on-clash or -order")
				}
				if edit.Reset && edit.Device == "" || edit.Device != "" && (edit.Take != nil || edit.Send != nil || edit.To != nil || edit.Larger != nil || edit.Longer != nil || edit.Order != nil || edit.StoreEach != nil || edit.Previews != nil || edit.Also != nil || edit.OnClash != nil || edit.Companions != nil || edit.Bursts != nil || args[0] != "set") {
					return wrongUse("with -device only -over, -quick, -allowance, -metered, -roaming, -power, -hours, -idle and -as-it-is can be set")
				}
				edit.Rule, edit.Add, edit.Remove = args[1], args[0] == "add", args[0] == "remove"
				if edit.Add || quick != nil || over != nil || allowance != nil || metered != nil || roaming != nil {
					var err error
					if edit.Lanes, err = lanesFor(ctx, c, edit, over, allowance, quick, metered, roaming); err != nil {
						return err
					}
				}
				done, err := c.EditRule(ctx, edit)
				if err != nil {
					return err
				}
				return edited(e, done, r.json)
			}
		},
	}
}

func listRules(ctx context.Context, e env, c client.Client, json bool) error {
	now, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.out, now.Rules)
	}
	p := newPage(e, c.URL)
	for _, r := range now.Rules {
		printRule(p, r)
	}
	for _, d := range now.Doubts {
		p.line(0, "%s %s", p.paint(asks, "!"), plain(d))
	}
	return nil
}

// lanesFor are the lanes of a rule as flags change them: one for each network, those
// that there are where they stay.
func lanesFor(ctx context.Context, c client.Client, edit wire.RuleEdit, over []string, allowance, quick *string, metered, roaming *bool) (lanes []wire.RuleLane, err error) {
	now, err := c.Plan(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range now.Rules {
		if r.Name != edit.Rule {
			continue
		}
		lanes = r.Lanes
		for _, own := range r.Own {
			if own.Device == edit.Device && len(own.Lanes) > 0 {
				lanes = own.Lanes
			}
		}
	}
	if over == nil && edit.Add {
		over = []string{string(plan.WiFi)}
	}
	if over != nil {
		before := lanes
		lanes = nil
		for _, network := range over {
			found := false
			for _, l := range before {
				if string(l.Over) == network {
					lanes, found = append(lanes, l), true
				}
			}
			if !found {
				lanes = append(lanes, wire.RuleLane{Over: plan.Network(network), Take: []media.Kind{}})
			}
		}
	}
	cellular := false
	for i := range lanes {
		l := &lanes[i]
		switch {
		case l.Over != plan.Cellular && metered != nil:
			l.Metered = *metered
		case l.Over == plan.Cellular:
			if roaming != nil {
				l.Roaming = *roaming
			}
			if quick != nil {
				l.Send = *quick
			}
			if allowance != nil && !cellular { // all lanes over a network share the one allowance
				l.Allowance = *allowance
			}
			cellular = true
		}
	}
	if !cellular && (allowance != nil && (*allowance != "" || roaming != nil) || quick != nil && *quick != "") {
		return nil, wrongUse("%s has no lane over cellular; give it one with -over", edit.Rule)
	}
	return lanes, nil
}

func showRule(ctx context.Context, e env, c client.Client, name string, json bool) error {
	now, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	for _, r := range now.Rules {
		if r.Name != name {
			continue
		}
		if json {
			return asJSON(e.out, r)
		}
		printRule(newPage(e, c.URL), r)
		return nil
	}
	return fmt.Errorf("the plan has no rule %q; yardtide rule list tells those that it has", name)
}

func printRule(p page, r wire.PlanRule) {
	p.line(0, "%s: %s", p.paint(strong, r.Name), plain(r.Says))
	for _, s := range r.Follows {
		p.line(2, "%s of %s", plain(s.Folder), plain(s.Device))
	}
	for _, own := range r.Own {
		p.line(2, "on %s: %s", plain(own.Device), plain(own.Says))
	}
}

package cli

import (
	"context"
	"flag"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/wire"
)

func ruleCommand() command {
	return command{
		name: "rule", usage: "list | set NAME [flags]", short: "what each rule does, in a sentence, and change it",
		long: `list tells every rule in a sentence, and the folders that follow it. set changes one:
only what a flag names. It tells in a sentence what it changes; with -try it only
tells. The plan's text keeps its comments and its order: see yardtide plan diff.

  yardtide rule set everyday -to north-locker,tool-shed -power "charging or at least 40%" -try
  yardtide rule set everyday -hours ""       # at any hour
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
			fs.Func("larger-than", "only files larger than this `size`, or longer; empty for any", text(&edit.Larger))
			fs.Func("longer-than", "only clips longer than this `time`, or larger; empty for any", text(&edit.Longer))
			fs.Func("power", "on which `power` it sends; empty for any", text(&edit.Power))
			fs.Func("hours", "at which `hours` it sends; empty for any", text(&edit.Hours))
			fs.Func("order", "what goes `first`: newest, oldest or smallest", func(s string) error { edit.Order = new(plan.Order(s)); return nil })
			fs.BoolVar(&edit.Try, "try", false, "only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listRules(ctx, e, c, r.json)
				case len(args) != 2 || args[0] != "set":
					return wrongUse("say list, or set and the name of a rule")
				case edit.Take == nil && edit.To == nil && edit.Larger == nil && edit.Longer == nil && edit.Power == nil && edit.Hours == nil && edit.Order == nil:
					return wrongUse("say what to change: -take, -to, -larger-than, -longer-than, -power, -hours or -order")
				}
				edit.Rule = args[1]
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
		p.line(0, "%s: %s", p.paint(strong, r.Name), plain(r.Says))
		for _, s := range r.Follows {
			p.line(2, "%s of %s", plain(s.Folder), plain(s.Device))
		}
	}
	for _, d := range now.Doubts {
		p.line(0, "%s %s", p.paint(asks, "!"), plain(d))
	}
	return nil
}

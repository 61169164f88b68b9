package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"yardtide/client"
	"yardtide/wire"
)

func sourceCommand() command {
	return command{
		name: "source", usage: "list | add FOLDER [flags] | change FOLDER [flags] | remove FOLDER [-device NAME]", short: "the folders that are taken up: list, add, change, take out",
		long: `list tells every source of the devices here: where it is, by which rule it goes, and
what is wrong with it. add has a folder taken up, change says otherwise which rules it
follows or what of it is taken up, remove takes it out; what is stored stays. Each tells in a sentence what it changes; with -try it only tells. The device
and the rule need no name where there is only one. The plan's text keeps its comments
and its order: see yardtide plan diff.

  yardtide source add Pictures/Regatta -device chart-table -rule bench -try
  yardtide source add PICTURES -rule raws,everyday       # the first that takes an item counts
  yardtide source change PICTURES -leave-out "Screenshots/,*.tmp" -largest "4 GB"
  yardtide source change PICTURES -leave-out ""          # leave nothing out

-only and -leave-out take patterns of the gitignore language, with commas.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var edit wire.SourceEdit
			fs.StringVar(&edit.Device, "device", "", "the `device` whose folder it is")
			var set []func(*wire.SourceRules)
			ruleFlag(fs, &set)
			scopeFlags(fs, &set)
			fs.BoolVar(&edit.Try, "try", false, "only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listSources(ctx, e, c, r.json)
				case len(args) == 2 && (args[0] == "add" || args[0] == "change" || args[0] == "remove"):
					edit.Folder, edit.Add, edit.Remove = args[1], args[0] == "add", args[0] == "remove"
					if args[0] == "change" && len(set) == 0 {
						return wrongUse("say what to change: -rule, -only, -leave-out, -hidden, -smallest, -largest, -taken-from, -taken-until or -new-since")
					}
					return editSource(ctx, e, c, edit, set, r.json)
				}
				return wrongUse("say list, or add, change or remove and one folder")
			}
		},
	}
}

func listSources(ctx context.Context, e env, c client.Client, json bool) error {
	y, err := c.Status(ctx)
	if err != nil {
		return err
	}
	sources := map[string][]wire.Source{}
	for _, d := range y.Devices {
		sources[d.Name] = d.Sources
	}
	if json {
		return asJSON(e.out, sources)
	}
	p := newPage(e, c.URL)
	for _, d := range y.Devices {
		p.line(0, "%s", p.paint(strong, d.Name))
		if len(d.Sources) == 0 {
			p.line(2, "no source")
		}
		for _, s := range d.Sources {
			p.line(2, "%s %s  %s", plain(s.Folder), plain(s.Says), p.paint(quiet, plain(s.Path)))
			for _, problem := range s.Problems {
				p.line(4, "%s %s", p.paint(asks, "!"), plain(strings.TrimSpace(problem.Says+" "+problem.Todo)))
			}
		}
	}
	return nil
}

// editSource fills in what is only there once, and edits.
func editSource(ctx context.Context, e env, c client.Client, edit wire.SourceEdit, set []func(*wire.SourceRules), json bool) error {
	plan, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	devices, rules := map[string]bool{}, map[string]bool{}
	for _, r := range plan.Rules {
		rules[r.Name] = true
	}
	for _, s := range plan.Sources {
		devices[s.Device] = true
	}
	only := func(flag, value string, of map[string]bool) (string, error) {
		if value != "" || len(of) != 1 {
			if value == "" {
				return "", wrongUse("name one with %s", flag)
			}
			return value, nil
		}
		for one := range of {
			value = one
		}
		return value, nil
	}
	if edit.Device, err = only("-device", edit.Device, devices); err != nil {
		return err
	}
	if !edit.Remove {
		now := wire.SourceRules{Rules: []string{}, Only: []string{}, LeaveOut: []string{}}
		for _, s := range plan.Sources {
			if s.PlanSource == edit.PlanSource {
				now = s.SourceRules
			}
		}
		for _, change := range set {
			change(&now)
		}
		if len(now.Rules) == 0 {
			one, err := only("-rule", "", rules)
			if err != nil {
				return err
			}
			now.Rules = []string{one}
		}
		edit.Set = &now
	}
	done, err := c.EditSource(ctx, edit)
	if err != nil {
		return err
	}
	return edited(e, done, json)
}

// edited tells what an edit of the plan changed.
func edited(e env, done wire.PlanEdited, json bool) error {
	if json {
		return asJSON(e.out, done)
	}
	for _, says := range done.Says {
		fmt.Fprintln(e.out, plain(says))
	}
	printNotes(e, wire.PlanNotes{Notes: done.Notes})
	if done.Tried != nil {
		printTried(newPage(e, ""), *done.Tried)
		fmt.Fprintln(e.out)
	}
	if done.Version == 0 {
		fmt.Fprintln(e.out, "That was a try; nothing is changed.")
		return nil
	}
	fmt.Fprintf(e.out, "The plan is version %d now; yardtide plan undo takes it back.\n", done.Version)
	return nil
}

// ruleFlag and scopeFlags are the flags that say what a source follows, and what of it
// is taken up; each that is given adds what it changes.
func ruleFlag(fs *flag.FlagSet, set *[]func(*wire.SourceRules)) {
	fs.Func("rule", "the `rules` that it follows, with commas: the first that takes an item counts", func(text string) error {
		*set = append(*set, func(s *wire.SourceRules) { s.Rules = listOf(text) })
		return nil
	})
}

func scopeFlags(fs *flag.FlagSet, set *[]func(*wire.SourceRules)) {
	words := func(name, says string, into func(*wire.SourceRules) *[]string) {
		fs.Func(name, says, func(text string) error {
			*set = append(*set, func(s *wire.SourceRules) { *into(s) = listOf(text) })
			return nil
		})
	}
	word := func(name, says string, into func(*wire.SourceRules) *string) {
		fs.Func(name, says, func(text string) error {
			*set = append(*set, func(s *wire.SourceRules) { *into(s) = text })
			return nil
		})
	}
	words("only", "`patterns`, with commas: only what one of them fits; empty for everything", func(s *wire.SourceRules) *[]string { return &s.Only })
	words("leave-out", "`patterns` of what is left out, with commas; empty for none", func(s *wire.SourceRules) *[]string { return &s.LeaveOut })
	fs.BoolFunc("hidden", "take up hidden files, too (-hidden=false: no longer)", func(text string) error {
		yes, err := strconv.ParseBool(text)
		*set = append(*set, func(s *wire.SourceRules) { s.Hidden = yes })
		return err
	})
	word("smallest", "only files of this `size` on; empty for any", func(s *wire.SourceRules) *string { return &s.Smallest })
	word("largest", "only files up to this `size`; empty for any", func(s *wire.SourceRules) *string { return &s.Largest })
	word("taken-from", "only what was taken from this `day` on; empty for any", func(s *wire.SourceRules) *string { return &s.TakenFrom })
	word("taken-until", "only what was taken until this `day`; empty for any", func(s *wire.SourceRules) *string { return &s.TakenUntil })
	word("new-since", "only what came into the folder from this `day` on; empty for all", func(s *wire.SourceRules) *string { return &s.NewSince })
}

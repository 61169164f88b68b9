package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"yardtide/client"
	"yardtide/wire"
)

func sourceCommand() command {
	return command{
		name: "source", usage: "list | add FOLDER [-device NAME] [-rule NAME] | remove FOLDER [-device NAME]", short: "the folders that are taken up: list, add, take out",
		long: `list tells every source of the devices here: where it is, by which rule it goes, and
what is wrong with it. add has a folder taken up, remove no longer; what is stored
stays. Each tells in a sentence what it changes; with -try it only tells. The device
and the rule need no name where there is only one. The plan's text keeps its comments
and its order: see yardtide plan diff.

  yardtide source add Pictures/Regatta -device chart-table -rule bench -try`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var edit wire.SourceEdit
			fs.StringVar(&edit.Device, "device", "", "the `device` whose folder it is")
			fs.StringVar(&edit.Rule, "rule", "", "the `rule` that it follows")
			fs.BoolVar(&edit.Try, "try", false, "only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listSources(ctx, e, c, r.json)
				case len(args) == 2 && (args[0] == "add" || args[0] == "remove"):
					edit.Folder, edit.Remove = args[1], args[0] == "remove"
					return editSource(ctx, e, c, edit, r.json)
				}
				return wrongUse("say list, or add or remove and one folder")
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
			p.line(2, "%s by %s  %s", plain(s.Folder), s.Rule, p.paint(quiet, plain(s.Path)))
			for _, problem := range s.Problems {
				p.line(4, "%s %s", p.paint(asks, "!"), plain(strings.TrimSpace(problem.Says+" "+problem.Todo)))
			}
		}
	}
	return nil
}

// editSource fills in what is only there once, and edits.
func editSource(ctx context.Context, e env, c client.Client, edit wire.SourceEdit, json bool) error {
	plan, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	devices, rules := map[string]bool{}, map[string]bool{}
	for _, r := range plan.Rules {
		rules[r.Name] = true
		for _, s := range r.Follows {
			devices[s.Device] = true
		}
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
		if edit.Rule, err = only("-rule", edit.Rule, rules); err != nil {
			return err
		}
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
	if done.Version == 0 {
		fmt.Fprintln(e.out, "That was a try; nothing is changed.")
		return nil
	}
	fmt.Fprintf(e.out, "The plan is version %d now; yardtide plan undo takes it back.\n", done.Version)
	return nil
}

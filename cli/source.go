package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

func sourceCommand() Command {
	return Command{
		Name: "source", Usage: "list | add FOLDER [flags] | change FOLDER [flags] | remove FOLDER [-device NAME]",
		Short: "the folders that are taken up: list, add, change, take out",
		Long: `list tells every source of the devices here: where it is, by which rule it goes, and
what is wrong with it. add has a folder taken up, change says otherwise which rules it
follows or what of it is taken up, remove takes it out; what is stored stays. Each tells in a sentence what it changes; with -try it only tells. The device
and the rule need no name where there is only one. The plan's text keeps its comments
and its order: see yardtide plan diff.

  yardtide source add Pictures/Regatta -device chart-table -rule bench -try
  yardtide source add PICTURES -rule raws,everyday       # the first that takes an item counts
  yardtide source change PICTURES -leave-out "Screenshots/,*.tmp" -largest "4 GB"
  yardtide source change PICTURES -leave-out ""          # leave nothing out

-only and -leave-out take patterns of the gitignore language, with commas.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var e sourceEdit
			fs.StringVar(&e.device, "device", "", "the `device` whose folder it is")
			fs.Func("rule", "the `rules` that it follows, with commas: the first that takes an item counts",
				func(text string) error {
					e.set(listOf(text), "rules")
					return nil
				})
			keyFlags(fs, &e.given, partKeys("devices", "sources"), "folder", "rules")
			fs.BoolVar(&e.try, "try", false, "only tell what it would change")
			return func(ctx context.Context, env Env, args []string) error {
				c := r.client(env)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listSources(ctx, env, c, r.json)
				case len(args) == 2 && (args[0] == "add" || args[0] == "change" || args[0] == "remove"):
					if args[0] == "change" && len(e.given.edits) == 0 {
						return WrongUse("say what to change: %s", flagNames(fs, "url", "json", "device", "try", "data"))
					}
					now, err := c.Plans().InForce(ctx)
					if err != nil {
						return err
					}
					edits, err := e.edits(ctx, c, now, args[0], args[1])
					if err != nil {
						return err
					}
					return editPlan(ctx, env, c, planwire.PlanEdits{Base: now.Version, Edits: edits, Try: e.try}, r.json)
				}
				return WrongUse("say list, or add, change or remove and one folder")
			}
		},
	}
}

// sourceEdit is what the flags of a source say.
type sourceEdit struct {
	given
	device string
	try    bool
}

// edits are those of the plan that the flags ask for. What is there only once needs no name.
func (e sourceEdit) edits(ctx context.Context, c client.Client, now planwire.PlanText, verb,
	folder string) (edits []plan.Edit, err error) {
	device := e.device
	if devices := namesOf(now.Values, "devices"); device == "" && len(devices) == 1 {
		device = devices[0]
	}
	if device == "" {
		return nil, WrongUse("name one with -device")
	}
	at := []string{"devices", device, "sources"}
	sources, _ := partOf(now.Values, at[:2]...)["sources"].([]any)
	n := slices.IndexFunc(sources, func(s any) bool { return s.(map[string]any)["folder"] == folder })
	one := append(slices.Clone(at), fmt.Sprintf("#%d", n))
	switch {
	case verb == "add" && n >= 0:
		return nil, fmt.Errorf("%s of %s is in the plan already; change it instead", folder, device)
	case verb != "add" && n < 0:
		return nil, fmt.Errorf("%s has no source %q; yardtide source list tells them", device, folder)
	case verb == "change":
		return e.under(one...), nil
	case verb == "remove":
		return []plan.Edit{{Path: one}}, nil
	}
	source := e.whole()
	source["folder"] = folder
	if rules := namesOf(now.Values, "rules"); source["rules"] == nil {
		if len(rules) != 1 {
			return nil, WrongUse("name one with -rule")
		}
		source["rules"] = rules
	}
	if sources != nil {
		return []plan.Edit{{Path: append(at, "+"), Value: source}}, nil
	}
	y, err := c.Status(ctx) // one that joined has no folders yet
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(y.Devices, func(d wire.Device) bool { return d.Name == device }) {
		return nil, fmt.Errorf("the plan has no device %q", device)
	}
	return []plan.Edit{{Path: at[:2], Value: map[string]any{"sources": []any{source}}, New: true}}, nil
}

func listSources(ctx context.Context, e Env, c client.Client, json bool) error {
	y, err := c.Status(ctx)
	if err != nil {
		return err
	}
	sources := map[string][]wire.Source{}
	for _, d := range y.Devices {
		sources[d.Name] = d.Sources
	}
	if json {
		return asJSON(e.Out, sources)
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

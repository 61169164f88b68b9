package cli

import (
	"context"
	"flag"
	"fmt"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/wire/planwire"
)

func renditionCommand() Command {
	return Command{
		Name: "rendition", Usage: "list | set NAME [flags] | remove NAME", Short: "the forms in which rules may send, " +
			"beside as shot",
		Long: `A rendition is a form with limits of its own; a rule says which kinds go in it
(yardtide rule set NAME -send photo=family). A picture that is within the limits goes as
shot, and so does one that would get no smaller. With -try it is only told what would
change.

  yardtide rendition set family -long-edge 2560
  yardtide try IMG_4000.jpg -as family        # see it before deciding`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			var form given
			keyFlags(fs, &form, partKeys("renditions"))
			try := fs.Bool("try", false, "set, remove: only tell what it would change")
			return func(ctx context.Context, e Env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listRenditions(ctx, e, c, r.json)
				case len(args) != 2 || args[0] != "set" && args[0] != "remove":
					return WrongUse("say list, or set or remove and the name of a rendition")
				}
				if args[0] == "set" && len(form.edits) == 0 {
					return WrongUse("say what it asks for: %s", flagNames(fs, "url", "json", "try", "data"))
				}
				now, err := c.Plans().InForce(ctx)
				if err != nil {
					return err
				}
				path := []string{"renditions", args[1]}
				edits := []plan.Edit{{Path: path}}
				switch {
				case args[0] == "remove":
				case partOf(now.Values, path...) == nil:
					edits[0].Value = form.whole()
				default:
					edits = form.under(path...)
				}
				return editPlan(ctx, e, c, planwire.PlanEdits{Base: now.Version, Edits: edits, Try: *try}, r.json)
			}
		},
	}
}

func listRenditions(ctx context.Context, e Env, c client.Client, json bool) error {
	now, err := c.Plans().InForce(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.Out, now.Renditions)
	}
	p := newPage(e, c.URL)
	if len(now.Renditions) == 0 {
		p.line(0, "None: everything goes as shot. Make one: yardtide rendition set family -long-edge 2560")
	}
	for _, r := range now.Renditions {
		used := "no rule sends so"
		if len(r.Rules) > 0 {
			used = "used by " + words.And(r.Rules)
		}
		p.line(0, "%s: %s; %s.", p.paint(strong, plain(r.Name)), plain(r.Says), plain(used))
	}
	return nil
}

func tryCommand(makePicture func(context.Context, string, plan.Rendition, string) (MadePicture, error)) Command {
	return Command{
		Name: "try", Usage: "FILE -as NAME [-rule RULE] [-o FILE]", Short: "see one of your pictures in another form, " +
			"and what that form comes to for all of them",
		Long: `Makes of a picture what a rendition of the plan makes of it (-as), or limits that are
given here, and tells how large it is both ways: in pixels of the longer edge, in
megapixels and in bytes. Then a few of your own pictures are made to tell what the form
comes to for all that a rule takes. Nothing is changed or sent; -o keeps what was made.

  yardtide try IMG_4000.jpg -as family -rule everyday
  yardtide try IMG_4000.jpg -long-edge 1600 -quality 75 -o small.jpg`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			asked := planwire.FormAsked{Kind: "photo"}
			var form given
			keyFlags(fs, &form, partKeys("renditions"))
			fs.StringVar(&asked.Name, "as", "", "a `rendition` of the plan")
			fs.StringVar(&asked.Rule, "rule", "", "the `rule` for whose items it is told; for all when left out")
			out := fs.String("o", "", "a new `file` for what is made")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) != 1 {
					return WrongUse("say try and one file")
				}
				if asked.Form.Form = form.whole(); (asked.Name == "") == (len(form.edits) == 0) {
					return WrongUse("say -as and a rendition of the plan, or limits such as -long-edge 2560, and not both")
				}
				return tryPicture(ctx, e, r, asked, func(form plan.Rendition) (MadePicture,
					error) {
					return makePicture(ctx, args[0], form, *out)
				})
			}
		},
	}
}

// tried is what try tells, as JSON.
type triedPicture struct {
	AsShot   planwire.FormSize      `json:"asShot"`
	Made     planwire.FormSize      `json:"made"`
	Why      string                 `json:"why"`
	Forecast *planwire.FormForecast `json:"forecast,omitempty"`
}

func tryPicture(ctx context.Context, e Env, r reach, asked planwire.FormAsked,
	makePicture func(plan.Rendition) (MadePicture, error)) error {
	c := r.client(e)
	said := asked.Form.Form
	if asked.Name != "" {
		now, err := c.Plans().InForce(ctx)
		if err != nil {
			return err
		}
		if said = partOf(now.Values, "renditions", asked.Name); said == nil {
			return fmt.Errorf("the plan has no rendition %q; yardtide rendition list tells them", asked.Name)
		}
	}
	form, err := plantext.ReadRendition(said)
	if err != nil {
		return err
	}
	made, err := makePicture(form)
	if err != nil {
		return err
	}
	t := triedPicture{AsShot: made.AsShot, Made: made.Made, Why: made.Why}
	if made.Kind == media.Graphic {
		asked.Kind = string(media.Graphic)
	}
	// What it comes to for all is told where a service answers.
	named := asked.Name != ""
	if !named {
		asked.Name = "so"
	}
	all, ferr := c.Plans().ForecastForm(ctx, asked)
	if ferr == nil {
		t.Forecast = &all
	}
	if r.json {
		return asJSON(e.Out, t)
	}
	p := newPage(e, c.URL)
	size := func(label string, s planwire.FormSize) {
		p.line(0, "%s %s", p.paint(strong, fmt.Sprintf("%-9s", label)), formSize(s))
	}
	size("as shot", t.AsShot)
	if t.Why != "" {
		p.line(0, "It would go as shot: %s.", plain(t.Why))
	} else {
		size(plain(asked.Name), t.Made)
		p.line(0, "That is %s of the bytes.", percent(t.Made.Bytes, t.AsShot.Bytes))
	}
	switch {
	case ferr != nil && !named:
		p.line(0, "What it comes to for all your pictures is told by a service: %s", plain(ferr.Error()))
	case ferr != nil:
		return ferr
	default:
		p.line(0, "%s", plain(all.Says))
	}
	return nil
}

// formSize tells a size in each of the units that people count in.
func formSize(s planwire.FormSize) string {
	return fmt.Sprintf("%d × %d pixels: %d px on the longer edge, %.1f megapixels, %s", s.Width, s.Height,
		max(s.Width, s.Height), float64(s.Width)*float64(s.Height)/1e6, words.Bytes(s.Bytes))
}

func percent(part, of int64) string {
	if of == 0 {
		return "0%"
	}
	return fmt.Sprintf("%d%%", (100*part+of/2)/of)
}

package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"time"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/probe"
	"yardtide/engine/rendition"
	"yardtide/engine/scan"
	"yardtide/wire"
)

func renditionCommand() command {
	return command{
		name: "rendition", usage: "list | set NAME [flags] | remove NAME", short: "the forms in which rules may send, beside as shot",
		long: `A rendition is a form with limits of its own; a rule says which kinds go in it
(yardtide rule set NAME -send photo=family). A picture that is within the limits goes as
shot, and so does one that would get no smaller. With -try it is only told what would
change.

  yardtide rendition set family -long-edge 2560
  yardtide try IMG_4000.jpg -as family        # see it before deciding`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			var form given
			keyFlags(fs, &form, partKeys("renditions"))
			try := fs.Bool("try", false, "set, remove: only tell what it would change")
			return func(ctx context.Context, e env, args []string) error {
				c := r.client(e)
				switch {
				case len(args) == 1 && args[0] == "list":
					return listRenditions(ctx, e, c, r.json)
				case len(args) != 2 || args[0] != "set" && args[0] != "remove":
					return wrongUse("say list, or set or remove and the name of a rendition")
				}
				if args[0] == "set" && len(form.edits) == 0 {
					return wrongUse("say what it asks for: %s", flagNames(fs, "url", "json", "try", "data"))
				}
				now, err := c.Plan(ctx)
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
				return editPlan(ctx, e, c, wire.PlanEdits{Base: now.Version, Edits: edits, Try: *try}, r.json)
			}
		},
	}
}

func listRenditions(ctx context.Context, e env, c client.Client, json bool) error {
	now, err := c.Plan(ctx)
	if err != nil {
		return err
	}
	if json {
		return asJSON(e.out, now.Renditions)
	}
	p := newPage(e, c.URL)
	if len(now.Renditions) == 0 {
		p.line(0, "None: everything goes as shot. Make one: yardtide rendition set family -long-edge 2560")
	}
	for _, r := range now.Renditions {
		used := "no rule sends so"
		if len(r.Rules) > 0 {
			used = "used by " + gate.And(r.Rules)
		}
		p.line(0, "%s: %s; %s.", p.paint(strong, plain(r.Name)), plain(r.Says), plain(used))
	}
	return nil
}

func tryCommand() command {
	return command{
		name: "try", usage: "FILE -as NAME [-rule RULE] [-o FILE]", short: "see one of your pictures in another form, and what that form comes to for all of them",
		long: `Makes of a picture what a rendition of the plan makes of it (-as), or limits that are
given here, and tells how large it is both ways: in pixels of the longer edge, in
megapixels and in bytes. Then a few of your own pictures are made to tell what the form
comes to for all that a rule takes. Nothing is changed or sent; -o keeps what was made.

  yardtide try IMG_4000.jpg -as family -rule everyday
  yardtide try IMG_4000.jpg -long-edge 1600 -quality 75 -o small.jpg`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			asked := wire.FormAsked{Kind: "photo"}
			var form given
			keyFlags(fs, &form, partKeys("renditions"))
			fs.StringVar(&asked.Name, "as", "", "a `rendition` of the plan")
			fs.StringVar(&asked.Rule, "rule", "", "the `rule` for whose items it is told; for all when left out")
			out := fs.String("o", "", "a new `file` for what is made")
			return func(ctx context.Context, e env, args []string) error {
				if len(args) != 1 {
					return wrongUse("say try and one file")
				}
				if asked.Form.Form = form.whole(); (asked.Name == "") == (len(form.edits) == 0) {
					return wrongUse("say -as and a rendition of the plan, or limits such as -long-edge 2560, and not both")
				}
				return tryPicture(ctx, e, r, asked, args[0], *out)
			}
		},
	}
}

// tried is what try tells, as JSON.
type triedPicture struct {
	AsShot   wire.FormSize      `json:"asShot"`
	Made     wire.FormSize      `json:"made"`
	Why      string             `json:"why"`
	Forecast *wire.FormForecast `json:"forecast,omitempty"`
}

func tryPicture(ctx context.Context, e env, r reach, asked wire.FormAsked, file, out string) error {
	c := r.client(e)
	said := asked.Form.Form
	if asked.Name != "" {
		now, err := c.Plan(ctx)
		if err != nil {
			return err
		}
		if said = partOf(now.Values, "renditions", asked.Name); said == nil {
			return fmt.Errorf("the plan has no rendition %q; yardtide rendition list tells them", asked.Name)
		}
	}
	form, err := plan.ReadRendition(said)
	if err != nil {
		return err
	}
	f, err := scan.Open(file)
	if err != nil {
		return fmt.Errorf("opening the picture: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("looking at the picture: %w", err)
	}
	facts, err := probe.Read(f, info.Size(), info.ModTime(), time.Local)
	if err != nil {
		return fmt.Errorf("reading the picture: %w", err)
	}
	src := rendition.Source{F: f, Size: info.Size(), ContentType: facts.ContentType}
	is, err := rendition.SizeOf(src)
	if err != nil {
		return fmt.Errorf("%s is no picture that can be made smaller: %w", file, err)
	}
	t := triedPicture{AsShot: wire.FormSize{Width: is.W, Height: is.H, Bytes: info.Size()}}
	content, made, err := rendition.Bytes(ctx, src, form)
	var as rendition.AsShot
	switch {
	case errors.As(err, &as):
		t.Made, t.Why = t.AsShot, as.Why
	case err != nil:
		return err
	default:
		t.Made = wire.FormSize{Width: made.W, Height: made.H, Bytes: made.Bytes}
		if out != "" {
			if err := writeNew(out, content); err != nil {
				return err
			}
		}
	}
	if facts.Kind == "graphic" {
		asked.Kind = "graphic"
	}
	// What it comes to for all is told where a service answers.
	named := asked.Name != ""
	if !named {
		asked.Name = "so"
	}
	all, ferr := c.ForecastForm(ctx, asked)
	if ferr == nil {
		t.Forecast = &all
	}
	if r.json {
		return asJSON(e.out, t)
	}
	p := newPage(e, c.URL)
	size := func(label string, s wire.FormSize) {
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
func formSize(s wire.FormSize) string {
	return fmt.Sprintf("%d × %d pixels: %d px on the longer edge, %.1f megapixels, %s", s.Width, s.Height, max(s.Width, s.Height), float64(s.Width)*float64(s.Height)/1e6, gate.Bytes(s.Bytes))
}

func percent(part, of int64) string {
	if of == 0 {
		return "0%"
	}
	return fmt.Sprintf("%d%%", (100*part+of/2)/of)
}

// writeNew writes a file that is not there yet.
func writeNew(file string, content []byte) (err error) {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("writing what was made: %w", err)
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing what was made: %w", errors.Join(err, os.Remove(file)))
	}
	return nil
}

package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/wire/planwire"
)

func planCommand() Command {
	return Command{
		Name: "plan", Usage: "check FILE | try FILE | apply FILE [-base N] | show | history | diff [A] B | undo [N] | schema", Short: "check, try, apply or show the plan, and its versions",
		Long: `check looks for mistakes and says all of them, with line and column; it needs
no service, and with one (YARDTIDE_TOKEN) also tells what would follow. try tells what a plan would do to the items that
there are: what is newly taken up or left out, what would go now and over which
network, what each place gets and whether it fits, and what would no longer count as
safe, beside what today's plan does; it changes nothing. apply puts a plan in force, after the same check; with -base it is
refused when another version than N is in force, so that nobody's change gets
lost. show prints the one in force, and its version on the standard error.
history tells every change in a sentence, the newest first; diff tells what changed
from version A to B (from the one before, without A), in sentences and in the text.
undo puts version N in force again, the one before today's without N: as a new
version, so that it can be undone too.
schema prints the JSON Schema for editors. FILE may be - for
the standard input.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			base := fs.Int64("base", 0, "the `version` that the file was made of, as plan show tells it")
			return func(ctx context.Context, e Env, args []string) error {
				if len(args) == 0 {
					return WrongUse("say check, try, apply, show, history, diff, undo or schema")
				}
				verb, args := args[0], args[1:]
				switch verb {
				case "check", "try", "apply":
					return ofDraft(ctx, e, r, verb, args, *base)
				case "show":
					return showPlan(ctx, e, r, args)
				case "history", "diff", "undo":
					return versions(ctx, e, r, verb, args)
				case "schema":
					return printSchema(e, args)
				}
				return WrongUse("%q is none of check, try, apply, show, history, diff, undo, schema", verb)
			}
		},
	}
}

// ofDraft checks or tries the plan in a file, or puts the plan in force.
func ofDraft(ctx context.Context, e Env, r reach, verb string, args []string, base int64) error {
	if len(args) != 1 {
		return WrongUse("name one file")
	}
	text, err := readPlan(e, args[0])
	if err != nil {
		return err
	}
	p, err := plantext.Parse(args[0], text)
	if err != nil {
		return err
	}
	draft := planwire.PlanDraft{Text: string(text), File: args[0]}
	switch verb {
	case "try":
		return tryPlan(ctx, e, r, draft)
	case "check":
		return checkPlan(ctx, e, r, p, draft)
	}
	return applyPlan(ctx, e, r, p, draft, base)
}

func tryPlan(ctx context.Context, e Env, r reach, draft planwire.PlanDraft) error {
	tried, err := r.client(e).Plans().Try(ctx, draft)
	if err != nil {
		return err
	}
	if r.json {
		return asJSON(e.Out, tried)
	}
	for _, says := range tried.Says {
		fmt.Fprintln(e.Out, plain(says))
	}
	printNotes(e, planwire.PlanNotes{Notes: tried.Notes})
	printTried(newPage(e, ""), tried)
	return nil
}

// checkPlan tells that a plan has no mistakes and, where a service answers, what the plan would change.
func checkPlan(ctx context.Context, e Env, r reach, p *plan.Plan, draft planwire.PlanDraft) error {
	if r.json {
		return asJSON(e.Out, p)
	}
	fmt.Fprintf(e.Out, "%s: no mistakes. %s\n", draft.File, sums(p))
	c := r.client(e)
	if c.Token == "" {
		printNotes(e, planwire.PlanNotes{Notes: words.Said(words.Doubts(p))})
		return nil
	}
	notes, err := c.Plans().Check(ctx, draft)
	if err != nil {
		return err
	}
	fmt.Fprintln(e.Out, "What it would change:")
	for _, says := range notes.Says {
		fmt.Fprintf(e.Out, "  %s\n", plain(says))
	}
	printNotes(e, notes)
	return nil
}

// applyPlan puts a plan in force over version base, or over the version in force where base is 0.
func applyPlan(ctx context.Context, e Env, r reach, p *plan.Plan, draft planwire.PlanDraft, base int64) error {
	c := r.client(e)
	notes, err := c.Plans().Check(ctx, draft)
	if err != nil {
		return err
	}
	if base == 0 {
		if base, err = versionNow(ctx, c); err != nil {
			return err
		}
	}
	applied, err := c.Plans().Apply(ctx, planwire.PlanChange{Text: draft.Text, File: draft.File, Base: base})
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is in force, as version %d. %s\n", draft.File, applied.Version, sums(p))
	printNotes(e, notes)
	return nil
}

func showPlan(ctx context.Context, e Env, r reach, args []string) error {
	if err := NoArguments(args); err != nil {
		return err
	}
	p, err := r.client(e).Plans().InForce(ctx)
	if err != nil {
		return err
	}
	if r.json {
		return asJSON(e.Out, p)
	}
	fmt.Fprintf(e.Err, "version %d; put a changed one in force with: yardtide plan apply FILE -base %d\n", p.Version,
		p.Version)
	_, err = fmt.Fprint(e.Out, p.Text)
	return err
}

func printSchema(e Env, args []string) error {
	if err := NoArguments(args); err != nil {
		return err
	}
	text, err := plantext.Schema()
	if err != nil {
		return err
	}
	_, err = e.Out.Write(text)
	return err
}

func printNotes(e Env, notes planwire.PlanNotes) {
	for _, note := range notes.Notes {
		fmt.Fprintf(e.Out, "! %s\n", plain(note))
	}
}

// versionNow is the version of the plan in force, 0 before the first.
func versionNow(ctx context.Context, c client.Client) (int64, error) {
	p, err := c.Plans().InForce(ctx)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return 0, nil
	}
	return p.Version, err
}

func sums(p *plan.Plan) string {
	return fmt.Sprintf("%s: %s, %s, %s.", plain(p.Yard), count(int64(len(p.Devices)), "device"),
		count(int64(len(p.Destinations)), "destination"), count(int64(len(p.Rules)), "rule"))
}

func readPlan(e Env, file string) ([]byte, error) {
	if file == "-" {
		text, err := io.ReadAll(io.LimitReader(e.In, plantext.MaxSize+1))
		if err != nil {
			return nil, fmt.Errorf("reading the standard input: %w", err)
		}
		return text, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the plan: %w", err)
	}
	return text, nil
}

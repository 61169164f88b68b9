package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"

	"yardtide/client"
	"yardtide/core/plan"
)

func planCommand() command {
	return command{
		name: "plan", usage: "check FILE | apply FILE | show | schema", short: "check, apply or show the plan",
		long: `check looks for mistakes and says all of them, with line and column; it needs
no service. apply puts a plan in force, after the same check. show prints the
one in force. schema prints the JSON Schema for editors. FILE may be - for
the standard input.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			return func(ctx context.Context, e env, args []string) error {
				if len(args) == 0 {
					return wrongUse("say check, apply, show or schema")
				}
				verb, args := args[0], args[1:]
				switch verb {
				case "check", "apply":
					if len(args) != 1 {
						return wrongUse("name one file")
					}
					text, err := readPlan(e, args[0])
					if err != nil {
						return err
					}
					p, err := plan.Parse(args[0], text)
					if err != nil {
						return err
					}
					if verb == "check" {
						if r.json {
							return asJSON(e.out, p)
						}
						fmt.Fprintf(e.out, "%s: no mistakes. %s\n", args[0], sums(p))
						return nil
					}
					if err := r.client(e).ApplyPlan(ctx, client.PlanText{Text: string(text), File: args[0]}); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "%s is in force. %s\n", args[0], sums(p))
					return nil
				case "show":
					if err := noArguments(args); err != nil {
						return err
					}
					p, err := r.client(e).Plan(ctx)
					if err != nil {
						return err
					}
					if r.json {
						return asJSON(e.out, p)
					}
					_, err = fmt.Fprint(e.out, p.Text)
					return err
				case "schema":
					if err := noArguments(args); err != nil {
						return err
					}
					text, err := plan.Schema()
					if err == nil {
						_, err = e.out.Write(text)
					}
					return err
				}
				return wrongUse("%q is none of check, apply, show, schema", verb)
			}
		},
	}
}

func sums(p *plan.Plan) string {
	return fmt.Sprintf("%s: %s, %s, %s.", plain(p.Yard), count(int64(len(p.Devices)), "device"), count(int64(len(p.Destinations)), "destination"), count(int64(len(p.Rules)), "rule"))
}

func readPlan(e env, file string) ([]byte, error) {
	if file == "-" {
		text, err := io.ReadAll(io.LimitReader(e.in, plan.MaxSize+1))
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

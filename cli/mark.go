package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"

	"yardtide/core/words"
	"yardtide/wire/findwire"
)

func markCommand() Command {
	return Command{
		Name: "mark", Usage: "[flags] [WORD ...]", Short: "mark, hide, note or put into sets what a question finds",
		Long: `Says something of what a question finds (as yardtide find has it): it is marked, hidden from
the library, noted, put into a set of a name of your own, or taken out. What is on its device
gets it in an open sidecar beside (XMP), which goes along to the places; what other programs
wrote there stays. Picks of a rule can go by it: marked, or set NAME.

  yardtide mark -mark "regatta"
  yardtide mark -put "Launch day" -from 2026-05-31 -to 2026-05-31
  yardtide mark -hide -folder "DCIM/Screenshots"
  yardtide find -set "Launch day"`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			var q question
			r.flags(fs, true)
			q.flags(fs)
			var a findwire.SayAsked
			for _, one := range []struct {
				name, says string
				into       **bool
				is         bool
			}{{"mark", "mark it", &a.Marked, true}, {"unmark", "mark it no longer", &a.Marked, false},
				{"hide", "hide it from the library; find -hidden has it", &a.Hidden, true}, {"show", "hide it no longer", &a.Hidden, false}} {
				fs.BoolFunc(one.name, one.says, func(string) error {
					if *one.into != nil {
						return errors.New("two flags say the opposite")
					}
					*one.into = new(one.is)
					return nil
				})
			}
			fs.Func("note", "note this `text`; empty for none", func(text string) error { a.Note = &text; return nil })
			fs.StringVar(&a.Put, "put", "", "put it into the `set` of this name")
			fs.StringVar(&a.Take, "take", "", "take it out of the `set` of this name")
			return func(ctx context.Context, e Env, args []string) error {
				values, err := q.of(args)
				if err != nil {
					return err
				}
				if a.Marked == nil && a.Hidden == nil && a.Note == nil && a.Put == "" && a.Take == "" {
					return WrongUse("say what is to be changed: -mark, -unmark, -hide, -show, -note, -put or -take")
				}
				if len(values) == 0 {
					return WrongUse("say of what, such as a word of its name or -folder")
				}
				a.Question = inBody(values)
				said, err := r.client(e).Library().Say(ctx, a)
				if err != nil {
					return err
				}
				if r.json {
					return asJSON(e.Out, said)
				}
				fmt.Fprintf(e.Out, "Said of %s.\n", words.Things(said.N))
				return nil
			}
		},
	}
}

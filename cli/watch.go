package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"yardtide/wire"
)

func watchCommand() Command {
	return Command{
		Name: "watch", Usage: "[flags]", Short: "follow the status live",
		Long: `Shows the status and follows it until interrupted: in a terminal in place,
elsewhere one status after the other. With -json, one line of JSON a change.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, Env, []string) error {
			var r reach
			r.flags(fs, true)
			n := fs.Int("n", 0, "end after this many, 0 for never")
			return func(ctx context.Context, e Env, args []string) error {
				if err := NoArguments(args); err != nil {
					return err
				}
				ctx, done := context.WithCancel(ctx)
				defer done()
				seen := 0
				c := r.client(e)
				return c.Watch(ctx, func(s wire.Yard) error {
					if seen++; *n > 0 && seen >= *n {
						defer done()
					}
					if r.json {
						return lineJSON(e.Out, s)
					}
					var b strings.Builder
					p := newPage(e, c.URL) // anew: the terminal may have another size now
					onto := p
					onto.w = &b
					printStatus(onto, s)
					text := b.String()
					if p.width > 0 {
						text = redraw(text, p)
					} else {
						text += "\n"
					}
					_, err := fmt.Fprint(e.Out, text)
					return err
				})
			}
		},
	}
}

// redraw prints over what was there: home, each line to its end, the rest
// cleared. Lines were wrapped; those beyond the terminal's height are left out, so
// that nothing scrolls, and the last tells it.
func redraw(text string, p page) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if most := max(2, p.height-1); len(lines) > most {
		left := len(lines) - most + 1
		lines = append(lines[:most-1], p.paint(quiet, fmt.Sprintf("… %d more lines: yardtide status tells all", left)))
	}
	var b strings.Builder
	b.WriteString("\x1b[H")
	for i, line := range lines {
		if i > 0 {
			b.WriteString("\r\n")
		}
		b.WriteString(p.cut(line) + "\x1b[K")
	}
	b.WriteString("\x1b[J")
	return b.String()
}

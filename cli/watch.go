package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"yardtide/client"
)

func watchCommand() command {
	return command{
		name: "watch", usage: "[flags]", short: "follow the status live",
		long: `Shows the status and follows it until interrupted: in a terminal in place,
elsewhere one status after the other. With -json, one line of JSON a change.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			var r reach
			r.flags(fs, true)
			n := fs.Int("n", 0, "end after this many, 0 for never")
			return func(ctx context.Context, e env, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				file, isFile := e.out.(*os.File)
				inPlace := isFile && term.IsTerminal(int(file.Fd()))
				ctx, done := context.WithCancel(ctx)
				defer done()
				seen := 0
				return r.client(e).Watch(ctx, func(s client.Yard) error {
					if seen++; *n > 0 && seen >= *n {
						defer done()
					}
					if r.json {
						return lineJSON(e.out, s)
					}
					var b strings.Builder
					printStatus(&b, s)
					text := b.String()
					if inPlace {
						text = redraw(text, int(file.Fd()))
					} else {
						text += "\n"
					}
					_, err := fmt.Fprint(e.out, text)
					return err
				})
			}
		},
	}
}

// redraw prints over what was there: home, each line to its end, the rest
// cleared; lines beyond the terminal's size are cut so that nothing scrolls.
func redraw(text string, fd int) string {
	width, height, err := term.GetSize(fd)
	if err != nil {
		width, height = 80, 24
	}
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	var b strings.Builder
	b.WriteString("\x1b[H")
	for i, line := range lines[:min(len(lines), height-1)] {
		if r := []rune(line); len(r) > width {
			line = string(r[:width-1]) + "…"
		}
		if i > 0 {
			b.WriteString("\r\n")
		}
		b.WriteString(line + "\x1b[K")
	}
	b.WriteString("\x1b[J")
	return b.String()
}

package cli

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"
)

// page prints lines for a person: wrapped at the terminal's width, in colour where
// the terminal has it. Elsewhere, as in a file, each line is printed as it is.
type page struct {
	w      io.Writer
	width  int // 0 is no terminal
	height int
	colour bool
	links  string // the console's address, to which names lead; "" where nothing can be clicked
}

// newPage looks what the output is. NO_COLOR, with any value, means no colour
// (no-color.org). In a terminal names lead to the console.
func newPage(e Env, console string) page {
	p := page{w: e.Out}
	file := e.terminal
	if file == nil || !isTerminal(file) {
		return p
	}
	var err error
	if p.width, p.height, err = term.GetSize(int(file.Fd())); err != nil || p.width <= 0 {
		p.width, p.height = 80, 24
	}
	if e.getenv("TERM") != "dumb" {
		p.colour, p.links = e.getenv("NO_COLOR") == "", console
	}
	return p
}

// item is the name of an item that leads to its story in the console, by the
// terminals' common OSC 8; those that do not know it show the name.
func (p page) item(device, key, name string) string {
	if p.links == "" {
		return name
	}
	return ansi.SetHyperlink(p.links+"/queue?item="+url.QueryEscape(device+"/"+key)) + name + ansi.ResetHyperlink()
}

// tone is what a piece of text is, for its colour. Nothing is told by colour alone.
type tone string

const (
	strong tone = "1"  // what counts
	quiet  tone = "2"  // what is beside
	good   tone = "32" // safe
	moves  tone = "36" // on its way
	waits  tone = "33" // waits
	asks   tone = "31" // needs the keeper
)

// tones are those of states.
var tones = map[string]tone{"safe": good, "sending": moves, "preparing": moves, "proving": moves, "waiting": waits,
	"stuck": asks, "skipped": quiet}

func (p page) paint(t tone, text string) string {
	if !p.colour || t == "" || text == "" {
		return text
	}
	return "\x1b[" + string(t) + "m" + text + "\x1b[0m"
}

// line prints one line, indented. What does not fit goes on below, two further in.
func (p page) line(indent int, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	before := strings.Repeat(" ", indent)
	if p.width == 0 {
		fmt.Fprintf(p.w, "%s%s\n", before, text)
		return
	}
	wrapped := ansi.Wrap(text, max(p.width-indent-2, 20), "/")
	for i, part := range strings.Split(wrapped, "\n") {
		if i == 1 {
			before += "  "
		}
		fmt.Fprintf(p.w, "%s%s\n", before, strings.TrimRight(part, " "))
	}
}

// space prints an empty line.
func (p page) space() { fmt.Fprintln(p.w) }

// head prints the title of a part.
func (p page) head(text string) {
	p.space()
	p.line(0, "%s", p.paint(strong, text))
}

// cut shortens a line to the terminal's width.
func (p page) cut(text string) string {
	if p.width == 0 {
		return text
	}
	return ansi.Truncate(text, p.width, "…")
}

// meter is a bar of so many cells.
func (p page) meter(part, all int64, cells int) string {
	full := 0
	if all > 0 {
		full = int(min(part, all) * int64(cells) / all)
	}
	return p.paint(moves, strings.Repeat("█", full)) + p.paint(quiet, strings.Repeat("░", cells-full))
}

// paged lets a person read a long list page by page in a terminal, with $PAGER or
// less. Without either, or elsewhere, it is printed straight through.
func paged(e Env, console string, list func(page) error) error {
	p := newPage(e, console)
	name := e.getenv("PAGER")
	if name == "" {
		name = "less"
	}
	words := strings.Fields(name)
	if p.width == 0 || len(words) == 0 {
		return list(p)
	}
	program, err := exec.LookPath(words[0])
	if err != nil {
		return list(p)
	}
	pager := exec.Command(program, words[1:]...)
	pager.Stdout, pager.Stderr = e.terminal, e.Err
	if e.getenv("LESS") == "" {
		pager.Env = append(os.Environ(), "LESS=FRX") // ends by itself when all fits on the screen; keeps colours
	}
	in, err := pager.StdinPipe()
	if err != nil {
		return fmt.Errorf("starting the pager %s: %w", name, err)
	}
	if err := pager.Start(); err != nil {
		return fmt.Errorf("starting the pager %s: %w", name, err)
	}
	p.w = printer{in, true}
	lerr := list(p)
	if err := in.Close(); lerr == nil && err != nil {
		lerr = err
	}
	if err := pager.Wait(); lerr == nil && err != nil {
		lerr = fmt.Errorf("the pager %s: %w", name, err)
	}
	return lerr
}

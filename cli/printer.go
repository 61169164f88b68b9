package cli

import (
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A printer is the one way to a person's terminal. Names of files, folders and devices come from
// outside, and may hold what steers a terminal, or turns what is read around: that never gets
// through, from wherever it is printed. What this program itself steers a terminal with does.
type printer struct {
	w        io.Writer
	terminal bool // w is one: elsewhere nothing is steered
}

// steering are the sequences that this program writes: colours, the pieces of a screen that is
// drawn anew, and links to the console (ECMA-48, 8.3; OSC 8).
var steering = regexp.MustCompile(`\x1b\[(?:0|1|2|31|32|33|36|97;40)m|\x1b\[[HKJ]|\x1b\]8;;(?:https?://[!-~]+/queue\?item=[!-~]+)?(?:\x1b\\|\x07)`)

// Write implements io.Writer.
func (p printer) Write(b []byte) (int, error) {
	var out strings.Builder
	text := string(b)
	for len(text) > 0 {
		var at []int
		if p.terminal {
			at = steering.FindStringIndex(text)
		}
		if at == nil {
			at = []int{len(text), len(text)}
		}
		out.WriteString(strings.Map(func(r rune) rune {
			if r == '\n' || r == '\t' || r == '\r' || shows(r) {
				return r
			}
			return hidden
		}, strings.ToValidUTF8(text[:at[0]], string(hidden))))
		out.WriteString(text[at[0]:at[1]])
		text = text[at[1]:]
	}
	if _, err := io.WriteString(p.w, out.String()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// hidden stands for what may not be printed.
const hidden = '·'

// shows tells whether a character may be printed: no control, nothing that turns the direction
// or hides (Unicode Standard Annex 9; the tag characters), and no separator of lines.
func shows(r rune) bool {
	switch {
	case unicode.IsControl(r), r == utf8.RuneError:
		return false
	case r == 0x061c, r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 &&
		r <= 0x206f, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe0fff:
		return r == 0x200d // joins the parts of one picture sign
	case r >= 0xfdd0 && r <= 0xfdef, r&0xfffe == 0xfffe:
		return false
	}
	return true
}

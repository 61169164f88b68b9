package cli

import (
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostile are names that steer a terminal, or turn what is read around.
var hostile = map[string]string{
	"a colour":              "\x1b[31mred",
	"a title":               "\x1b]0;owned\x07",
	"a screen cleared":      "\x1b[2J\x1b[1;1H",
	"a link elsewhere":      "\x1b]8;;http://elsewhere.example/\x1b\\click\x1b]8;;\x1b\\",
	"a control of one byte": "\u009b31m",
	"a bell and a return":   "a\x07\x08\x7f",
	"turned around":         "photo\u202egpj.exe",
	"isolated":              "\u2066a\u2069\u2067b\u2068",
	"marks":                 "\u200e\u200f\u061c",
	"separators":            "a\u2028b\u2029c",
	"tags":                  "a\U000E0041\U000E007F",
	"nothing to see":        "a\u200bb\u2060c\ufeff",
	"no UTF-8":              "a\xff\xfe\xc3",
	"noncharacters":         "\ufdd0\uffff\U0001fffe",
	"a device reply":        "\x1bP+q544e\x1b\\",
	"half a colour":         "\x1b[",
}

func TestNothingFromOutsideSteersTheTerminal(t *testing.T) {
	for what, name := range hostile {
		var b strings.Builder
		p := printer{w: &b}
		n, err := p.Write([]byte("before " + name + " after\n"))
		require.NoError(t, err)
		assert.Equal(t, len("before "+name+" after\n"), n)
		for _, r := range b.String() {
			assert.True(t, r == '\n' || !unicode.IsControl(r) && !unicode.Is(unicode.Bidi_Control, r) && r != 0x2028 &&
				r != 0x2029, "%s: %q", what, b.String())
		}
		assert.True(t, strings.HasPrefix(b.String(), "before ") && strings.HasSuffix(b.String(), " after\n"), what)
		assert.NotContains(t, plain(name), "\x1b", what)
	}
}

func TestOurOwnSteeringGetsThrough(t *testing.T) {
	p := page{width: 60, height: 10, colour: true, links: "http://127.0.0.1:7400"}
	for _, own := range []string{p.paint(strong, "larch"), p.item("desk", "k-1", "keel.jpg"), redraw("a\nb", p),
		"\r\x1b[Kdone", "\x1b[97;40m█\x1b[0m\n", "Grüße, 写真, مرحبا, 👩‍🚀\n"} {
		var b strings.Builder
		_, err := printer{&b, true}.Write([]byte(own))
		require.NoError(t, err)
		assert.Equal(t, own, b.String())
	}
}

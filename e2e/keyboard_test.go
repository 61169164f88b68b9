package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
)

// focused is the label of what has the focus.
func (k keeper) focused() string {
	k.t.Helper()
	label, err := browser.Eval[string](k.b, `((e) => (e.getAttribute('aria-label') || e.labels?.[0]?.innerText || e.innerText || '').trim())(document.activeElement)`)
	require.NoError(k.t, err)
	return label
}

// reach goes on by the keyboard until something has the focus whose label begins so.
func (k keeper) reach(label string) {
	k.t.Helper()
	var seen []string
	for range 90 {
		at := k.focused()
		if strings.HasPrefix(at, label) {
			return
		}
		seen = append(seen, at)
		require.NoError(k.t, k.b.Press(kb.Tab))
	}
	require.Fail(k.t, "the keyboard does not reach "+label, "%q", slices.Compact(seen))
}

// press reaches something by the keyboard, and presses it.
func (k keeper) press(label string) {
	k.t.Helper()
	k.reach(label)
	require.NoError(k.t, k.b.Press(kb.Enter))
}

// looksIn gives what holds a page against axe, and against its width, by day, by night, on a desk and
// on a phone.
func looksIn(t *testing.T, k keeper) func(page string) {
	axe := axeIn(t, k)
	return func(page string) {
		t.Helper()
		for _, scheme := range []string{"light", "dark"} {
			for _, width := range []int64{1280, 390} {
				require.NoError(t, k.b.Scheme(scheme))
				require.NoError(t, k.b.Size(width, 844))
				axe(fmt.Sprintf("%s, %s at %d", page, scheme, width))
				wide, err := browser.Eval[bool](k.b, `document.documentElement.scrollWidth > innerWidth`)
				require.NoError(t, err)
				assert.False(t, wide, "%s scrolls sideways at %d", page, width)
			}
		}
		require.NoError(t, k.b.Size(1280, 800))
	}
}

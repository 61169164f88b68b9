package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
)

// The sentences of the plan are changed by keyboard alone, word by word, axe on every control; what is not
// touched stays byte for byte, and a doubt leads to the control that mends it.
func TestTheSentencesOfThePlanByKeyboard(t *testing.T) {
	s := demo(t, t.TempDir(), "-items", "6")
	k := atTheConsole(t, s)
	k.sees("Storage") // the page is there, and goes nowhere by itself
	k.click("Plan")
	looks := looksIn(t, k)
	k.sees("up to 6.0 MB per day", "pictures and clips, ", "the newest came")
	looks("the plan")
	before := s.ok("plan", "show")
	inForce := func(change string) {
		t.Helper()
		k.press("Put it in force")
		require.Eventually(t, func() bool { return strings.Contains(s.ok("plan", "show"), change) }, 20*time.Second,
			50*time.Millisecond, change)
	}

	k.press("up to 6.0 MB per day")
	require.Eventually(t, func() bool { return k.focused() == "everyday: up to 6.0 MB per day" }, 5*time.Second,
		20*time.Millisecond, "one goes on in what was opened")
	looks("an allowance")
	k.reach("Carries at most, in steps")
	require.NoError(t, k.b.Press(kb.ArrowRight))
	k.sees("everyday: Pictures and videos go to", "up to 10 MB per day", "Nothing changes on galley-phone")
	require.NoError(t, k.b.Press(kb.Escape))
	require.Eventually(t, func() bool { return strings.HasPrefix(k.focused(), "up to 6.0 MB per day") }, 5*time.Second,
		20*time.Millisecond, "and is back where one was")
	assert.Equal(t, before, s.ok("plan", "show"), "it was left")

	k.press("up to 6.0 MB per day")
	k.reach("Carries at most, in steps")
	require.NoError(t, k.b.Press(kb.ArrowRight))
	k.sees("up to 10 MB per day")
	inForce("allowance: 10 MB per day")
	assert.Equal(t, strings.Replace(before, "allowance: 6 MB per day", "allowance: 10 MB per day", 1),
		s.ok("plan", "show"), "byte for byte")

	k.press("at 22:00-06:00")
	looks("hours")
	k.press("And at these hours")
	k.sees("at 22:00-06:00, 12:00-13:30")
	require.NoError(t, k.b.Press(kb.Escape))

	k.press("when charging or the battery has at least 40%")
	looks("power")
	k.reach("Charge of the battery")
	require.NoError(t, k.b.Press(kb.ArrowRight))
	k.sees("the battery has at least 45%")
	inForce("at least 45%")

	k.press("over cellular (change it, everyday)")
	looks("a way")
	k.press("also while roaming")
	k.reach("also while roaming")
	require.NoError(t, k.b.Press(" "))
	k.sees("(photos only, also while roaming)")
	inForce("roaming: true")

	dir := t.TempDir()
	code, says := s.call("POST", "/api/v1/plan/edits", `{"edits": [{"path": ["destinations", "loft"], "value": {"kind": "folder",
		"path": "`+dir+`"}}]}`, map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(t, 200, code, says)
	k.sees("Nothing goes to loft: no rule sends there.")
	k.press("Where it goes: bench")
	k.reach("loft")
	require.NoError(t, k.b.Press(" "))
	looks("places")
	k.sees("What follows bench also goes to loft.")
	inForce("loft]")
	k.gone("What is in Restoration of chart-table goes to one place only")
	k.gone("Nothing goes to loft")
	pale := func() (words []string) {
		t.Helper()
		words, err := browser.Eval[[]string](k.b, `[...document.querySelectorAll("button.text-quiet")].map((e) => e.innerText)`)
		require.NoError(t, err)
		return words
	}
	assert.Empty(t, pale())
	code, says = s.call("POST", "/api/v1/plan/edits", `{"edits": [{"path": ["rules", "everyday", "lanes", "+"],
		"value": {"over": "wired"}}]}`, map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(t, 200, code, says)
	k.sees("is never used")
	assert.NotEmpty(t, pale(), "what does nothing is pale")
	for _, complaint := range k.b.Complaints() { // hours that lie in one another
		assert.Contains(t, complaint, "/api/v1/plan")
	}
}

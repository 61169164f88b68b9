package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
)

// The keeper changes the plan as text, sees what it would do before it counts, and goes
// back; what is being written outlives another's change.
func TestThePlanIsChangedAtTheConsole(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Plan")
	k.sees("Pictures go to disk, over Wi-Fi.", "in of desk by all", "The yard is called Desk.", "by a command")
	first := folderPlan(dir)

	wrong := strings.Replace(first, "over: wifi", "over: pigeon", 1)
	require.NoError(t, k.b.Type("The plan as text", wrong))
	k.click("See what it would change")
	k.sees("The plan has a mistake", "12:     lanes: [{over: pigeon}]", `"pigeon" is not a network`)
	k.click("Go to line 12")
	marked, err := browser.Eval[string](k.b,
		`((e) => e.value.slice(e.selectionStart, e.selectionEnd))(document.activeElement)`)
	require.NoError(t, err)
	assert.Equal(t, "    lanes: [{over: pigeon}]", marked)
	// What may stand at a place of the text is offered, and put there.
	half := strings.Replace(first, "    to: [disk]\n", "    to: [disk]\n    ord\n", 1)
	require.NoError(t, k.b.Type("The plan as text", half))
	_, err = browser.Eval[bool](k.b, `((e) => { const at = e.value.indexOf("    ord") + 7; e.focus(); e.setSelectionRange(at, at); return true })(document.querySelector("[aria-label='The plan as text']"))`)
	require.NoError(t, err)
	require.NoError(t, k.b.Press(kb.End))
	k.sees("What may stand here", "order:")
	k.click("order:")
	k.sees("newest", "smallest")
	k.click("smallest")
	k.click("See what it would change")
	k.sees("the smallest first")
	second := strings.Replace(first, "take: [photo]", "take: [photo, video] # clips, too", 1)
	require.NoError(t, k.b.Type("The plan as text", second))
	k.click("See what it would change")
	k.sees("all also takes videos.")
	k.click("In the text")
	k.sees("+    take: [photo, video] # clips, too")
	assert.NotContains(t, s.ok("plan", "show"), "video", "it does not count yet")
	k.click("Put it in force")
	k.sees("Version 2 is in force.", "Pictures and videos go to disk, over Wi-Fi.", "on this page")
	assert.Equal(t, second, s.ok("plan", "show"), "byte for byte")

	// Another changes it meanwhile: what is being written stays, and is refused.
	third := strings.Replace(second, "over: wifi", "over: wired", 1)
	require.NoError(t, k.b.Type("The plan as text", third))
	require.NoError(t, os.WriteFile(dir+"/other.yaml", []byte("# another\n"+second), 0o644))
	s.ok("plan", "apply", dir+"/other.yaml")
	k.sees("The plan was changed meanwhile: version 3 is in force")
	k.click("See what it would change")
	k.sees("over a wired network")
	k.click("Put it in force")
	k.sees("version 3 is in force; look at what it says")
	k.click("Drop the change")

	k.click("Put version 1 in force again")
	k.sees("all no longer takes videos.", "an earlier one again")
	assert.Equal(t, first, s.ok("plan", "show"))
	assert.Contains(t, s.ok("plan", "history"), "all no longer takes videos.")
	assert.Contains(t, s.ok("plan", "diff", "1", "2"), "+    take: [photo, video] # clips, too")
	assert.Contains(t, s.ok("plan", "diff", "1", "4"), "the same text")
	assert.Contains(t, s.ok("plan", "undo"), "Version 3 is in force again, as version 5.")
	assert.Contains(t, s.ok("plan", "check", dir+"/plan.yaml"), "all no longer takes videos.")
	for _, wrong := range [][]string{{"plan", "undo", "99"}, {"plan", "diff", "7"}} {
		_, errOut, code := s.run(wrong...)
		assert.Equal(t, 1, code, wrong)
		assert.Contains(t, errOut, "it has 1 to 5", wrong)
	}
	for _, wrong := range [][]string{{"plan", "undo", "-1"}, {"plan", "diff"}, {"plan", "history", "1"},
		{"plan", "diff", "one"}} {
		_, _, code := s.run(wrong...)
		assert.Equal(t, 2, code, wrong)
	}
	// A folder is added and taken out by a form; the rest of the text stays.
	text := s.ok("plan", "show")
	k.sees("version 5") // what comes in later moves what is clicked on
	k.click("Add a folder")
	require.NoError(t, k.b.Type("Folder", "more: pictures"))
	k.sees("more: pictures of desk is taken up, by all.")
	assert.Equal(t, text, s.ok("plan", "show"), "it was a try")
	k.click("Put it in force")
	k.sees("by a form", "more: pictures of desk")
	assert.Equal(t, strings.Replace(text, "{folder: in, rule: all}]",
		`{folder: in, rule: all}, {folder: "more: pictures", rule: all}]`, 1), s.ok("plan", "show"))
	assert.Contains(t, s.ok("source", "list"), "more: pictures by all")
	out := s.ok("source", "remove", "more: pictures", "-try")
	assert.Contains(t, out, "more: pictures of desk is no longer taken up; what is stored of it stays.")
	assert.Contains(t, out, "nothing is changed")
	assert.Contains(t, s.ok("source", "remove", "more: pictures"), "yardtide plan undo takes it back")
	assert.Equal(t, text, s.ok("plan", "show"))
	for wrong, says := range map[string]string{"in": "the only source", "nowhere": `no source "nowhere"`} {
		_, errOut, code := s.run("source", "remove", wrong)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, says)
	}
	_, errOut, code := s.run("source", "add", "in/below")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "in/below")
	_, _, code = s.run("source", "add")
	assert.Equal(t, 2, code)

	// What of a folder goes is changed so, too.
	k.click("Change in of desk", "Only some of it")
	require.NoError(t, k.b.Type("Leave out (one on each line)", "Screenshots/\n*.tmp"))
	k.sees("in of desk goes by all; not Screenshots/ and *.tmp; before, by all.")
	k.click("Put it in force")
	k.sees("in of desk by all; not Screenshots/ and *.tmp")
	assert.Contains(t, s.ok("source", "change", "in", "-largest", "4 GB", "-try"),
		"not Screenshots/ and *.tmp, up to 4.0 GB; before,")
	assert.Contains(t, s.ok("source", "change", "in", "-leave-out", ""), "in of desk goes by all; before, by all; not")
	assert.Equal(t, text, s.ok("plan", "show"))
	for wrong, says := range map[string]string{"-largest=4,5 GB": "is not a size", "-leave-out=#x": "is a comment",
		"-new-since=tomorrow": "is not a day", "-rule=none": `no rule "none"`, "-rule=all,all": "stands here twice"} {
		_, errOut, code := s.run("source", "change", "in", wrong)
		assert.Equal(t, 1, code, wrong)
		assert.Contains(t, errOut, says)
	}
	_, errOut, code = s.run("source", "add", "in")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "in the plan already")

	// So is a device.
	k.click("Change desk")
	require.NoError(t, k.b.Type("How fast it may send", "2 MB/s"))
	k.sees("desk sends no faster than 2.0 MB/s.")
	k.click("Leave it")
	assert.Contains(t, s.ok("device", "set", "desk", "-limit", "1 MB/s at 08:00-22:00; 5 MB/s", "-timezone",
		"Europe/Lisbon"), "desk sends no faster than 1.0 MB/s at 08:00-22:00, else 5.0 MB/s.")
	assert.Contains(t, s.ok("device", "list"),
		"It sends no faster than 1.0 MB/s at 08:00-22:00, else 5.0 MB/s; its hours are those of Europe/Lisbon.")
	s.ok("device", "set", "desk", "-limit", "", "-timezone", "")
	assert.Equal(t, text, s.ok("plan", "show"), "byte for byte")
	for wrong, says := range map[string]string{"-limit=fast": "is not a limit", "-timezone=Lisboa": "no time zone"} {
		_, errOut, code := s.run("device", "set", "desk", wrong)
		assert.Equal(t, 1, code, wrong)
		assert.Contains(t, errOut, says)
	}
	for _, wrong := range [][]string{{"device"}, {"device", "set", "desk"}, {"device", "burn", "desk"}} {
		_, _, code := s.run(wrong...)
		assert.Equal(t, 2, code, wrong)
	}

	// So is a rule.
	k.click("(change it, all)", "photos", "raw files", "graphics")
	k.sees("all no longer takes pictures.")
	assert.Equal(t, text, s.ok("plan", "show"), "it was a try")
	k.click("Put it in force")
	k.gone("Leave it") // what was open closes, and the words move
	k.click("More that may be said of all", "Hours", "Only at some hours")
	k.sees("all: Videos go to disk, over Wi-Fi, at 22:00-06:00.")
	k.click("Put it in force")
	k.sees("Videos go to disk, over Wi-Fi, at 22:00-06:00.")
	assert.Contains(t, s.ok("rule", "list"), "Videos go to disk, over Wi-Fi, at 22:00-06:00.")
	assert.Contains(t, s.ok("rule", "set", "all", "-hours", "", "-power", "charging", "-try"),
		"all: Videos go to disk, over Wi-Fi, when charging.")
	assert.Contains(t, s.ok("rule", "set", "all", "-take", "photo, video"), "all also takes photos.")
	k.sees("all also takes photos.") // a command changed it: the page follows
	for _, wrong := range [][]string{{"rule", "set", "all", "-to", "attic"}, {"rule", "set", "none", "-take", "photo"},
		{"rule", "set", "all", "-power", "now and then"}} {
		_, _, code := s.run(wrong...)
		assert.Equal(t, 1, code, wrong)
	}
	k.click("Another way")
	k.choose("Also over", "wired")
	k.sees("over Wi-Fi, or over a wired network")
	offered, err := browser.Eval[string](k.b, `[...document.querySelectorAll("option")].map(o => o.textContent).join()`)
	require.NoError(t, err)
	assert.NotContains(t, offered, "cellular", "the desk has no modem")
	assert.NotContains(t, k.text(), "Power", "nor a battery")
	k.click("Leave it", "Add a rule")
	require.NoError(t, k.b.Type("Name", "films"))
	k.sees("films is a new rule: Photos, raw files and videos go to disk, over Wi-Fi.", "No source follows the rule films")
	k.click("Put it in force")
	k.sees("Nobody follows it: it does nothing.")
	k.click("Take out films")
	k.sees("The rule films is gone.")
	k.click("Put it in force")
	before := ""
	require.Eventually(t, func() bool {
		before = s.ok("plan", "show")
		return !strings.Contains(before, "films:")
	}, time.Minute, 50*time.Millisecond)
	k.sees("desk follows it as it is")
	k.click("Otherwise on desk", "at 22:00-06:00 (change it, all on desk)")
	k.sees("At the hours that the rule has.")
	k.click("Only at some hours")
	require.NoError(t, k.setTime("From", "20:00"))
	k.sees("desk has of its own in all: at 20:00-06:00.")
	k.click("Put it in force")
	k.sees("On desk otherwise:", "over Wi-Fi, at 20:00-06:00")
	assert.Contains(t, s.ok("rule", "show", "all"), "on desk: at 20:00-06:00")
	assert.Contains(t, s.ok("rule", "set", "all", "-device", "desk", "-hours", "any", "-power", "", "-try"),
		"desk has of its own in all: at any hour.")
	k.click("As it is on desk")
	k.sees("desk follows all as it is.")
	k.click("Put it in force")
	k.sees("desk follows it as it is")
	assert.Contains(t, s.ok("rule", "set", "all", "-unused-for", "10 min", "-store-each", "yes", "-order", "smallest",
		"-try"), "when nobody used the device for 10 min, the smallest first; equal files are stored each.")
	for _, wrong := range [][]string{{"rule", "set", "all", "-as-it-is"},
		{"rule", "set", "all", "-device", "desk", "-take", "photo"}, {"rule", "set", "all", "-store-each", "maybe"}} {
		_, _, code := s.run(wrong...)
		assert.Equal(t, 2, code, wrong)
	}
	assert.Contains(t, s.ok("rule", "set", "all", "-over", "wifi,cellular", "-allowance", "200 MB per month", "-roaming",
		"yes", "-try"), "or over cellular up to 200 MB per month (also while roaming)")
	assert.Contains(t, s.ok("rule", "add", "papers", "-take", "document,other", "-to", "disk", "-hours", "22:00-06:00"),
		"papers is a new rule: Documents and other files go to disk, over Wi-Fi, at 22:00-06:00.")
	assert.Contains(t, s.ok("rule", "show", "papers"), "papers: Documents and other files go to disk")
	assert.Contains(t, s.ok("rule", "remove", "papers"), "The rule papers is gone.")
	assert.Equal(t, before, s.ok("plan", "show"), "byte for byte")
	for wrong, says := range map[string]string{"remove all": "in of desk follows all", "show none": `no rule "none"`,
		"add all -take photo -to disk": "already", "add b -take photo -to attic": "attic",
		"add a/b -take photo -to disk":                 "cannot be the name",
		"set all -over pigeon":                         "wifi, wired, cellular",
		"set all -over wifi,cellular -allowance 4,5MB": "not an allowance"} {
		_, errOut, code := s.run(append([]string{"rule"}, strings.Fields(wrong)...)...)
		assert.Equal(t, 1, code, wrong)
		assert.Contains(t, errOut, says, wrong)
	}
	for _, wrong := range [][]string{{"rule"}, {"rule", "set", "all"}, {"rule", "burn", "all"}} {
		_, _, code := s.run(wrong...)
		assert.Equal(t, 2, code, wrong)
	}
	for _, complaint := range k.b.Complaints() { // what was refused, the browser tells too
		assert.Regexp(t, `status of (422|409) .*/api/v1/plan`, complaint)
	}
}

// Two change one rule: what one did not touch is not put back to what it was when its form was
// opened, and nobody puts a change in force that was looked at on another version.
func TestTwoChangeOneRule(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Plan", "More that may be said of all", "Only files larger than")
	require.NoError(t, k.b.Type("Only files larger than", "2"))
	k.choose("Unit", "GB")
	k.sees("larger than 2.0 GB")
	base := s.yard().Plan
	s.ok("rule", "set", "all", "-hours", "22:00-06:00")
	k.sees("all was changed meanwhile, in version 2 of the plan.")
	k.sees("go to disk, over Wi-Fi, at 22:00-06:00.", "larger than 2.0 GB") // what was not touched is shown as it is
	k.click("Put it in force")
	require.Eventually(t, func() bool { return s.yard().Plan == 3 }, time.Minute, 50*time.Millisecond)
	text := s.ok("plan", "show")
	assert.Contains(t, text, "22:00-06:00", "the other's change stays")
	assert.Contains(t, text, "larger-than: 2")

	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	for _, try := range []string{"true", "false"} {
		code, says := s.call("POST", "/api/v1/plan/edits",
			fmt.Sprintf(`{"base": %d, "edits": [{"path": ["rules", "all", "order"], "value": "oldest"}], "try": %s}`, base,
				try), bearer)
		assert.Equal(t, 409, code, says)
		assert.Contains(t, says, "version 3 is in force")
	}
	assert.Equal(t, text, s.ok("plan", "show"))
	for _, wrong := range []string{"-1", "9223372036854775807", `"1"`, "1.5", "4"} {
		code, says := s.call("POST", "/api/v1/plan/edits", `{"base": `+wrong+
			`, "edits": [{"path": ["rules", "all", "order"], "value": "oldest"}]}`, bearer)
		assert.Contains(t, []int{409, 422}, code, "%s: %s", wrong, says)
	}
	assert.Equal(t, text, s.ok("plan", "show"))
}

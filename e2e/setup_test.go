package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// album fills the usual folders of an empty machine.
func album(t *testing.T, dir string) {
	t.Helper()
	for i := range 6 {
		content, err := standin.JPEG(i, 200, time.Date(2019+i, 5, 1, 12, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		file := fmt.Sprintf("%s/Pictures/%s/IMG_%04d.jpg", dir, []string{"Boats", "Yard"}[i%2], i)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, content, 0o644))
	}
	require.NoError(t, os.MkdirAll(dir+"/Documents", 0o755))
	require.NoError(t, os.WriteFile(dir+"/Documents/rigging.pdf", []byte("%PDF-1.7"), 0o644))
	require.NoError(t, os.MkdirAll(dir+"/loft", 0o755))
	require.NoError(t, os.MkdirAll(dir+"/shed", 0o755))
}

// counting counts what a newcomer does.
type counting struct {
	keeper
	clicks, words *int
}

func (c counting) click(labels ...string) {
	c.t.Helper()
	*c.clicks += len(labels)
	c.keeper.click(labels...)
}

func (c counting) types(field, text string) {
	c.t.Helper()
	*c.words++
	require.NoError(c.t, c.b.Type(field, text))
}

// A newcomer with a browser comes from an empty machine to the first safe picture.
func TestTheFirstHour(t *testing.T) {
	dir := t.TempDir()
	album(t, dir)
	s := bare(t, dir)
	began := time.Now()
	k := counting{atTheConsole(t, s), new(int), new(int)}
	k.sees("Whose pictures?")
	k.click("Of this computer")
	k.sees("Where shall your pictures go?")
	k.click("Add a place")
	k.types("Name", "loft")
	k.types("Folder", dir+"/loft")
	k.click("Test it")
	k.sees("It works, and nothing of the trial is left there.")
	k.click("Use this place")
	k.sees("Two places are better than one", "free")
	k.click("Next")
	k.sees("Which folders of this computer?", "6 files")
	require.NoError(t, k.b.Open(s.url+"/setup")) // a reload goes on where it was
	k.sees("Which folders of this computer?", "6 files")
	k.click("Next")
	k.sees("Which kinds of files?", "Photos", "none found")
	k.click("Next")
	k.sees("At any hour")
	k.click("Next")
	k.sees("So they would lie there", "2019/05/IMG_0000.jpg", "it gets a mark of its content")
	k.click("Next")
	k.sees("Is this what you want?", "6 pictures", "go to loft", "At the speed that the test saw")
	k.click("Start")
	k.sees("Everything is safe: 6 pictures.")
	t.Logf("from the page to the first safe picture: %d clicks, %d words typed, %s", *k.clicks, *k.words,
		time.Since(began).Round(time.Second))
	assert.LessOrEqual(t, *k.clicks, 12)
	assert.LessOrEqual(t, *k.words, 2)
	assert.Len(t, lying(t, dir+"/loft"), 6)
	plan := s.ok("plan", "show")
	assert.Contains(t, plan, "format: 2")
	assert.Contains(t, plan, "folder: PICTURES")
	assert.NoFileExists(t, s.data+"/setup.json")
	assert.Empty(t, k.b.Complaints())
}

// setup asks how far the first plan is.
func (s *service) setup(method, path, body string) (now planwire.SetupNow, code int) {
	s.t.Helper()
	code, text := s.call(method, "/api/v1/setup"+path, body, map[string]string{"Authorization": "Bearer " + s.token()})
	if code == http.StatusOK {
		require.NoError(s.t, json.Unmarshal([]byte(text), &now))
	}
	return now, code
}

// tried tries a folder as a place, and tells the job.
func (s *service) tried(name, folder string) (job wire.Job) {
	s.t.Helper()
	code, text := s.call(http.MethodPost, "/api/v1/destinations/try",
		fmt.Sprintf(`{"name": %q, "destination": {"kind": "folder", "path": %q}}`, name,
			folder), map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(s.t, http.StatusOK, code, text)
	require.NoError(s.t, json.Unmarshal([]byte(text), &job))
	for job.State == wire.JobRunning {
		time.Sleep(20 * time.Millisecond)
		var err error
		job, err = s.client().Jobs().Get(s.t.Context(), job.ID)
		require.NoError(s.t, err)
	}
	return job
}

// What was done of the set-up is kept through reloads, other browsers and kills, and
// what cannot be is refused and changes nothing.
func TestTheSetUpIsKeptAndRefusesWhatCannotBe(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	album(t, dir)
	s := bare(t, dir)
	now, code := s.setup(http.MethodGet, "", "")
	require.Equal(t, http.StatusOK, code)
	assert.Equal(t, 1, now.Step)
	assert.NotEmpty(t, now.Missing)

	place := func(name, path, job string) string {
		return fmt.Sprintf(`{"name": %q, "job": %q, "destination": {"kind": "folder", "path": %q}}`, name, job, path)
	}
	loft := s.tried("loft", dir+"/loft")
	_, code = s.setup(http.MethodPost, "/places", place("loft", dir+"/loft", loft.ID))
	require.Equal(t, http.StatusOK, code)
	for name, c := range map[string]struct {
		body string
		code int
	}{
		"a name that is taken":   {place("loft", dir+"/shed", s.tried("loft", dir+"/shed").ID), 422},
		"the same place again":   {place("attic", dir+"/loft", s.tried("attic", dir+"/loft").ID), 422},
		"another than was tried": {place("shed", dir+"/shed", loft.ID), 422},
		"one that failed":        {place("none", dir+"/none", s.tried("none", dir+"/none").ID), 422},
		"no such trial":          {place("shed", dir+"/shed", "99"), 404},
		"an empty name":          {place("", dir+"/shed", loft.ID), 422},
		"a name of 300 letters":  {place(strings.Repeat("x", 300), dir+"/shed", loft.ID), 422},
		"a name from the right":  {place("מזח", dir+"/shed", loft.ID), 422},
	} {
		_, code := s.setup(http.MethodPost, "/places", c.body)
		assert.Equal(t, c.code, code, name)
	}

	change := func(body string) (planwire.SetupNow, int) { t.Helper(); return s.setup(http.MethodPatch, "", body) }
	now, code = change(`{"step": 3}`)
	require.Equal(t, http.StatusOK, code)
	require.Len(t, now.Folders, 2)
	for name, body := range map[string]string{
		"no such folder":  `{"on": {"folder": "nowhere", "on": true}}`,
		"an empty folder": `{"on": {"folder": "  ", "on": true}}`,
		"out of the root": `{"on": {"folder": "../other", "on": true}}`,
		"a folder inside": fmt.Sprintf(`{"on": {"folder": %q, "on": true}}`, dir+"/Pictures/Boats"),
		"no such step":    `{"step": 8}`,
		"a key too many":  `{"colour": "blue"}`,
		"not JSON":        `{"step": `,
	} {
		_, code := change(body)
		assert.Contains(t, []int{400, 422}, code, name)
	}
	rule := func(key, value string) string {
		return fmt.Sprintf(`{"edits": [{"path": ["rules", "everyday", %s], "value": %s}]}`, key, value)
	}
	for body, says := range map[string]string{
		rule(`"lanes", "+"`, `{"over": "cellular", "allowance": "4,5 MB per day"}`):           "is not an allowance",
		rule(`"lanes", "+"`, `{"over": "cellular", "allowance": "0 MB per day"}`):             "is not a size",
		rule(`"lanes", "+"`, `{"over": "pigeon"}`):                                            "is not a network",
		rule(`"gates", "hours"`, `"25:00-26:00"`):                                             "past the end of the day",
		rule(`"gates", "power"`, `"sometimes"`):                                               "not a power gate",
		rule(`"take"`, `["sound"]`):                                                           "not a kind of file",
		rule(`"to"`, `["shed"]`):                                                              "has no rules, everyday, to",
		`{"edits": [{"path": ["destinations", "loft", "layout"], "value": "{moon}/{name}"}]}`: "unknown placeholder {moon}",
		`{"edits": [{"path": ["destinations", "loft", "path"], "value": "/etc"}]}`:            "has no destinations, loft, path",
		`{"edits": [{"path": ["destinations", "attic", "layout"], "value": "{name}"}]}`:       "has no destinations, attic, layout",
		`{"edits": [{"path": ["devices", "desk"], "value": {}}]}`:                             "has no devices, desk",
		`{"edits": [{"path": ["yard"], "value": " "}]}`:                                       "yard is empty",
	} {
		before, _ := s.setup(http.MethodGet, "", "")
		code, text := s.call(http.MethodPatch, "/api/v1/setup", body,
			map[string]string{"Authorization": "Bearer " + s.token()})
		assert.Contains(t, []int{409, 422}, code, body)
		assert.Contains(t, text, says, body)
		after, _ := s.setup(http.MethodGet, "", "")
		assert.Equal(t, before.Draft, after.Draft, "what is refused changes nothing")
	}
	for body, says := range map[string]string{rule(`"take"`, `[]`): "Choose a kind.",
		`{"edits": [{"path": ["yard"], "value": ""}]}`: "Give the household a name."} {
		now, code := change(body)
		require.Equal(t, http.StatusOK, code, body)
		assert.Contains(t, fmt.Sprint(now.Missing), says, body)
		assert.Empty(t, now.Text, "nothing can be started")
		_, code = s.setup(http.MethodPost, "/start", fmt.Sprintf(`{"version": %d}`, now.Version))
		assert.Equal(t, 422, code, body)
	}
	_, code = change(`{"edits": [{"path": ["yard"], "value": "Slip"}, {"path": ["rules", "everyday", "take"], "value": ["photo"]}, {"path": ["rules", "everyday", "lanes", "+"], "value": {"over": "cellular", "allowance": "45mb per day"}}, {"path": ["destinations", "loft", "layout"], "value": "{year}/{name}"}]}`)
	require.Equal(t, http.StatusOK, code)
	now, _ = change(rule(`"lanes", "#1"`, `null`))
	require.Empty(t, now.Missing)
	assert.Contains(t, now.Text, "layout: \"{year}/{name}\"")

	s.kill()
	s.start()
	again, code := s.setup(http.MethodGet, "", "")
	require.Equal(t, http.StatusOK, code)
	assert.Equal(t, now.Text, again.Text, "it goes on where it was")
	assert.Equal(t, int64(6), again.Takes.N)

	// A folder that vanishes meanwhile is told, and nothing starts without it.
	require.NoError(t, os.Rename(dir+"/Pictures", dir+"/away"))
	again, _ = s.setup(http.MethodGet, "", "")
	assert.Contains(t, fmt.Sprint(again.Missing), "not there any more")
	require.NoError(t, os.Rename(dir+"/away", dir+"/Pictures"))

	again, _ = s.setup(http.MethodGet, "", "")
	_, code = s.setup(http.MethodPost, "/start", fmt.Sprintf(`{"version": %d}`, again.Version-1))
	assert.Equal(t, 409, code, "another version than was said back")
	_, code = s.setup(http.MethodPost, "/start", fmt.Sprintf(`{"version": %d}`, again.Version))
	assert.Equal(t, http.StatusNoContent, code)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 6 })
	for _, c := range []string{"{}", `{"step": 2}`} {
		_, code = change(c)
		assert.Equal(t, 409, code, "there is a plan now")
	}
	now, _ = s.setup(http.MethodGet, "", "")
	assert.True(t, now.InForce)
}

// The whole first hour by keyboard alone, axe on every step.
func TestTheFirstHourByKeyboard(t *testing.T) {
	dir := t.TempDir()
	album(t, dir)
	s := bare(t, dir)
	k := atTheConsole(t, s)
	focused, reach, press := k.focused, k.reach, k.press
	looks := looksIn(t, k)
	k.sees("Whose pictures?")
	looks("whose")
	press("Of this computer")
	k.sees("Where shall your pictures go?")
	looks("nothing yet")
	press("Add a place")
	k.sees("Test it")
	reach("Name")
	require.NoError(t, k.b.Press("loft"))
	reach("Folder")
	require.NoError(t, k.b.Press(dir+"/loft"+kb.Enter))
	k.sees("It works, and nothing of the trial is left there.")
	looks("a place that works")
	press("Use this place")
	k.sees("Two places are better than one")
	looks("one place")
	press("Next")
	k.sees("Which folders of this computer?", "6 files")
	require.Eventually(t, func() bool { return focused() == "Which folders of this computer?" }, 5*time.Second,
		20*time.Millisecond, "the new step is where one goes on")
	press("What is in it: Pictures")
	k.sees("6 photos")
	reach("Take up Documents")
	require.NoError(t, k.b.Press(" "))
	s.untilSetup(func(now planwire.SetupNow) bool { return len(now.Folders) == 2 && now.Folders[1].On })
	looks("folders")
	press("Next")
	k.sees("Which kinds of files?")
	reach("Documents")
	require.NoError(t, k.b.Press(" "))
	s.untilSetup(func(now planwire.SetupNow) bool { return strings.Contains(now.Draft, "document") })
	looks("kinds")
	press("Next")
	k.sees("At any hour")
	looks("hours")
	press("Next")
	k.sees("So they would lie there")
	looks("names")
	press("Next")
	k.sees("Is this what you want?", "7 files")
	looks("said back")
	press("Start")
	k.sees("Everything is safe: 7 files.")
	assert.Empty(t, k.b.Complaints())
}

func (s *service) untilSetup(is func(planwire.SetupNow) bool) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { now, _ := s.setup(http.MethodGet, "", ""); return is(now) }, 10*time.Second,
		30*time.Millisecond)
}

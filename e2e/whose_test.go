package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// unset starts a service on which nothing is set up, and which devices elsewhere can reach.
func unset(t *testing.T) (s *service, dir string) {
	t.Helper()
	dir = t.TempDir()
	album(t, filepath.Join(dir, "desk"))
	addr := freePort(t)
	s = &service{t: t, url: "http://" + addr, data: filepath.Join(dir, "data"),
		args: []string{"serve", "-data", filepath.Join(dir, "data"), "-listen", addr, "-device", "desk", "-root",
			filepath.Join(dir, "desk"), "-home-network", freePort(t)}}
	s.start()
	t.Cleanup(s.stop)
	return s, dir
}

// camera fills the camera's folder of a device.
func camera(t *testing.T, dir string, n int) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir+"/DCIM/100YARDT", 0o755))
	for i := range n {
		content, err := standin.JPEG(100+i, 200, time.Date(2026, 5, 1+i, 12, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/DCIM/100YARDT/YARD%04d.JPG", dir, i), content, 0o644))
	}
}

// The first hour of a household whose pictures are on this computer and on a phone: the phone joins in the first
// step, the set-up goes on by itself, with the phone's own folders, and the first plan takes up both.
func TestTheFirstHourOfAPhone(t *testing.T) {
	s, dir := unset(t)
	camera(t, filepath.Join(dir, "galley-phone"), 3)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "galley-phone/Scans/1998"), 0o755))
	content, err := standin.JPEG(7, 200, time.Date(1998, 5, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "galley-phone/Scans/1998/slide.jpg"), content, 0o644))

	k := atTheConsole(t, s)
	k.sees("Whose pictures?")
	k.click("Of both")
	k.sees("A device joins")
	require.NoError(t, k.b.Type("What the device is called", "galley-phone"))
	k.click("Make a code")
	k.sees("What the picture says:")
	code := regexp.MustCompile(`What the picture says:\s*(\S+)`).FindStringSubmatch(k.text())
	require.Len(t, code, 2)
	phone := joinsBy(t, code[1], dir, "galley-phone")
	phone.start()
	k.sees("Where shall your pictures go?")
	k.click("Add a place")
	require.NoError(t, k.b.Type("Name", "loft"))
	require.NoError(t, k.b.Type("Folder", filepath.Join(dir, "desk/loft")))
	k.click("Test it")
	k.sees("It works, and nothing of the trial is left there.")
	k.click("Use this place", "Next")
	k.sees("Which folders?", "desk (this computer)", "6 files", "galley-phone", "3 files")

	// Folders of the phone are browsed with what is in each.
	k.click("Browse of galley-phone")
	k.sees("Scans 1 picture or clip", "DCIM 3 pictures and clips")
	k.click("Open Scans")
	k.sees("1998 1 picture or clip")
	k.click("Take it: 1998")
	k.sees("1998 1 picture or clip, ", "in the list", filepath.Join(dir, "galley-phone/Scans/1998"))
	k.click("Next")
	k.sees("Which kinds of files?", "10, ")
	k.click("Next")
	k.sees("At any hour")
	k.click("Next")
	k.sees("What shall they be called there?")
	k.click("Next")
	k.sees("Is this what you want?", "Of desk, ", "6 pictures", "Of galley-phone, ", "4 pictures")
	k.click("Start")
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 10 })
	plan := s.ok("plan", "show")
	assert.Contains(t, plan, "galley-phone:")
	assert.Contains(t, plan, "Scans/1998")
	assert.Contains(t, plan, "CAMERA")
	for _, complaint := range k.b.Complaints() {
		assert.Contains(t, complaint, "/api/v1/plan", "there was none yet")
	}
}

// A household without a picture on this computer: nothing of it is taken up, and without a device that joined
// nothing starts.
func TestTheFirstHourWithoutThisComputer(t *testing.T) {
	t.Parallel()
	s, dir := unset(t)
	loft := s.tried("loft", filepath.Join(dir, "desk/loft"))
	_, code := s.setup("POST", "/places", fmt.Sprintf(`{"name": "loft", "job": %q, "destination": {"kind": "folder", "path": %q}}`,
		loft.ID, filepath.Join(dir, "desk/loft")))
	require.Equal(t, 200, code)
	now, code := s.setup("PATCH", "", `{"whose": "here", "step": 3}`)
	require.Equal(t, 200, code)
	assert.Len(t, now.Folders, 2)
	for _, wrong := range []string{`{"whose": "nobody"}`, `{"whose": ""}`, `{"on": {"device": "galley-phone", "folder": "DCIM", "on": true}}`} {
		_, code = s.setup("PATCH", "", wrong)
		assert.Equal(t, 422, code, wrong)
	}
	now, code = s.setup("PATCH", "", `{"whose": "elsewhere", "step": 3}`)
	require.Equal(t, 200, code)
	assert.Empty(t, now.Folders)
	assert.Contains(t, fmt.Sprint(now.Missing), "No device has joined yet")
	_, code = s.setup("POST", "/start", fmt.Sprintf(`{"version": %d}`, now.Version))
	assert.Equal(t, 422, code)

	camera(t, filepath.Join(dir, "galley-phone"), 2)
	joins(t, s, dir, "galley-phone", "").start()
	require.Eventually(t, func() bool {
		now, _ = s.setup("PATCH", "", `{"step": 3}`)
		return len(now.Folders) == 1 && now.Folders[0].All.N == 2 && !now.Folders[0].Counting
	}, time.Minute, 200*time.Millisecond)
	assert.Equal(t, "galley-phone", now.Folders[0].Device)
	require.Empty(t, now.Missing)
	assert.NotContains(t, now.Text, "desk:")
	_, code = s.setup("POST", "/start", fmt.Sprintf(`{"version": %d}`, now.Version))
	require.Equal(t, 204, code)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 2 })
	assert.False(t, strings.Contains(s.ok("plan", "show"), "desk:"))
	assert.Contains(t, s.ok("look", "-folders", "-device", "galley-phone"), "CAMERA")
}

// While the service does not answer, the set-up and the plan stay on the page, and go on when it is back.
func TestWhatIsShownStaysWhileTheServiceIsAway(t *testing.T) {
	dir := t.TempDir()
	album(t, dir)
	s := bare(t, dir)
	k := atTheConsole(t, s)
	k.sees("Whose pictures?")
	k.click("Of this computer")
	k.sees("Where shall your pictures go?")
	k.click("What")
	k.sees("Which folders of this computer?", "6 files")
	s.kill()
	k.sees("The service does not answer since")
	k.sees("Which folders of this computer?", "6 files")
	k.click("Next")
	k.sees("The service does not answer.")
	s.start()
	k.gone("The service does not answer since")
	k.sees("Which folders of this computer?")
	k.click("How")
	k.sees("Which kinds of files?")
}

// A set-up that an earlier version kept, which asked for no devices and had a step less, goes on where it was.
func TestASetUpOfAnEarlierVersionGoesOn(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	album(t, dir)
	require.NoError(t, os.MkdirAll(dir+"/data", 0o700))
	kept := `{"version": 7, "step": %d, "device": "desk", "draft": %q, "places": [], "folders": [{"folder": "PICTURES", "path": "` +
		dir + `/Pictures", "on": true, "all": {"n": 6, "bytes": 45000}, "kinds": [], "years": [], "folders": [], "pictures": []}]}`
	draft := "format: 2\nyard: Slip\ntimezone: UTC\ndestinations: {}\ndevices:\n  desk:\n    sources: [{folder: PICTURES, rule: everyday}]\n" +
		"rules:\n  everyday:\n    take: [photo]\n    to: []\n    lanes: [{over: wifi}]\n"
	for name, c := range map[string]struct {
		draft string
		step  int // where it goes on
	}{"with its draft": {draft, 4}, "from before there was one": {"", 1}} {
		require.NoError(t, os.WriteFile(dir+"/data/setup.json", fmt.Appendf(nil, kept, 3, c.draft), 0o600))
		s := bare(t, dir)
		now, code := s.setup("GET", "", "")
		require.Equal(t, 200, code, name)
		assert.Equal(t, c.step, now.Step, name)
		assert.EqualValues(t, "here", now.Whose, name)
		require.Len(t, now.Folders, 1, name)
		assert.Equal(t, "desk", now.Folders[0].Device, name)
		assert.Contains(t, now.Draft, "folder: PICTURES", name)
		assert.NotContains(t, fmt.Sprint(now.Missing), "Choose a folder", name)
		s.stop()
	}
}

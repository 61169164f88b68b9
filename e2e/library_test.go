package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/e2e/browser"
	"yardtide/standin"
	"yardtide/wire"
)

// A closed library: opened by look, found among the strays, taken up by its originals; one in a folder that is taken
// whole is told, and one click ends that.
func TestClosedLibrariesAreTakenByTheirOriginals(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "keel", 3)
	require.NoError(t, standin.Library(dir+"/Old boats.boatcase", 1, 9, 480))
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 3 })

	out := s.ok("look", "Old boats.boatcase")
	assert.Contains(t, out, "Old boats.boatcase is a closed library: 9 originals")
	assert.Contains(t, out, "1 picture is here only in a smaller version and is taken; 2 files are no pictures or clips.")
	assert.Contains(t, out, `yardtide source add "Old boats.boatcase" -originals-only "." takes only originals of it`)
	var l wire.Look
	require.NoError(t, json.Unmarshal([]byte(s.ok("look", "Old boats.boatcase", "-json")), &l))
	assert.EqualValues(t, 9+2, l.Takes.N, "the database and the tag, too, as no rule is named")
	assert.EqualValues(t, 26, l.Libraries[0].Smaller.N)

	k := atTheConsole(t, s)
	k.click("Devices", "Look for pictures outside its folders, on desk")
	k.sees("Old boats.boatcase", "1 closed library in it, of which only the originals are taken")
	k.click("Take it up: Old boats.boatcase")
	s.until("the originals are safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 3+9 })
	assert.Contains(t, s.ok("plan", "show"), "originals-only")
	assert.Contains(t, s.ok("status"), "desk")

	// One that is put into a folder that is taken whole.
	require.NoError(t, standin.Library(dir+"/made", 40, 6, 480))
	require.NoError(t, os.Rename(dir+"/made", dir+"/in/Hulls.boatcase"))
	s.until("all of it is taken", func(y wire.Yard) bool { return total(y, queue.Safe) >= 3+9+20 })
	out = s.ok("strays")
	assert.Contains(t, out, "Hulls.boatcase in in is a closed library, and its smaller versions of pictures are taken, too.")
	k.click("Plan", "Devices", "Look for pictures outside its folders, on desk", "Only its originals: Hulls.boatcase")
	k.gone("Hulls.boatcase in in")
	assert.Empty(t, k.b.Complaints())
	for _, wrong := range []string{"../else", "/etc", ".,."} {
		_, errOut, code := s.run("source", "change", "in", "-originals-only", wrong)
		assert.Equal(t, 1, code, wrong)
		assert.NotEmpty(t, errOut, wrong)
	}
}

// The demo has a folder that cannot be read: it is told, with what to do, and everything else goes on. Root reads
// everything, so nobody runs it.
func TestAFolderOfTheDemoCannotBeRead(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "nobody")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
	program := filepath.Join(dir, "yardtide")
	content, err := os.ReadFile(binary)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, content, 0o755))
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Mkdir(dir+"/yard", 0o755))
	const nobody = 65534
	require.NoError(t, os.Chown(dir+"/yard", nobody, nobody))
	addr := freePort(t)
	s := &service{t: t, program: program, url: "http://" + addr, data: dir + "/yard/data", as: &syscall.Credential{Uid: nobody, Gid: nobody},
		args: []string{"demo", "-dir", dir + "/yard", "-listen", addr, "-storage", freePort(t), "-items", "4", "-clips=false", "-alone"}}
	s.start()
	t.Cleanup(s.stop)
	require.Eventually(t, func() bool {
		out, _, code := s.run("status")
		return code == 0 && strings.Contains(out, "Restoration/Locked sea chest: The folder cannot be read: permission denied. "+
			"Allow reading it. Everything else goes on.")
	}, 2*time.Minute, 200*time.Millisecond)
}

// Between the kinds and the hours the set-up asks in which form pictures go to each place, in figures of their own.
func TestTheSetUpAsksInWhichFormPicturesGo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(dir+"/loft", 0o755))
	for i := range 4 {
		content, err := standin.JPEG(i, 4200, time.Date(2026, 5, 1, 0, i, 0, 0, time.UTC))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(dir+"/Pictures", 0o755))
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/Pictures/%d.jpg", dir, i), content, 0o644))
	}
	for i := range 1 {
		clip := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", fmt.Sprintf("testsrc2=size=1920x1440:rate=8:duration=%d", 6+2*i),
			"-c:v", "libx264", "-preset", "ultrafast", "-pix_fmt", "yuv420p", fmt.Sprintf("%s/Pictures/%d.mp4", dir, i))
		out, err := clip.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	s := bare(t, dir)
	loft := s.tried("loft", dir+"/loft")
	_, code := s.setup(http.MethodPost, "/places", fmt.Sprintf(`{"name": "loft", "job": %q, "destination": {"kind": "folder", "path": %q}}`,
		loft.ID, dir+"/loft"))
	require.Equal(t, http.StatusOK, code)
	now, code := s.setup(http.MethodPatch, "", `{"step": 4}`)
	require.Equal(t, http.StatusOK, code)
	require.Eventually(t, func() bool {
		now, _ = s.setup(http.MethodGet, "", "")
		return len(now.Rooms) == 1 && len(now.Rooms[0].Forms) == 4 && now.Rooms[0].Forms[3].Known
	}, 2*time.Minute, 100*time.Millisecond)
	forms := now.Rooms[0].Forms
	assert.True(t, forms[0].Chosen)
	assert.Equal(t, []int{0, 3840, 2560, 1600}, []int{forms[0].LongEdge, forms[1].LongEdge, forms[2].LongEdge, forms[3].LongEdge})
	assert.Greater(t, forms[1].Range.Likely, forms[2].Range.Likely)
	assert.Greater(t, forms[2].Range.Likely, forms[3].Range.Likely)
	assert.Contains(t, forms[2].Says, "which fits in the")

	k := atTheConsole(t, s)
	k.sees("In which form?", "As shot: ", "Pictures at 2560 px at most: ")
	k.click("See one of yours at 1600 px")
	k.sees("As shot", "4200 × 3150: 4200 px on the longer edge, 13.2 megapixels", "1600 × 1200")
	_, err := browser.Eval[bool](k.b, `(([...document.querySelectorAll('label')].find((l) => l.textContent.includes('2560 px'))).click(), true)`)
	require.NoError(t, err)
	k.sees("No place gets your pictures as they were shot")
	require.Eventually(t, func() bool {
		now, _ = s.setup(http.MethodGet, "", "")
		return len(now.Rooms) == 1 && now.Rooms[0].Forms[2].Chosen
	}, time.Minute, 50*time.Millisecond)
	assert.Contains(t, now.Draft, "loft as medium")
	assert.Contains(t, now.Draft, "long-edge: 2560")
	assert.Empty(t, k.b.Complaints())
	for _, wrong := range []string{`{"form": {"place": "none", "form": "small"}}`, `{"form": {"place": "loft", "form": "tiny"}}`} {
		_, code := s.setup(http.MethodPatch, "", wrong)
		assert.Equal(t, 422, code, wrong)
	}
	// Clips have forms of their own, told by a piece of some.
	now, code = s.setup(http.MethodPatch, "", `{"form": {"place": "loft", "clips": 720}}`)
	require.Equal(t, http.StatusOK, code)
	require.Eventually(t, func() bool { // a piece is made at idle priority
		now, _ = s.setup(http.MethodGet, "", "")
		return len(now.Rooms) == 1 && !strings.Contains(now.Rooms[0].Clips[2].Says, "how much less")
	}, 10*time.Minute, 100*time.Millisecond)
	assert.Contains(t, now.Draft, "loft as medium-clips-720")
	clips := now.Rooms[0].Clips
	require.Len(t, clips, 3)
	assert.Regexp(t, `^Clips at 1080 px on the shorter edge at most: [\d.]+ [kM]B( to [\d.]+ [kM]B)?\.$`, clips[1].Says)
	assert.True(t, clips[2].Chosen)
	small, large := now.Rooms[0].Forms[0].Range, forms[0].Range
	assert.Less(t, small.High, large.Likely, "clips count as they go, pictures as shot too")
	assert.NotContains(t, now.Rooms[0].Says, "counted as shot")
	// As shot again: the form that nobody asks for goes.
	now, code = s.setup(http.MethodPatch, "", `{"form": {"place": "loft", "form": ""}}`)
	require.Equal(t, http.StatusOK, code)
	assert.NotContains(t, now.Draft, "2560")
	assert.Contains(t, now.Draft, "loft as clips-720")
	now, code = s.setup(http.MethodPatch, "", `{"form": {"place": "loft", "clips": 0}}`)
	require.Equal(t, http.StatusOK, code)
	assert.NotContains(t, now.Draft, "renditions", "nobody asks for a form")
	_, code = s.setup(http.MethodPatch, "", `{"form": {"place": "loft", "clips": 333}}`)
	assert.Equal(t, 422, code)
}

func TestTheSetUpTakesOriginalsOfAClosedLibrary(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	album(t, dir)
	require.NoError(t, standin.Library(dir+"/Pictures/Old boats.boatcase", 1, 9, 480))
	s := bare(t, dir)
	now, code := s.setup(http.MethodPatch, "", `{"step": 3}`)
	require.Equal(t, http.StatusOK, code)
	require.Eventually(t, func() bool {
		now, _ = s.setup(http.MethodGet, "", "")
		return len(now.Folders) > 0 && len(now.Folders[0].Libraries) == 1 && !now.Folders[0].Counting
	}, time.Minute, 50*time.Millisecond)
	assert.Contains(t, now.Folders[0].Libraries[0].Says, "26 smaller versions of them are left out")
	assert.Contains(t, now.Draft, "originals-only: [Old boats.boatcase]")
	assert.EqualValues(t, 6+9, now.Takes.N, "what would be taken up counts originals")
	_, code = s.setup(http.MethodPatch, "", fmt.Sprintf(`{"on": {"folder": %q, "on": false}}`, now.Folders[0].Folder))
	require.Equal(t, http.StatusOK, code)
	now, _ = s.setup(http.MethodPatch, "", fmt.Sprintf(`{"on": {"folder": %q, "on": true}}`, now.Folders[0].Folder))
	assert.Contains(t, now.Draft, "originals-only", "it stays so")
}

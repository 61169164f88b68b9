package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
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
	k.click("Devices", "Look for strays on desk")
	k.sees("Old boats.boatcase", "1 closed library in it, of which only the originals are taken")
	k.click("Take up Old boats.boatcase")
	s.until("the originals are safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 3+9 })
	assert.Contains(t, s.ok("plan", "show"), "originals-only")
	assert.Contains(t, s.ok("status"), "desk")

	// One that is put into a folder that is taken whole.
	require.NoError(t, standin.Library(dir+"/made", 40, 6, 480))
	require.NoError(t, os.Rename(dir+"/made", dir+"/in/Hulls.boatcase"))
	s.until("all of it is taken", func(y wire.Yard) bool { return total(y, queue.Safe) >= 3+9+20 })
	out = s.ok("strays")
	assert.Contains(t, out, "Hulls.boatcase in in is a closed library, and its smaller versions of pictures are taken, too.")
	k.click("Plan", "Devices", "Look for strays on desk", "Only the originals of Hulls.boatcase")
	k.gone("Hulls.boatcase in in")
	assert.Empty(t, k.b.Complaints())
	for _, wrong := range []string{"../else", "/etc", ".,."} {
		_, errOut, code := s.run("source", "change", "in", "-originals-only", wrong)
		assert.Equal(t, 1, code, wrong)
		assert.NotEmpty(t, errOut, wrong)
	}
}

func TestTheSetUpTakesOriginalsOfAClosedLibrary(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	album(t, dir)
	require.NoError(t, standin.Library(dir+"/Pictures/Old boats.boatcase", 1, 9, 480))
	s := bare(t, dir)
	now, code := s.setup(http.MethodPatch, "", `{"step": 2}`)
	require.Equal(t, http.StatusOK, code)
	require.Eventually(t, func() bool {
		now, _ = s.setup(http.MethodGet, "", "")
		return len(now.Folders) > 0 && len(now.Folders[0].Libraries) == 1 && !now.Folders[0].Counting
	}, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, now.Folders[0].Libraries[0].Says, "26 smaller versions of them are left out")
	assert.Contains(t, now.Draft, "originals-only: [Old boats.boatcase]")
	assert.EqualValues(t, 6+9, now.Takes.N, "what would be taken up counts originals")
	_, code = s.setup(http.MethodPatch, "", fmt.Sprintf(`{"on": {"folder": %q, "on": false}}`, now.Folders[0].Folder))
	require.Equal(t, http.StatusOK, code)
	now, _ = s.setup(http.MethodPatch, "", fmt.Sprintf(`{"on": {"folder": %q, "on": true}}`, now.Folders[0].Folder))
	assert.Contains(t, now.Draft, "originals-only", "it stays so")
}

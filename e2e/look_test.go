package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/wire"
)

// A folder is looked at before it is taken up, as the plan has it or as it would.
func TestLookingBeforeChoosing(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "keel", 5)
	require.NoError(t, os.MkdirAll(dir+"/Pictures/Boats", 0o755))
	require.NoError(t, os.WriteFile(dir+"/Pictures/Boats/plan.pdf", []byte("%PDF-1.7"), 0o644))
	s.until("safe", func(y wire.Yard) bool { return total(y, "safe") == 5 })

	assert.Contains(t, s.ok("look"), "PICTURES   "+dir+"/Pictures")
	out := s.ok("look", "in")
	assert.Contains(t, out, "taken up by the plan, as in")
	assert.Contains(t, out, "to take up: 5 photos (")
	assert.Contains(t, out, "disk: 5 pictures of it safe there already, ")
	assert.Contains(t, out, "nothing more to send")
	out = s.ok("look", "PICTURES", "-leave-out", "*.pdf")
	assert.Contains(t, out, `Left out by "*.pdf".`)
	assert.NotContains(t, out, "to take up")
	var l wire.Look
	require.NoError(t, json.Unmarshal([]byte(s.ok("look", "PICTURES", "-json")), &l))
	assert.Equal(t, []wire.LookKind{{Kind: media.Document, Amount: wire.Amount{N: 1, Bytes: 8}}}, l.Kinds)
	assert.Equal(t, dir+"/Pictures", l.Path)

	// So it is before a folder is chosen at the console.
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Plan", "Add a folder")
	k.sees("Pictures")
	k.click("Pictures", "Look into it")
	k.sees("No rule of the source takes documents like it.", "Boats", "nothing more to send")
	k.click("This one alone: Boats", "Look into it")
	k.sees(dir + "/Pictures/Boats: 1 file")
	k.sees("PICTURES/Boats of desk is taken up, by all.", "was not looked through yet")
	assert.Empty(t, k.b.Complaints())

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"look", "nowhere"}, 1, "There is no folder"},
		{[]string{"look", "in/keel-000.jpg"}, 1, "is a file and not a folder"},
		{[]string{"look", "in", "-leave-out", "#x"}, 1, "is a comment"},
		{[]string{"look", "in", "-largest", "45,5MB"}, 1, "is not a size"},
		{[]string{"look", "in", "-device", "nobody"}, 1, `no device "nobody"`},
		{[]string{"look", "a", "b"}, 2, "name one folder"},
	} {
		_, errOut, code := s.run(c.args...)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, errOut, c.says, c.args)
	}
	jobs := s.ok("jobs")
	assert.Contains(t, jobs, "Look at "+dir+"/in")
	assert.Empty(t, s.yard().Jobs, "looks are not told with every change")

	// A few pictures can be seen, and nothing else by the same way.
	var all []wire.Job
	require.NoError(t, json.Unmarshal([]byte(s.ok("jobs", "-json")), &all))
	bearer := map[string]string{"Authorization": "Bearer " + s.token()}
	for _, j := range all {
		if j.Look == nil || j.Look.Folder != "in" || len(j.Look.Pictures) == 0 {
			continue
		}
		require.Eventually(t, func() bool {
			code, _ := s.call(http.MethodGet, "/api/v1/jobs/"+j.ID+"/pictures/0", "", bearer)
			return code == http.StatusOK
		}, time.Minute, 50*time.Millisecond)
		for _, wrong := range []string{"99", "-1", "..%2f..%2fetc%2fpasswd"} {
			code, _ := s.call(http.MethodGet, "/api/v1/jobs/"+j.ID+"/pictures/"+wrong, "", bearer)
			assert.Contains(t, []int{http.StatusNotFound, http.StatusUnprocessableEntity}, code, wrong)
		}
		return
	}
	assert.Fail(t, "no look has a picture")
}

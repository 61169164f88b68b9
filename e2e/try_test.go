package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// A plan is tried before it counts: what is told is what comes when it is applied, and
// the trial changes nothing.
func TestAPlanIsTriedBeforeItCounts(t *testing.T) {
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "keel", 6)
	require.NoError(t, os.WriteFile(dir+"/in/notes.md", []byte("larch\n"), 0o644))
	require.NoError(t, os.MkdirAll(dir+"/loft", 0o755))
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 6 })
	s.until("the note is known", func(wire.Yard) bool {
		p, err := s.client().Find(t.Context(), "notes.md")
		require.NoError(t, err)
		return len(p.Items) == 1
	})
	shown := s.ok("plan", "show")
	second := "format: 2\n" + strings.NewReplacer("disk: {kind", "loft: {kind: folder, path: "+dir+
		"/loft}\n  disk: {kind", "to: [disk]", "to: [disk, loft]", "take: [photo]", "take: [photo, document]").Replace(shown)
	require.NoError(t, os.WriteFile(dir+"/second.yaml", []byte(second), 0o644))

	out := s.ok("plan", "try", dir+"/second.yaml")
	assert.Contains(t, out, "+ newly taken up: 1 document, 6 B (notes.md)")
	assert.Contains(t, out, "6 files, ")
	assert.Contains(t, out, "count as safe today, and would not until they are everywhere")
	assert.Contains(t, out, "today  nothing is to come")
	assert.Contains(t, out, "Goes now, to a folder of this computer.")
	assert.Contains(t, out, "7 files are to come to loft")
	assert.Contains(t, out, "1 file is to come to disk")
	assert.Equal(t, shown, s.ok("plan", "show"), "it was a try")
	assert.Equal(t, int64(6), total(s.yard(), queue.Safe))

	var tried planwire.PlanTried
	require.NoError(t, json.Unmarshal([]byte(s.ok("plan", "try", dir+"/second.yaml", "-json")), &tried))
	then := map[string]int64{}
	for _, p := range tried.Places {
		then[p.Name] = p.Then.N
	}
	s.ok("plan", "apply", dir+"/second.yaml")
	s.until("everywhere", func(y wire.Yard) bool { return total(y, queue.Safe) == 7 })
	assert.Equal(t, map[string]int64{"disk": 1, "loft": 7}, then)
	assert.Len(t, lying(t, dir+"/loft"), 7)

	out = s.ok("source", "change", "in", "-only", "*.jpg", "-try")
	assert.Contains(t, out, `- left out: 1 document, 6 B. It is not among what "only" names. (notes.md)`)
	assert.Contains(t, s.ok("source", "add", "Pictures", "-try"), "Pictures is not known yet: yardtide look Pictures")

	// By the form, with the items behind it.
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Plan")
	k.sees("in of desk", "Change")
	k.click("(change it, all)", "documents")
	k.sees("all no longer takes documents.", "1 document left out, 6 B", "Today", "Then", "Nothing is to come")
	k.click("1 document left out")
	k.sees("notes.md")
	assert.Empty(t, k.b.Complaints())

	// What only the device can tell of a plan is told, too.
	third := strings.Replace(second, "lanes: [{over: wifi}]",
		"lanes: [{over: wifi}, {over: cellular, allowance: 45 MB per day}]", 1)
	require.NoError(t, os.WriteFile(dir+"/third.yaml", []byte(third), 0o644))
	out = s.ok("plan", "check", dir+"/third.yaml")
	assert.Contains(t, out, "desk has no modem: its lane over cellular in all never opens.")
	assert.Contains(t, out, "disk lies on the same disk as in of desk: if that disk fails, both are lost.")

	bad := strings.Replace(second, "over: wifi", "over: pigeon", 1)
	require.NoError(t, os.WriteFile(dir+"/bad.yaml", []byte(bad), 0o644))
	_, errOut, code := s.run("plan", "try", dir+"/bad.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `"pigeon" is not a network`)
	code, _ = s.call(http.MethodPost, "/api/v1/plan/try", `{"text": "yard: ["}`,
		map[string]string{"Authorization": "Bearer " + s.token()})
	assert.Equal(t, http.StatusUnprocessableEntity, code)
}

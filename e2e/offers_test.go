package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// Where the room of a place runs out, Now and the terminal offer what would help, each in figures: a smaller form,
// another place, less. One is put in force, and everything gets there.
func TestWhatWouldHelpAPlaceWithoutRoom(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	smallDisk(t, dir+"/disk", 3_000_000)
	require.NoError(t, os.MkdirAll(dir+"/shed", 0o755))
	s := desk(t, dir, dir+"/data")
	k := atTheConsole(t, s)
	k.sees("Storage")
	assert.NotContains(t, k.text(), "What would help")
	code, says := s.call("POST", "/api/v1/plan/edits", `{"edits": [{"path": ["destinations", "shed"], "value": {"kind": "folder",
		"path": "`+dir+`/shed"}}, {"path": ["rules", "all", "take"], "value": ["photo", "video"]}]}`,
		map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(t, 200, code, says)
	for i := range 6 {
		content, err := standin.JPEG(i, 3200, time.Date(2026, 5, 1+i, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/in/%d.jpg", dir, i), content, 0o644))
	}
	s.until("it runs out", func(y wire.Yard) bool { return y.Destinations[0].Short > 0 })
	before := s.ok("plan", "show")
	out := s.ok("destination", "offers", "disk")
	assert.Contains(t, out, "To disk as small, at most 1600 px")
	assert.Contains(t, out, "+ To shed instead of disk. Nothing is to come to disk.")
	assert.Contains(t, out, "Without clips: they go nowhere then.")
	assert.Equal(t, before, s.ok("plan", "show"), "nothing is changed")
	_, errOut, exit := s.run("destination", "offers", "attic")
	assert.Equal(t, 1, exit)
	assert.Contains(t, errOut, "attic")

	k.sees("disk lacks ")
	k.click("What would help disk")
	require.Eventually(t, func() bool { return strings.Contains(k.text(), "Fits") }, 10*time.Minute, 100*time.Millisecond) // samples are made at idle priority
	k.sees("Fits", "To shed instead of disk.")
	k.click("Look at it: To shed instead of disk")
	k.sees("What follows all also goes to shed.")
	k.click("Put it in force")
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 6 })
	assert.Contains(t, s.ok("plan", "show"), "to: [shed]")
	assert.Empty(t, k.b.Complaints())
}

package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/probe"
	"yardtide/wire"
)

// What the keeper says of items is found again: by command and by page, and beside the file.
func TestItemsAreMarkedAndFoundByIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "40", "-clips=false")
	s.phone(onWiFi)
	s.until("all safe", func(y wire.Yard) bool { return settled(y) && y.Devices[0].States[queue.Safe].N >= 20 })
	all := s.found("-device", "galley-phone")
	require.NotEmpty(t, all)
	assert.Contains(t, s.ok("mark", "-mark", "-put", "Launch day", "-note", "at high tide", "IMG_4000"), "Said of 1 picture or clip.")
	one := func() bool {
		return len(s.found("-set", "Launch day")) == 1 && len(s.found("-marked")) == 1 && len(s.found("high", "tide")) == 1
	}
	require.Eventually(t, one, time.Minute, 100*time.Millisecond)
	sidecar := filepath.Join(dir, "galley-phone/DCIM/Camera/IMG_4000.jpg.xmp")
	text, err := os.ReadFile(sidecar)
	require.NoError(t, err)
	assert.Equal(t, media.Keeper{Marked: true, Note: "at high tide", Sets: []string{"Launch day"}}, probe.XMP(text).Keeper)
	require.Eventually(t, func() bool {
		there, err := filepath.Glob(filepath.Join(dir, "north-locker/*/*/IMG_4000.jpg.xmp"))
		return err == nil && len(there) == 1
	}, time.Minute, 100*time.Millisecond, "it goes along")

	// By the page: the open item is hidden, and no longer among the others.
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Library")
	k.sees("Choose some")
	k.click("You said")
	k.click("in Launch day")
	k.sees("1 picture, ")
	k.click("IMG_4000.jpg")
	k.sees("What you say of it", "Marked", "Launch day")
	looksIn(t, k)("an item of which something is said")
	k.click("Hide")
	k.sees("Hidden")
	k.click("Launch day: take it out of this set")
	k.gone("Launch day: take it out of this set")
	k.click("Close")
	require.Eventually(t, func() bool {
		return len(s.found("-device", "galley-phone")) == len(all)-1 && len(s.found("-hidden")) == 1
	},
		time.Minute, 100*time.Millisecond)
	assert.Empty(t, s.found("-set", "Launch day"))
	text, err = os.ReadFile(sidecar)
	require.NoError(t, err)
	assert.Equal(t, media.Keeper{Marked: true, Hidden: true, Note: "at high tide"}, probe.XMP(text).Keeper)
	assert.Empty(t, k.b.Complaints())

	// What is no word of it changes nothing.
	for _, wrong := range []string{`{}`, `{"question": {"text": "IMG"}}`, `{"question": {}, "marked": true}`, `{"items": [{"device": "galley-phone", "key": "nothing"}], "marked": true}`,
		`{"question": {"text": "IMG"}, "marked": "yes"}`, `{"question": {"boat": "IMG"}, "marked": true}`} {
		code, body := s.call("POST", "/api/v1/library/say", wrong, map[string]string{"Authorization": "Bearer " + s.token()})
		assert.Contains(t, []int{http.StatusUnprocessableEntity, http.StatusNotFound, http.StatusConflict}, code, "%s: %s", wrong, body)
	}
	for _, args := range [][]string{{"mark", "IMG"}, {"mark", "-mark"}, {"mark", "-mark", "-unmark", "IMG"}} {
		_, _, exit := s.run(args...)
		assert.NotZero(t, exit, args)
	}
}

package device_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/makeroom"
	"yardtide/engine/scan"
	"yardtide/standin"
	"yardtide/wire"
)

// follows has the device follow the yard's plan with what goes by itself.
func (y *yard) follows(room string) {
	y.t.Helper()
	p, err := plantext.Parse("plan", []byte(strings.Replace(yardPlan, "    sources:\n", "    room: "+room+"\n    sources:\n", 1)))
	require.NoError(y.t, err)
	y.device.SetPlan(p)
}

// held lists what lies in the holding place, by name.
func (y *yard) held() map[string]string {
	found := map[string]string{}
	files, err := filepath.Glob(filepath.Join(y.dir, "phone/DCIM", scan.HeldFolder, "*/*"))
	require.NoError(y.t, err)
	for _, file := range files {
		content, err := os.ReadFile(file)
		require.NoError(y.t, err)
		found[filepath.Base(file)] = string(content)
	}
	return found
}

// TestWhatIsProvenGoesByItself has the plan make room: old pictures go into the holding place, a smaller one stays that is
// nothing new, and all come back as they were.
func TestWhatIsProvenGoesByItself(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	content, err := standin.JPEG(1, 2400, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	old := y.file("old.jpg", content)
	fresh, err := standin.JPEG(2, 320, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	y.file("fresh.jpg", fresh)
	y.until("both are safe", counts(queue.Safe, 2))
	assert.Empty(t, y.held(), "nothing goes unless it is asked for")
	before, err := os.Stat(old)
	require.NoError(t, err)

	y.follows("{keep: \"90 days, small\", places: 2}")
	_, err = y.device.Orders.MakeRoom(t.Context(), makeroom.Order{Items: []int64{1}, Terms: makeroom.Terms{Places: 2, Held: 48 * time.Hour}})
	require.NoError(t, err)
	assert.Empty(t, y.held(), "it is proven at one place only")

	y.follows("{keep: \"90 days, small\", places: 1}")
	y.until("the old one goes", func(wire.Device) bool { return len(y.held()) == 1 })
	assert.Equal(t, string(content), y.held()["old.jpg"])
	assert.NoFileExists(t, old)
	assert.FileExists(t, filepath.Join(y.dir, "phone/DCIM/fresh.jpg"), "it was taken lately")
	small := filepath.Join(y.dir, "phone/DCIM/old (smaller).jpg")
	assert.FileExists(t, small)
	// The smaller one is nothing new, and a new picture beside is.
	y.picture("new.jpg", 5)
	y.until("the new one is safe, and nothing else came", counts(queue.Safe, 3))
	found, err := y.records.Catalogue.Find(t.Context(), "smaller", 5)
	require.NoError(t, err)
	assert.Empty(t, found)

	y.follows("{places: 1}")
	n, err := y.device.Orders.TakeBack(t.Context(), nil)
	require.NoError(t, err)
	assert.Positive(t, n)
	now, err := os.ReadFile(old)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, now))
	after, err := os.Stat(old)
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime())
	assert.NoFileExists(t, small)
	assert.NoDirExists(t, filepath.Join(y.dir, "phone/DCIM", scan.HeldFolder))
	y.until("it is what it was", counts(queue.Safe, 3))
	sum, err := y.records.Rooms.Sums(t.Context())
	require.NoError(t, err)
	assert.Empty(t, sum)
	for _, wrong := range []makeroom.Order{{Items: []int64{1}}, {Items: []int64{1}, Terms: makeroom.Terms{Places: 1}},
		{Items: make([]int64, makeroom.MostOrdered+1), Terms: makeroom.Terms{Places: 1, Held: 48 * time.Hour}}} {
		_, err := y.device.Orders.MakeRoom(t.Context(), wrong)
		assert.Error(t, err)
	}
}

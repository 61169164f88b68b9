package device_test

import (
	"database/sql"
	"math"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/bringback"
	"yardtide/standin"
	"yardtide/wire"
)

// What went, and is back with its content, is the item that it was: nothing is sent, or counted, twice. With another
// content it is a new one.
func TestWhatIsBackIsWhatItWas(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	a, b := y.picture("a.jpg", 1), y.picture("b.jpg", 2)
	y.until("safe", counts(queue.Safe, 2))
	sent := y.copy("a.jpg").Sent
	content, err := os.ReadFile(a)
	require.NoError(t, err)
	gone := func(n int) func(wire.Device) bool {
		return func(wire.Device) bool {
			items, err := y.device.Told.Items(t.Context(), wire.Filter{Limit: 10})
			require.NoError(t, err)
			is := 0
			for _, it := range items {
				if it.Gone {
					is++
				}
			}
			return is == n
		}
	}
	y.file("notes.txt", []byte("larch")) // a folder that is suddenly empty makes nothing gone
	require.NoError(t, os.Remove(a))
	require.NoError(t, os.Remove(b))
	y.until("gone", gone(2))
	// Of one the content is back by an order, of the other something else has the name.
	lying, err := y.device.Told.Lying(t.Context(), []int64{1, 2})
	require.NoError(t, err)
	require.Len(t, lying, 2)
	at := 0
	if lying[1].Files[0].Path == "a.jpg" {
		at = 1
	}
	r, err := y.device.Orders.Bring(t.Context(), bringback.Order{Source: lying[at].Source, Files: lying[at].Files})
	require.NoError(t, err)
	assert.Equal(t, "a.jpg", r.Brought[0].Path)
	assert.EqualValues(t, len(content), r.Came)
	y.picture("b.jpg", 3)
	y.until("back, and a new one", func(s wire.Device) bool { return gone(1)(s) && s.States[queue.Safe].N == 3 })
	back, err := os.ReadFile(a)
	require.NoError(t, err)
	assert.Equal(t, content, back)
	assert.Equal(t, sent, y.copy("a.jpg").Sent, "nothing of it was sent again")
	items, err := y.device.Told.Find(t.Context(), "a.jpg", 10)
	require.NoError(t, err)
	assert.Len(t, items, 1)
	// Once more, by a new start: it stays so.
	y.stop()
	y.start()
	time.Sleep(300 * time.Millisecond)
	y.until("the same", func(s wire.Device) bool { return gone(1)(s) && s.States[queue.Safe].N == 3 })
	for _, wrong := range []bringback.Order{{Folder: "../out", Files: lying[at].Files}, {Folder: y.dir, Files: lying[at].Files}, {Files: lying[at].Files},
		{Folder: ".config", Files: lying[at].Files}, {Source: "DCIM", Files: []bringback.Wanted{{Path: ".hidden/a.jpg", Copies: lying[at].Files[0].Copies}}},
		{Source: "DCIM", Files: []bringback.Wanted{{Path: "../a.jpg", Copies: lying[at].Files[0].Copies}}}} {
		_, err := y.device.Orders.Bring(t.Context(), wrong)
		assert.Error(t, err, "%+v", wrong)
	}
}

// Where a picture was taken is read of every picture, also where no rule asks for marks; while its folder is not there it is
// left, and read once it is.
func TestPicturesTellWhereTheyWereTaken(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	at := media.Position{Lat: 54.5231, Lon: 8.6482}
	content, err := standin.JPEGAt(1, 300, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC), at)
	require.NoError(t, err)
	y.file("a.jpg", content)
	placed := func(wire.Device) bool {
		items, err := y.device.Told.Find(t.Context(), "a.jpg", 1)
		require.NoError(t, err)
		return len(items) == 1 && items[0].Position != nil && math.Abs(items[0].Position.Lat-at.Lat) < 1e-5
	}
	y.until("safe", counts(queue.Safe, 1))
	y.until("placed", placed)
	y.stop()
	db, err := sql.Open("sqlite", y.dir+"/data/records.db")
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE items SET marked = 0, placed = 0`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	require.NoError(t, os.Rename(y.dir+"/phone/DCIM", y.dir+"/phone/elsewhere"))
	y.start()
	time.Sleep(500 * time.Millisecond)
	require.False(t, placed(wire.Device{}))
	y.stop()
	require.NoError(t, os.Rename(y.dir+"/phone/elsewhere", y.dir+"/phone/DCIM"))
	y.start()
	y.until("placed again", placed)
}

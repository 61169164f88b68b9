package records

import (
	"os"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/queue"
)

// Records of the version before items were counted are counted when they are opened:
// each item once, however many copies it has, and none without a copy.
func TestRecordsThatCountedCopiesCountItems(t *testing.T) {
	file := t.TempDir() + "/r.db"
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	earlier, err := goose.NewProvider(goose.DialectSQLite3, db.DB, os.DirFS("migrations"), goose.WithGoMigrations(storage))
	require.NoError(t, err)
	_, err = earlier.UpTo(t.Context(), 3)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO items (id, source, dir, name, size, mtime, inode, content_type, kind, taken_at, taken_zone, taken_from, found_at) VALUES
			(1, 'DCIM', '.', 'keel.jpg', 10, 0, 0, 'image/jpeg', 'photo', 1, 0, '', 0), (2, 'DCIM', '.', 'stem.jpg', 20, 0, 0, 'image/jpeg', 'photo', 2, 0, '', 0),
			(3, 'DCIM', '.', 'sail.mp4', 40, 0, 0, 'video/mp4', 'video', 3, 0, '', 0), (4, 'DCIM', '.', 'notes.txt', 80, 0, 0, 'text/plain', '', 4, 0, '', 0);
		INSERT INTO copies (item, destination, rule, kind, state, bytes, taken_at, changed_at) VALUES
			(1, 'shed', 'all', 'photo', 'safe', 10, 1, 0), (1, 'locker', 'all', 'photo', 'waiting', 10, 1, 0),
			(2, 'locker', 'all', 'photo', 'waiting', 20, 2, 0), (2, 'shed', 'all', 'photo', 'safe', 20, 2, 0), (3, 'locker', 'all', 'video', 'sending', 40, 3, 0)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	r, err := Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	standings, err := r.Standings(t.Context())
	require.NoError(t, err)
	for i := range standings {
		standings[i].ID = 0
	}
	assert.ElementsMatch(t, []Standing{
		{Kind: media.Photo, N: 2, Bytes: 30, Copies: []Stand{{"locker", "all", queue.Waiting}, {"shed", "all", queue.Safe}}},
		{Kind: media.Video, N: 1, Bytes: 40, Copies: []Stand{{"locker", "all", queue.Waiting}}}, // a send that was cut goes on
	}, standings)
	found, err := r.Find(t.Context(), "tem.j", 5)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "stem.jpg", found[0].Name)
}

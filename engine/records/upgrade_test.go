package records

import (
	"os"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
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
	standings, err := r.Queue.Standings(t.Context())
	require.NoError(t, err)
	for i := range standings {
		standings[i].ID = 0
	}
	assert.ElementsMatch(t, []Standing{
		{Kind: media.Photo, N: 2, Bytes: 30, Copies: []Stand{{"locker", "all", queue.Waiting, "", ""},
			{"shed", "all", queue.Safe, "", ""}}},
		{Kind: media.Video, N: 1, Bytes: 40, Copies: []Stand{{"locker", "all", queue.Waiting, "",
			""}}}, // a send that was cut goes on
	}, standings)
	found, err := r.Catalogue.Find(t.Context(), "tem.j", 5)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "stem.jpg", found[0].Name)
}

// Records of the version before kinds were told apart keep what was safe safe, and what
// waited waiting, under kinds of their own; the plan is applied to them anew.
func TestRecordsOfOneKindOfPictureTellThemApart(t *testing.T) {
	file := t.TempDir() + "/r.db"
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	earlier, err := goose.NewProvider(goose.DialectSQLite3, db.DB, os.DirFS("migrations"), goose.WithGoMigrations(storage))
	require.NoError(t, err)
	_, err = earlier.UpTo(t.Context(), 5)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO items (id, source, dir, name, size, mtime, inode, content_type, kind, taken_at, taken_zone, taken_from, found_at) VALUES
			(1, 'DCIM', '.', 'keel.jpg', 10, 0, 0, 'image/jpeg', 'photo', 1, 0, 'header', 0), (2, 'DCIM', '.', 'stem.raf', 20, 0, 0, 'image/x-fuji-raf', 'photo', 2, 0, 'file', 0),
			(3, 'DCIM', '.', 'shot.png', 40, 0, 0, 'image/png', 'photo', 3, 0, 'file', 0), (4, 'DCIM', '.', 'camera.png', 80, 0, 0, 'image/png', 'photo', 4, 0, 'header', 0),
			(5, 'DCIM', '.', 'notes.txt', 160, 0, 0, 'text/plain', '', 5, 0, '', 0), (6, 'DCIM', '.', 'sail.mp4', 320, 0, 0, 'video/mp4', 'video', 6, 0, '', 0);
		INSERT INTO copies (item, destination, rule, kind, state, bytes, taken_at, changed_at) VALUES
			(1, 'shed', 'all', 'photo', 'safe', 10, 1, 0), (2, 'shed', 'all', 'photo', 'safe', 20, 2, 0), (3, 'shed', 'all', 'photo', 'waiting', 40, 3, 0), (4, 'shed', 'all', 'photo', 'safe', 80, 4, 0), (6, 'shed', 'all', 'video', 'waiting', 320, 6, 0);
		INSERT INTO facts VALUES ('applied', '[]')`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	r, err := Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	check := func() {
		t.Helper()
		standings, err := r.Queue.Standings(t.Context())
		require.NoError(t, err)
		for i := range standings {
			standings[i].ID = 0
		}
		at := func(kind media.Kind, n, bytes int64, state queue.State) Standing {
			return Standing{Kind: kind, N: n, Bytes: bytes, Copies: []Stand{{"shed", "all", state, "", ""}}}
		}
		assert.ElementsMatch(t, []Standing{at(media.Photo, 2, 90, queue.Safe), at(media.Raw, 1, 20, queue.Safe),
			at(media.Graphic, 1, 40, queue.Waiting), at(media.Video, 1, 320, queue.Waiting)}, standings)
		counters, err := r.Queue.Counters(t.Context())
		require.NoError(t, err)
		assert.Len(t, counters, 4)
	}
	check()
	found, err := r.Catalogue.Find(t.Context(), "otes.t", 5)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, media.Document, found[0].Kind)
	p, err := plantext.Parse("p", []byte("yard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: "+
		"/s}\ndevices:\n  phone: {sources: [{folder: DCIM, rule: all}]}\nrules:\n  all: {take: [photo, video], to: "+
		"[shed], lanes: [{over: wifi}]}\n"))
	require.NoError(t, err)
	require.NoError(t, r.Catalogue.Apply(t.Context(), p, "phone", time.Now()))
	check()
}

// A mirror of the version before forms, which has no triggers, is taken over as it is:
// nothing is told anew.
func TestAMirrorFromBeforeFormsIsTakenOver(t *testing.T) {
	file := t.TempDir() + "/mirror-1.db"
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	earlier, err := goose.NewProvider(goose.DialectSQLite3, db.DB, os.DirFS("migrations"), goose.WithGoMigrations(storage))
	require.NoError(t, err)
	_, err = earlier.UpTo(t.Context(), 8)
	require.NoError(t, err)
	var triggers []string
	require.NoError(t, db.Select(&triggers, `SELECT name FROM sqlite_master WHERE type = 'trigger'`))
	require.NotEmpty(t, triggers)
	for _, name := range triggers {
		db.MustExec(`DROP TRIGGER ` + name)
	}
	db.MustExec(`INSERT INTO facts VALUES ('whole', '1')`)
	require.NoError(t, db.Close())
	r, err := OpenMirror(t.Context(), file, "")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	whole, err := r.Facts.Fact(t.Context(), "whole")
	require.NoError(t, err)
	assert.Equal(t, "1", whole)
	require.NoError(t, r.read.SelectContext(t.Context(), &triggers,
		`SELECT name FROM sqlite_master WHERE type = 'trigger'`))
	assert.Empty(t, triggers, "counts come as the device has them")
}

// Records of the version before there were shelves keep every copy, its story and its
// counters; what lies beside can be kept then, each once.
func TestRecordsWithoutShelvesGetThem(t *testing.T) {
	file := t.TempDir() + "/r.db"
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	earlier, err := goose.NewProvider(goose.DialectSQLite3, db.DB, os.DirFS("migrations"), goose.WithGoMigrations(storage))
	require.NoError(t, err)
	_, err = earlier.UpTo(t.Context(), 9)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO items (id, source, dir, name, size, mtime, inode, content_type, kind, taken_at, taken_zone, taken_from, found_at, rule) VALUES
			(1, 'DCIM', '.', 'keel.jpg', 10, 0, 0, 'image/jpeg', 'photo', 1, 0, 'header', 0, 'all'), (2, 'DCIM', '.', 'sail.mp4', 20, 0, 0, 'video/mp4', 'video', 2, 0, 'header', 0, 'all');
		INSERT INTO copies (item, destination, rule, kind, state, bytes, taken_at, changed_at, remote, sha256, proof, proven_at, landed, form, reduced, sent) VALUES
			(1, 'shed', 'all', 'photo', 'safe', 7, 1, 5, '2026/keel.jpg', 'ab', 'read back', 6, 1, 'small', 1, 8), (2, 'shed', 'all', 'video', 'waiting', 20, 2, 0, '', '', '', 0, 0, '', 0, 0);
		INSERT INTO events VALUES (1, 5, 'safe', 'Read back whole.');
		INSERT INTO facts VALUES ('applied', '[]');
		UPDATE copies SET rule = 'every' WHERE id > 0`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	r, err := Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	var broken []struct{ Table string }
	require.NoError(t, r.write.DB.Select(&broken, `SELECT "table" FROM pragma_foreign_key_check`))
	assert.Empty(t, broken)
	c, ok, err := r.Queue.Copy(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, queue.Safe, c.State)
	assert.Equal(t, []any{int64(7), int64(10), "2026/keel.jpg", "ab", "read back", true, true, "small", int64(8),
		plan.Main}, []any{c.Bytes, c.Size, c.Remote, c.SHA256, c.Proof, c.Landed, c.Reduced, c.Form, c.Sent, c.Shelf})
	story, err := r.Queue.Story(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, story, 1)
	assert.Equal(t, "Read back whole.", story[0].Says)
	counters, err := r.Queue.Counters(t.Context())
	require.NoError(t, err)
	assert.Len(t, counters, 2)
	standings, err := r.Queue.Standings(t.Context())
	require.NoError(t, err)
	assert.Len(t, standings, 2)
	_, err = r.write.DB.Exec(`INSERT INTO copies (item, destination, rule, kind, shelf, state, bytes, taken_at, changed_at) VALUES (1, 'shed', 'every', 'photo', 'preview', 'waiting', 10, 1, 0)`)
	require.NoError(t, err)
	_, err = r.write.DB.Exec(`INSERT INTO copies (item, destination, rule, kind, shelf, state, bytes, taken_at, changed_at) VALUES (1, 'shed', 'every', 'photo', 'preview', 'waiting', 10, 1, 0)`)
	require.Error(t, err)
	_, err = r.write.DB.Exec(`INSERT INTO copies (item, destination, rule, kind, state, bytes, taken_at, changed_at) VALUES (9, 'shed', 'every', 'photo', 'waiting', 10, 1, 0)`)
	require.Error(t, err, "foreign keys are on again")
	counters, err = r.Queue.Counters(t.Context())
	require.NoError(t, err)
	assert.Len(t, counters, 3)
}

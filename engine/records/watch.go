package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"maps"
	"slices"
	"sync"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
)

// This file tells an index of the items what changed: SQLite calls back for each row that a statement writes
// (sqlite.org/c3ref/preupdate_blobwrite.html). Nothing of it is on disk, and nothing is noted while nobody watches.

// mostWatched is how many items are noted as changed: of more, all are.
const mostWatched = 200_000

// Watch notes which items change, from when it was begun on.
type Watch struct {
	of   *watches
	ids  map[int64]struct{} // changed, and on disk
	next map[int64]struct{} // changed by the transaction under way
	all  bool
}

// watches are those of one file. The zero value is ready.
type watches struct {
	mu  sync.Mutex
	all map[*Watch]struct{}
}

// Watch begins to note which items change.
func (r *Catalogue) Watch() *Watch {
	w := &Watch{of: &r.watches, ids: map[int64]struct{}{}, next: map[int64]struct{}{}}
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	if w.of.all == nil {
		w.of.all = map[*Watch]struct{}{}
	}
	w.of.all[w] = struct{}{}
	return w
}

// Take tells which items changed since it was asked last, in the order of their numbers; all where they are too many.
func (w *Watch) Take() (ids []int64, all bool) {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	ids, all = slices.Sorted(maps.Keys(w.ids)), w.all
	clear(w.ids)
	w.all = false
	return ids, all
}

// Close ends the watch.
func (w *Watch) Close() {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	delete(w.of.all, w)
}

// changed notes an item that the transaction under way changes.
func (s *watches) changed(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for w := range s.all {
		if len(w.next) >= mostWatched {
			w.all = true
			continue
		}
		w.next[id] = struct{}{}
	}
}

// committed has what transactions changed told, once it can be read.
func (s *watches) committed() {
	if s == nil { // of those that read
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for w := range s.all {
		if len(w.ids)+len(w.next) >= mostWatched {
			w.all = true
			clear(w.ids)
		} else {
			maps.Copy(w.ids, w.next)
		}
		clear(w.next)
	}
}

// watched connects to a file so that changes of its items are noted.
type watched struct {
	sqlite driver.Driver
	dsn    string
	of     *watches
}

// Connect implements driver.Connector.
func (c watched) Connect(context.Context) (driver.Conn, error) {
	conn, err := c.sqlite.Open(c.dsn)
	if err != nil {
		return nil, err
	}
	hooks, is := conn.(sqlite.HookRegisterer)
	if !is {
		return nil, fmt.Errorf("the SQLite driver tells nothing of changes (%T)", conn)
	}
	hooks.RegisterPreUpdateHook(func(row sqlite.SQLitePreUpdateData) {
		if row.TableName == "items" {
			c.of.changed(max(row.NewRowID, row.OldRowID))
		}
	})
	return conn, nil
}

// Driver implements driver.Connector.
func (c watched) Driver() driver.Driver { return c.sqlite }

// openWatched opens a file for writing.
func openWatched(dsn string, of *watches) (*sqlx.DB, error) {
	plain, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	d := plain.Driver()
	if err := plain.Close(); err != nil {
		return nil, err
	}
	return sqlx.NewDb(sql.OpenDB(watched{d, dsn, of}), "sqlite"), nil
}

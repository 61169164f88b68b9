// Package records keeps what one device knows: its items, its copies and their
// stories, what it spent, and a few facts of its own, in one SQLite file.
//
// These always hold:
//   - every step of a copy is one transaction, with its story and counters, and
//     is legal by core/queue;
//   - summaries read counters; the only rows that are counted are those that wait
//     for their next try, or are to be looked at, which indexes of their own find;
//   - a page or a pick costs the same however long the queue is;
//   - a reservation is on disk before Reserve returns, and what was reserved
//     and not settled counts as spent when the records are opened again.
//
// One process has a file open at a time; the service's lock sees to that.
package records

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"database/sql"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"yardtide/core/queue"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is one device's file, in parts: each keeps rows of its own, and none calls another. Their methods are
// safe for concurrent use.
type Records struct {
	*file
	Catalogue Catalogue // items and what is known of them
	Queue     Queue     // copies, their steps and stories, and what goes next
	Forms     Forms     // the forms in which copies go that are not sent as shot
	Shelves   Shelves   // small copies that stand in for whole ones
	Proofs    Proofs    // proofs that are taken again, and what is written into the open record
	Places    Places    // what is at the place of a destination
	Adopted   Adopted   // files that were at a destination before
	Handed    Handed    // files that a phone handed over
	Rooms     Rooms     // files that went from the device to make room
	Ledger    Ledger    // what was spent of allowances
	Facts     Facts     // small named values
	Journal   Journal   // what the device sensed, and when it ran
	Outbox    Outbox    // what is still to be told to the yard's service
	Mirror    Mirror    // what a device elsewhere told of its own
}

// file is the database of some records.
type file struct {
	write   *pool // one connection: SQLite has one writer
	read    *pool
	sharer  sharer
	epoch   string // tells these records' numbers from those of any others
	watches watches
}

// The parts of records.
type (
	// Catalogue keeps the items of the sources, and what is known of them.
	Catalogue struct{ *file }
	// Queue keeps the copies, their steps and stories, and tells what goes next.
	Queue struct{ *file }
	// Forms keeps in which form a copy goes that is not sent as shot.
	Forms struct{ *file }
	// Shelves keeps small copies that stand in for whole ones.
	Shelves struct{ *file }
	// Proofs keeps which proofs are taken again, and what is written into the open record.
	Proofs struct{ *file }
	// Places keeps what is at the place of a destination.
	Places struct{ *file }
	// Adopted keeps the files that were at a destination before.
	Adopted struct{ *file }
	// Handed keeps the files that a phone handed over, also when they are gone from its inbox.
	Handed struct{ *file }
	// Rooms keeps the files that went from the device to make room there.
	Rooms struct{ *file }
	// Ledger keeps what was spent of allowances.
	Ledger struct{ *file }
	// Facts keeps small named values.
	Facts struct{ *file }
	// Journal keeps what the device sensed, and when it ran.
	Journal struct{ *file }
	// Outbox keeps what is still to be told to the yard's service.
	Outbox struct{ *file }
	// Mirror keeps what a device elsewhere told of its own.
	Mirror struct{ *file }
)

func newRecords(f *file) *Records {
	return &Records{f, Catalogue{f}, Queue{f}, Forms{f}, Shelves{f}, Proofs{f}, Places{f}, Adopted{f}, Handed{f}, Rooms{f},
		Ledger{f}, Facts{f}, Journal{f}, Outbox{f}, Mirror{f}}
}

// Open opens or makes the file and takes up what a killed process left:
// copies in between go on (queue.Resume), reservations count as spent.
func Open(ctx context.Context, file string) (*Records, error) {
	return open(ctx, file, func(r *Records) error {
		if err := r.migrate(ctx); err != nil {
			return err
		}
		return r.Queue.TakeUp(ctx, nil, time.Now())
	})
}

// open opens or makes a file and has it prepared.
func open(ctx context.Context, name string, prepare func(*Records) error) (*Records, error) {
	name, err := filepath.Abs(name)
	if err != nil {
		return nil, fmt.Errorf("finding the records: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of the records: %w", err)
	}
	// SQLite's own message about a file that cannot be written is of no help.
	probe, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the records: %w; the data directory must be writable", err)
	}
	if err := probe.Close(); err != nil {
		return nil, fmt.Errorf("opening the records: %w", err)
	}
	f := &file{}
	connect := func(connections int, tells *watches) (*pool, error) {
		dsn := url.URL{Scheme: "file", Path: name, RawQuery: url.Values{
			"_txlock": {"immediate"},
			"_pragma": {"journal_mode(WAL)", "synchronous(NORMAL)", "busy_timeout(10000)", "foreign_keys(1)",
				"cache_size(-8000)", "temp_store(2)"},
		}.Encode()}
		open := func() (*sqlx.DB, error) { return sqlx.Open("sqlite", dsn.String()) }
		if tells != nil {
			open = func() (*sqlx.DB, error) { return openWatched(dsn.String(), tells) }
		}
		db, err := open()
		if err != nil {
			return nil, fmt.Errorf("opening the records %s: %w", name, err)
		}
		db.SetMaxOpenConns(connections)
		db.SetMaxIdleConns(connections)
		return &pool{DB: db, tells: tells}, nil
	}
	if f.write, err = connect(1, &f.watches); err != nil {
		return nil, err
	}
	r := newRecords(f)
	err = r.whole(ctx, name)
	if err == nil {
		err = prepare(r)
	}
	if err != nil {
		switch {
		case IsDamage(err):
			err = Damaged{name, err}
		case isDisk(err):
			err = fmt.Errorf("the disk of %s is full or fails: make room there and start again; nothing is lost (%w)",
				filepath.Dir(name), err)
		}
		return nil, errors.Join(fmt.Errorf("opening the records: %w", err), r.Close())
	}
	if r.read, err = connect(4, nil); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	if r.epoch, err = r.readEpoch(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the records: %w", err), r.Close())
	}
	return r, nil
}

func (r *file) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, r.write.DB.DB, sub, goose.WithGoMigrations(storage))
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	// Tables that are made anew are pointed to meanwhile (sqlite.org/lang_altertable.html, 7).
	if _, err := r.write.DB.ExecContext(ctx, `PRAGMA foreign_keys = 0`); err != nil {
		return fmt.Errorf("bringing the records up to date: %w", err)
	}
	_, err = provider.Up(ctx)
	if err == nil {
		_, err = r.write.DB.ExecContext(ctx, `PRAGMA foreign_keys = 1`)
	}
	if err != nil {
		return fmt.Errorf("bringing the records up to date: %w", err)
	}
	return nil
}

// TakeUp takes up copies that stand in between and that nobody carries: after
// a kill, or after their end could not be recorded. They go on by
// queue.Resume; what was reserved for them counts as spent.
func (r *Queue) TakeUp(ctx context.Context, carried []int64, now time.Time) error {
	carried = append(carried, -1)
	return r.tx(ctx, "taking up what was left", func(tx *transaction) error {
		if err := settleAll(tx, carried); err != nil {
			return err
		}
		for _, s := range queue.States {
			to := queue.Resume(s)
			if to == s {
				continue
			}
			query, args, err := sqlx.In(`SELECT id FROM copies WHERE state = ? AND id NOT IN (?)`, s, carried)
			if err != nil {
				return err
			}
			var left []int64
			if err := tx.Select(&left, query, args...); err != nil {
				return err
			}
			if len(left) == 0 {
				continue
			}
			where, args, err := sqlx.In(`id IN (?)`, left)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, ?, 'Interrupted; begins again.' FROM copies WHERE `+where,
				append([]any{ms(now), to}, args...)...); err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE copies SET state = ?, changed_at = ? WHERE `+where,
				append([]any{to, ms(now)}, args...)...); err != nil {
				return err
			}
			// The plan may have changed while they were carried.
			if err := moveAll(tx, now, queue.Skipped, queue.NotAsked, `id IN (`+unasked+`c.`+where+`)`, args...); err != nil {
				return err
			}
		}
		return nil
	})
}

// Damaged tells that the file's content is not what SQLite wrote.
type Damaged struct {
	File string
	Err  error
}

func (e Damaged) Error() string {
	return fmt.Sprintf("the records %s are damaged; stop Yard Tide and run: yardtide rebuild. What is at the "+
		"storages is kept, and nothing is sent that is there", e.File)
}

func (e Damaged) Unwrap() error { return e.Err }

// IsDamage tells whether an error comes from a damaged file.
func IsDamage(err error) bool {
	var e *sqlite.Error
	var known Damaged
	if errors.As(err, &known) {
		return true
	}
	if !errors.As(err, &e) {
		return false
	}
	code := e.Code() & 0xff // the primary one (sqlite.org/rescode.html)
	return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
}

// isDisk tells whether an error is one of the disk: it is full, or fails.
func isDisk(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EIO)
	}
	code := e.Code() & 0xff
	return code == sqlite3.SQLITE_FULL || code == sqlite3.SQLITE_IOERR || code == sqlite3.SQLITE_CANTOPEN
}

// IsGone tells whether an error comes from records whose file was removed or exchanged while they
// were open: what is read then is another, empty one.
func IsGone(err error) bool {
	return err != nil && (isDisk(err) || strings.Contains(err.Error(), "no such table"))
}

// checkedTo is the size up to which a file is looked through when it is opened:
// what is damaged is told then, and not when it is read. Larger ones take too long.
const checkedTo = 64 << 20

// whole looks a small file through.
func (r *file) whole(ctx context.Context, file string) error {
	info, err := os.Stat(file)
	if err != nil || info.Size() > checkedTo {
		return err
	}
	var found string
	if err := r.write.GetContext(ctx, &found, `PRAGMA quick_check(1)`); err != nil {
		return err
	}
	if found != "ok" {
		return Damaged{file, errors.New("the check of the file failed")} // its words may hold bytes of the file
	}
	return nil
}

// IsFailure tells whether an error is one of the file itself: a full or broken
// disk, and not what was asked of it.
func IsFailure(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e)
}

// Close closes the file.
func (r *file) Close() error {
	err := r.write.Close()
	if r.read != nil {
		err = errors.Join(err, r.read.Close())
	}
	return err
}

func (r *file) tx(ctx context.Context, doing string, f func(*transaction) error) error {
	return r.write.run(ctx, nil, doing, f)
}

// view reads everything as it stood at one moment.
func (r *file) view(ctx context.Context, doing string, f func(*transaction) error) error {
	return r.read.run(ctx, &sql.TxOptions{ReadOnly: true}, doing, f)
}

// durably is tx whose work is on disk when it returns: not even a power cut
// undoes it. (Other work is on disk a little later, whole and in its order.)
func (r *file) durably(ctx context.Context, doing string, f func(*transaction) error) error {
	t, err := r.onDisk(ctx, doing, f)
	if err != nil {
		return err
	}
	r.write.learn(ctx, t) // when the connection is free again
	return nil
}

func (r *file) onDisk(ctx context.Context, doing string, f func(*transaction) error) (t *transaction, err error) {
	conn, err := r.write.Connx(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	defer func() { err = errors.Join(err, conn.Close()) }()
	if _, err := conn.ExecContext(ctx, `PRAGMA synchronous = FULL`); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	defer func() {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), `PRAGMA synchronous = NORMAL`)
		err = errors.Join(err, back)
	}()
	return r.write.transact(ctx, conn, nil, doing, f)
}

func ms(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// FromMS is the time of a stored value; 0 is the zero time.
func FromMS(v int64) time.Time {
	if v == 0 {
		return time.Time{}
	}
	return time.UnixMilli(v)
}

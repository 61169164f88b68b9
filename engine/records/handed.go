package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"time"
)

// HandedOver is a file that a phone handed over, in its inbox or freed from there.
type HandedOver struct {
	ID     int64  `db:"id"`
	Way    string `db:"way"`  // by which it came: the name of its source
	Path   string `db:"path"` // below the source, with /
	Size   int64  `db:"size"`
	MTime  int64  `db:"mtime"` // nanoseconds since 1970
	SHA256 string `db:"sha256"`
	AtMS   int64  `db:"at"` // when it was on disk
	// Held is where it lies in the holding place, since HeldMS; 0 while it is in the inbox.
	Held   string `db:"held"`
	HeldMS int64  `db:"held_at"`
	GoneMS int64  `db:"gone_at"` // when it was removed, 0 while it is there
	Hidden bool   `db:"hidden"`  // the app removed it once it was safe: it is not listed
}

// Here reports whether its file is in the inbox.
func (h HandedOver) Here() bool { return h.HeldMS == 0 }

// Add notes a file that is on disk. One of the same way and path takes the place of an earlier one, which was freed
// or renamed.
func (r *Handed) Add(ctx context.Context, h HandedOver) error {
	return r.durably(ctx, "noting what was handed over", func(tx *transaction) error {
		_, err := tx.NamedExec(`INSERT INTO handed (way, path, size, mtime, sha256, at) VALUES (:way, :path, :size, :mtime, :sha256, :at)
			ON CONFLICT (way, path) DO UPDATE SET size = excluded.size, mtime = excluded.mtime, sha256 = excluded.sha256, at = excluded.at, held = '', held_at = 0, gone_at = 0, hidden = 0`, h)
		return err
	})
}

// At reads what was handed over under a path of a way; ok is false when nothing was.
func (r *Handed) At(ctx context.Context, way, name string) (h HandedOver, ok bool, err error) {
	err = r.read.GetContext(ctx, &h, `SELECT * FROM handed WHERE way = ? AND path = ?`, way, name)
	if errors.Is(err, sql.ErrNoRows) {
		return h, false, nil
	}
	if err != nil {
		return h, false, fmt.Errorf("reading what was handed over as %s: %w", name, err)
	}
	return h, true, nil
}

// WithContent lists what was handed over with one of some contents, by their SHA-256: a few of each.
func (r *Handed) WithContent(ctx context.Context, hashes []string) (list []HandedOver, err error) {
	text, err := json.Marshal(hashes)
	if err == nil {
		err = r.read.SelectContext(ctx, &list, `SELECT h.* FROM json_each(?) j CROSS JOIN handed h ON h.sha256 = j.value LIMIT 4000`, string(text))
	}
	if err != nil {
		return nil, fmt.Errorf("looking for what was handed over before: %w", err)
	}
	return list, nil
}

// OfSizes tells which of some sizes in bytes something has that was handed over.
func (r *Handed) OfSizes(ctx context.Context, sizes []int64) (map[int64]bool, error) {
	text, err := json.Marshal(sizes)
	var known []int64
	if err == nil {
		err = r.read.SelectContext(ctx, &known, `SELECT j.value FROM json_each(?) j WHERE EXISTS (SELECT 1 FROM handed h WHERE h.size = j.value)`, string(text))
	}
	if err != nil {
		return nil, fmt.Errorf("looking for what was handed over before: %w", err)
	}
	has := map[int64]bool{}
	for _, n := range known {
		has[n] = true
	}
	return has, nil
}

// Newest lists what was handed over last.
func (r *Handed) Newest(ctx context.Context, limit int) (list []HandedOver, err error) {
	if err := r.read.SelectContext(ctx, &list, `SELECT * FROM handed ORDER BY id DESC LIMIT ?`, limit); err != nil {
		return nil, fmt.Errorf("reading what was handed over: %w", err)
	}
	return list, nil
}

// Below lists what was handed over below a folder of a way, whether its file is there still or not.
func (r *Handed) Below(ctx context.Context, way, dir string) (list []HandedOver, err error) {
	from, to := "", "\U0010ffff"
	if dir != "" {
		from, to = dir+"/", dir+"0" // the character after /
	}
	if err := r.read.SelectContext(ctx, &list, `SELECT * FROM handed WHERE way = ? AND path >= ? AND path < ? ORDER BY path LIMIT 100000`, way, from, to); err != nil {
		return nil, fmt.Errorf("reading what was handed over below %s: %w", dir, err)
	}
	return list, nil
}

// ToFree lists what is in the inbox, from a number on.
func (r *Handed) ToFree(ctx context.Context, from int64, limit int) (list []HandedOver, err error) {
	if err := r.read.SelectContext(ctx, &list, `SELECT * FROM handed INDEXED BY handed_here WHERE held_at = 0 AND id > ? ORDER BY id LIMIT ?`, from, limit); err != nil {
		return nil, fmt.Errorf("reading what is in the inbox: %w", err)
	}
	return list, nil
}

// ToRemove lists what came into the holding place before a time and is there still.
func (r *Handed) ToRemove(ctx context.Context, before time.Time, limit int) (list []HandedOver, err error) {
	if err := r.read.SelectContext(ctx, &list, `SELECT * FROM handed INDEXED BY handed_held WHERE held_at > 0 AND gone_at = 0 AND held_at < ? ORDER BY held_at LIMIT ?`, ms(before), limit); err != nil {
		return nil, fmt.Errorf("reading what is in the holding place: %w", err)
	}
	return list, nil
}

// Hold notes that a file goes into the holding place, under a name there.
func (r *Handed) Hold(ctx context.Context, id int64, as string, now time.Time) error {
	return r.set(ctx, `UPDATE handed SET held = ?, held_at = ? WHERE id = ? AND held_at = 0`, as, ms(now), id)
}

// Unhold notes that a file is in the inbox, and not in the holding place.
func (r *Handed) Unhold(ctx context.Context, id int64) error {
	return r.set(ctx, `UPDATE handed SET held = '', held_at = 0, gone_at = 0 WHERE id = ?`, id)
}

// Removed notes that a file is gone from the holding place.
func (r *Handed) Removed(ctx context.Context, id int64, now time.Time) error {
	return r.set(ctx, `UPDATE handed SET gone_at = ? WHERE id = ?`, ms(now), id)
}

// Moved notes that files of a way have other paths: of a file, or of all below a folder.
func (r *Handed) Moved(ctx context.Context, way, from, to string) error {
	return r.durably(ctx, "noting what was renamed", func(tx *transaction) error {
		if _, err := tx.Exec(`DELETE FROM handed WHERE way = ? AND path = ?`, way, to); err != nil {
			return err
		}
		_, err := tx.Exec(`UPDATE OR REPLACE handed SET path = ? || substr(path, ?) WHERE way = ? AND (path = ? OR path >= ? AND path < ?)`,
			to, len([]rune(from))+1, way, from, from+"/", from+"0")
		return err
	})
}

// Hide takes a file off the list that its app removed.
func (r *Handed) Hide(ctx context.Context, id int64) error {
	return r.set(ctx, `UPDATE handed SET hidden = 1 WHERE id = ?`, id)
}

func (r *Handed) set(ctx context.Context, query string, args ...any) error {
	return r.durably(ctx, "noting what was handed over", func(tx *transaction) error {
		_, err := tx.Exec(query, args...)
		return err
	})
}

// HandedSum is what a phone handed over in all.
type HandedSum struct {
	N     int64 `db:"n"`
	Bytes int64 `db:"bytes"`
	Here  int64 `db:"here"` // bytes in the inbox
	Held  int64 `db:"held"` // bytes in the holding place
	// LastMS is when something was handed over last, by LastWay.
	LastMS  int64  `db:"last"`
	LastWay string `db:"last_way"`
}

// Sum adds up what a phone handed over.
func (r *Handed) Sum(ctx context.Context) (s HandedSum, err error) {
	err = r.read.GetContext(ctx, &s, `SELECT count(*) n, coalesce(sum(size), 0) bytes, coalesce(sum(size) FILTER (WHERE held_at = 0), 0) here,
		coalesce(sum(size) FILTER (WHERE held_at > 0 AND gone_at = 0), 0) held, coalesce(max(at), 0) last,
		coalesce((SELECT way FROM handed ORDER BY at DESC, id DESC LIMIT 1), '') last_way FROM handed`)
	if err != nil {
		return s, fmt.Errorf("adding up what was handed over: %w", err)
	}
	return s, nil
}

// Under reads the newest item of a path of a source, also when its file is gone; ok is false when there is none.
func (r *Catalogue) Under(ctx context.Context, source, file string) (it Item, ok bool, err error) {
	err = r.read.GetContext(ctx, &it, `SELECT * FROM items INDEXED BY items_name WHERE name = ? AND source = ? AND dir = ? ORDER BY id DESC LIMIT 1`,
		path.Base(file), source, path.Dir(file))
	if errors.Is(err, sql.ErrNoRows) {
		return it, false, nil
	}
	if err != nil {
		return it, false, fmt.Errorf("reading the item under %s: %w", file, err)
	}
	return it, true, nil
}

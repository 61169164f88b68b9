package records

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/core/room"
)

// ClearedState is where a file stands that went from its device to make room.
type ClearedState string

// A file is moved into the holding place, lies there, is removed from it, and is gone; or it is back.
const (
	RoomMoving   ClearedState = "moving"
	RoomHeld     ClearedState = "held"
	RoomRemoving ClearedState = "removing"
	RoomRemoved  ClearedState = "removed"
	RoomBack     ClearedState = "back"
)

// ClearedStates are all there are.
var ClearedStates = []ClearedState{RoomMoving, RoomHeld, RoomRemoving, RoomRemoved, RoomBack}

// Cleared is a file that went from its device to make room, first into a holding place.
type Cleared struct {
	ID        int64        `db:"id"`
	Item      int64        `db:"item"` // the file
	Main      int64        `db:"main"` // the main file of its item
	Source    string       `db:"source"`
	Path      string       `db:"path"` // below the source
	Size      int64        `db:"size"`
	MTime     int64        `db:"mtime"` // nanoseconds since 1970
	SHA256    string       `db:"sha256"`
	State     ClearedState `db:"state"`
	HeldAs    string       `db:"held"` // where it lies in the holding place, below the source
	HeldMS    int64        `db:"held_at"`
	UntilMS   int64        `db:"until"` // from when on it may be removed
	Places    int          `db:"places"`
	Proofs    string       `db:"proofs"` // JSON, see ClearedBy
	Small     string       `db:"small"`  // the smaller one that stays, below the source; "" for none
	SmallSize int64        `db:"small_size"`
	SmallSum  string       `db:"small_sum"` // its SHA-256
	RemovedMS int64        `db:"removed_at"`
	BackMS    int64        `db:"back_at"`
	Says      string       `db:"says"`
}

// ClearedBy is the proof of a copy on which a file went from its device.
type ClearedBy struct {
	Destination string `json:"destination"`
	Place       string `json:"place"` // its identity
	Path        string `json:"path"`
	Way         string `json:"way"`
	AtMS        int64  `json:"at"`
	AsShot      bool   `json:"asShot,omitempty"`
}

// ProofList are the proofs of a file that went.
func (c Cleared) ProofList() (list []ClearedBy, err error) {
	if err := json.Unmarshal([]byte(c.Proofs), &list); err != nil {
		return nil, fmt.Errorf("reading the proofs of %s: %w", c.Path, err)
	}
	return list, nil
}

const inHolding = `state IN ('moving', 'held', 'removing')`

// Begin notes files that are about to be moved into a holding place, before they are. It gives them their numbers.
func (r *Rooms) Begin(ctx context.Context, files []Cleared) error {
	return r.durably(ctx, "noting what goes into the holding place", func(tx *transaction) error {
		for i, f := range files {
			res, err := tx.NamedExec(`INSERT INTO cleared (item, main, source, path, size, mtime, sha256, state, held, held_at, until, places, proofs, small, small_size, small_sum)
				VALUES (:item, :main, :source, :path, :size, :mtime, :sha256, 'moving', :held, :held_at, :until, :places, :proofs, :small, :small_size, :small_sum)`, f)
			if err == nil {
				files[i].ID, err = res.LastInsertId()
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Stayed forgets files that were to be moved, and were not.
func (r *Rooms) Stayed(ctx context.Context, ids []int64) error {
	return r.change(ctx, "noting what stays", `DELETE FROM cleared WHERE state = 'moving' AND id IN (?)`, ids)
}

// Hold notes that files lie in the holding place.
func (r *Rooms) Hold(ctx context.Context, ids []int64) error {
	return r.change(ctx, "noting what is held", `UPDATE cleared SET state = 'held' WHERE state IN ('moving', 'removing') AND id IN (?)`, ids)
}

// Postpone has files stay in the holding place for longer, and notes why.
func (r *Rooms) Postpone(ctx context.Context, ids []int64, until time.Time, says string) error {
	return r.change(ctx, "noting what is held longer", `UPDATE cleared SET until = ?, says = ? WHERE state = 'held' AND id IN (?)`, ids, ms(until), says)
}

// Remove notes that files are about to be removed, with the proofs of this moment, before they are.
func (r *Rooms) Remove(ctx context.Context, files []Cleared) error {
	return r.durably(ctx, "noting what is removed", func(tx *transaction) error {
		for _, f := range files {
			if _, err := tx.NamedExec(`UPDATE cleared SET state = 'removing', proofs = :proofs WHERE state = 'held' AND id = :id`, f); err != nil {
				return err
			}
		}
		return nil
	})
}

// Removed notes that files are gone.
func (r *Rooms) Removed(ctx context.Context, ids []int64, now time.Time) error {
	return r.change(ctx, "noting what was removed", `UPDATE cleared SET state = 'removed', removed_at = ? WHERE state = 'removing' AND id IN (?)`, ids, ms(now))
}

// TookBack notes that files are back on their device, and why.
func (r *Rooms) TookBack(ctx context.Context, ids []int64, says string, now time.Time) error {
	return r.change(ctx, "noting what is back", `UPDATE cleared SET state = 'back', back_at = ?, says = ? WHERE `+inHolding+` AND id IN (?)`, ids, ms(now), says)
}

// NoSmall notes that no smaller ones of files stay any more.
func (r *Rooms) NoSmall(ctx context.Context, ids []int64) error {
	return r.change(ctx, "noting that no smaller ones stay", `UPDATE cleared SET small = '' WHERE id IN (?)`, ids)
}

func (r *Rooms) change(ctx context.Context, what, query string, ids []int64, args ...any) error {
	for some := range slices.Chunk(ids, 500) {
		query, all, err := sqlx.In(query, append(slices.Clone(args), some)...)
		if err == nil {
			_, err = r.write.ExecContext(ctx, query, all...)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
	}
	return nil
}

// Earlier sets what was held in the future, as the clock was set back, to have been held now.
func (r *Rooms) Earlier(ctx context.Context, now time.Time) error {
	if _, err := r.write.ExecContext(ctx, `UPDATE cleared SET until = until - held_at + ?1, held_at = ?1 WHERE `+inHolding+` AND held_at > ?1`, ms(now)); err != nil {
		return fmt.Errorf("noting a clock that was set back: %w", err)
	}
	return nil
}

// InHolding lists what is in the holding place, or on its way in or out of it: items after a number, whole, in the order
// of their numbers; these items, or all without any.
func (r *Rooms) InHolding(ctx context.Context, mains []int64, after int64, limit int) (list []Cleared, err error) {
	query, args := `SELECT * FROM cleared WHERE `+inHolding+` AND main IN (SELECT DISTINCT main FROM cleared WHERE `+inHolding+
		` AND main > ? ORDER BY main LIMIT ?) ORDER BY main, id`, []any{after, limit}
	if len(mains) > 0 {
		if query, args, err = sqlx.In(`SELECT * FROM cleared WHERE `+inHolding+` AND main IN (?) ORDER BY main, id`, mains); err != nil {
			return nil, fmt.Errorf("reading what is held: %w", err)
		}
	}
	if err := r.read.SelectContext(ctx, &list, query, args...); err != nil {
		return nil, fmt.Errorf("reading what is held: %w", err)
	}
	return list, nil
}

// Due lists the items that lay in the holding place long enough: the number of each main file.
func (r *Rooms) Due(ctx context.Context, now time.Time, limit int) (mains []int64, err error) {
	err = r.read.SelectContext(ctx, &mains, `SELECT DISTINCT main FROM cleared WHERE state = 'held' AND until <= ? ORDER BY until LIMIT ?`, ms(now), limit)
	if err != nil {
		return nil, fmt.Errorf("reading what was held long enough: %w", err)
	}
	return mains, nil
}

// NextDue tells when something will have lain in the holding place long enough, zero when nothing is held.
func (r *Rooms) NextDue(ctx context.Context) (time.Time, error) {
	var at int64
	if err := r.read.GetContext(ctx, &at, `SELECT coalesce(min(until), 0) FROM cleared WHERE state = 'held'`); err != nil {
		return time.Time{}, fmt.Errorf("reading what is held: %w", err)
	}
	return FromMS(at), nil
}

// Doubtful lists the items in the holding place of which a copy is not safe any more: the number of each main file.
func (r *Rooms) Doubtful(ctx context.Context, limit int) (mains []int64, err error) {
	err = r.read.SelectContext(ctx, &mains, `SELECT DISTINCT h.main FROM cleared h WHERE h.state = 'held' AND EXISTS
		(SELECT 1 FROM copies c WHERE c.item = h.item AND c.shelf = '' AND c.state NOT IN ('safe', 'skipped')) LIMIT ?`, limit)
	if err != nil {
		return nil, fmt.Errorf("reading what is held: %w", err)
	}
	return mains, nil
}

// Settled lists what left a smaller one on its device and is back there: the smaller one is of no more use.
func (r *Rooms) Settled(ctx context.Context) (list []Cleared, err error) {
	err = r.read.SelectContext(ctx, &list, `SELECT h.* FROM cleared h JOIN items i ON i.id = h.item
		WHERE h.small <> '' AND (i.gone_at = 0 OR h.state = 'back')`)
	if err != nil {
		return nil, fmt.Errorf("reading which smaller ones stay: %w", err)
	}
	return list, nil
}

// Smaller tells which of some files of a source are the smaller ones that stay where something went.
func (r *Rooms) Smaller(ctx context.Context, source string, paths []string) (sizes map[string]int64, err error) {
	text, err := json.Marshal(paths)
	var rows []struct {
		Small string `db:"small"`
		Size  int64  `db:"small_size"`
	}
	if err == nil {
		err = r.read.SelectContext(ctx, &rows, `SELECT h.small, h.small_size FROM json_each(?) j CROSS JOIN cleared h ON h.source = ? AND h.small = j.value AND h.small <> ''`,
			string(text), source)
	}
	if err != nil {
		return nil, fmt.Errorf("reading which smaller ones stay: %w", err)
	}
	sizes = make(map[string]int64, len(rows))
	for _, row := range rows {
		sizes[row.Small] = row.Size
	}
	return sizes, nil
}

// ClearedSum is how much of a source went.
type ClearedSum struct {
	Source string       `db:"source"`
	State  ClearedState `db:"state"`
	N      int64        `db:"n"` // items
	Bytes  int64        `db:"bytes"`
	Until  int64        `db:"until"` // when the first of it may be removed
}

// Sums counts what went, by source and state; what came back is not told.
func (r *Rooms) Sums(ctx context.Context) (list []ClearedSum, err error) {
	err = r.read.SelectContext(ctx, &list, `SELECT source, state, count(DISTINCT main) n, sum(size) bytes, min(until) until FROM cleared
		WHERE state <> 'back' AND back_at = 0 GROUP BY source, state`)
	if err != nil {
		return nil, fmt.Errorf("counting what went: %w", err)
	}
	return list, nil
}

// Ledger lists files that went, the newest first: below a number, 0 for the newest; with held, of the holding place alone.
func (r *Rooms) Ledger(ctx context.Context, held bool, below int64, limit int) (list []Cleared, err error) {
	where := `id < ?`
	if held {
		where += ` AND ` + inHolding
	}
	if below <= 0 {
		below = 1 << 62
	}
	if err := r.read.SelectContext(ctx, &list, `SELECT * FROM cleared WHERE `+where+` ORDER BY id DESC LIMIT ?`, below, limit); err != nil {
		return nil, fmt.Errorf("reading what went: %w", err)
	}
	return list, nil
}

// FilesOf lists the numbers of the files of an item that are on the device, that of the main one first.
func (r *Catalogue) FilesOf(ctx context.Context, main int64) (ids []int64, err error) {
	err = r.read.SelectContext(ctx, &ids, `SELECT id FROM items WHERE gone_at = 0 AND part_of = 0 AND id = ?1
		UNION ALL SELECT id FROM items WHERE gone_at = 0 AND part_of = ?1 AND part_of <> 0`, main)
	if err != nil {
		return nil, fmt.Errorf("reading the files of an item: %w", err)
	}
	return ids, nil
}

// Candidates lists the items that are on the device, as ones that may go. shown tells in which state a copy counts.
func (r *Rooms) Candidates(ctx context.Context, places func(destination string) string,
	shown func(queue.State, string) queue.State) (items []room.Candidate, err error) {
	standings, err := standings(ctx, r.read)
	if err != nil {
		return nil, err
	}
	type stands struct {
		safe   bool
		places int
	}
	by := map[int64]stands{}
	for _, s := range standings {
		safe, at := standsAt(s, places, shown)
		by[s.ID] = stands{safe, at}
	}
	rows, err := r.read.QueryxContext(ctx, `SELECT i.id, i.source, i.dir, i.kind, i.taken_at, i.all_bytes, i.standing,
		(SELECT coalesce(max(back_at), 0) FROM cleared WHERE main = i.id) back,
		EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.shelf = '' AND c.state = 'safe' AND c.reduced = 0) whole,
		EXISTS (SELECT 1 FROM items p WHERE p.part_of = i.id AND p.part_of <> 0 AND p.gone_at = 0 AND NOT EXISTS
			(SELECT 1 FROM copies c WHERE c.item = p.id AND c.shelf = '' AND c.state = 'safe' AND c.reduced = 0)) lacks
		FROM items i WHERE i.gone_at = 0 AND i.part_of = 0 AND i.standing <> 0`)
	if err != nil {
		return nil, fmt.Errorf("reading what may go: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var it room.Candidate
		var standing int64
		var kind string
		var whole, lacks bool
		if err := rows.Scan(&it.ID, &it.Source, &it.Dir, &kind, &it.TakenMS, &it.Bytes, &standing, &it.BackMS, &whole, &lacks); err != nil {
			return nil, fmt.Errorf("reading what may go: %w", err)
		}
		if it.Dir = path.Clean(it.Dir); it.Dir == "." {
			it.Dir = ""
		}
		is := by[standing]
		it.Kind, it.Safe, it.Places, it.AsShot = media.Kind(kind), is.safe, is.places, whole && !lacks
		items = append(items, it)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("reading what may go: %w", err)
	}
	return items, nil
}

// standsAt tells whether every copy of items that stand so is safe, and at how many places each of their files is, at least.
func standsAt(s Standing, places func(destination string) string, shown func(queue.State, string) queue.State) (safe bool, at int) {
	of := map[media.Kind]map[string]bool{"": {}} // by the kind of the file; "" is the main one
	safe = true
	for _, c := range s.Copies {
		if c.Shelf != "" {
			continue
		}
		if of[c.Kind] == nil {
			of[c.Kind] = map[string]bool{}
		}
		switch state := shown(c.State, c.Destination); state {
		case queue.Skipped: // nobody asks for it
		case queue.Safe:
			if place := places(c.Destination); place != "" {
				of[c.Kind][place] = true
			}
		default:
			safe = false
		}
	}
	at = len(of[""])
	for _, has := range of {
		at = min(at, len(has))
	}
	return safe && at > 0, at
}

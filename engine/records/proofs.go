package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"yardtide/core/queue"
)

// Reprove marks safe copies to be proven again, but those of older versions that do not count: a sample of so many,
// taken at random, or all with 0. An empty destination is every one. It returns how many
// are marked.
func (r *Proofs) Reprove(ctx context.Context, destination string, sample int64) (n int64, err error) {
	query := `UPDATE copies SET reprove = 1 WHERE id IN (SELECT id FROM copies WHERE state = 'safe' AND (? = '' OR destination = ?) AND item NOT IN (SELECT id FROM items WHERE older = 2) ORDER BY random() LIMIT ?)`
	if sample <= 0 {
		sample = -1
	}
	res, err := r.write.ExecContext(ctx, query, destination, destination, sample)
	if err == nil {
		n, err = res.RowsAffected()
	}
	if err != nil {
		return 0, fmt.Errorf("marking what is to be proven again: %w", err)
	}
	return n, nil
}

// StopReproving takes back which proofs are to be taken again at a destination, or at
// all with "".
func (r *Proofs) StopReproving(ctx context.Context, destination string) error {
	_, err := r.write.ExecContext(ctx, `UPDATE copies SET reprove = 0 WHERE reprove = 1 AND (? = '' OR destination = ?)`,
		destination, destination)
	if err != nil {
		return fmt.Errorf("taking back which proofs are taken again: %w", err)
	}
	return nil
}

// ToReprove finds the next copy at a destination that is to be proven again.
func (r *Proofs) ToReprove(ctx context.Context, destination string) (Copy, bool, error) {
	return r.one(ctx, selectCopy+`WHERE c.destination = ? AND c.reprove = 1 AND c.state = 'safe' ORDER BY c.id LIMIT 1`,
		destination)
}

// Reproving counts the copies that are to be proven again, by destination.
func (r *Proofs) Reproving(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		Destination string `db:"destination"`
		N           int64  `db:"n"`
	}
	if err := r.read.SelectContext(ctx, &rows,
		`SELECT destination, count(*) n FROM copies WHERE reprove = 1 AND +state = 'safe' GROUP BY destination`); err != nil {
		return nil, fmt.Errorf("counting what is to be proven again: %w", err)
	}
	counts := map[string]int64{}
	for _, row := range rows {
		counts[row.Destination] = row.N
	}
	return counts, nil
}

// Proven notes that a proof was taken again and held.
func (r *Proofs) Proven(ctx context.Context, id int64, way string, now time.Time) error {
	return r.durably(ctx, fmt.Sprintf("noting the proof of copy %d", id), func(tx *transaction) error {
		if _, err := tx.Exec(`UPDATE copies SET reprove = 0, proof = ?, proven_at = ? WHERE id = ?`, way, ms(now),
			id); err != nil {
			return err
		}
		_, err := tx.Exec(`INSERT INTO events VALUES (?, ?, 'safe', ?)`, id, ms(now), "Proven again: "+way+".")
		return err
	})
}

// Lost takes every safe copy that has a path at a destination to stuck: what
// lies there is not what was proven. Those that the plan does not ask for are skipped: nobody misses them. It returns
// how many are lost.
func (r *Proofs) Lost(ctx context.Context, destination, remote, says, todo string, now time.Time) (n int64, err error) {
	err = r.tx(ctx, "noting a loss", func(tx *transaction) error {
		if err := queue.Step(queue.Safe, queue.Stuck); err != nil {
			return err
		}
		var ids []int64
		if err := tx.Select(&ids, `SELECT id FROM copies WHERE state = 'safe' AND destination = ? AND remote = ?`, destination,
			remote); err != nil || len(ids) == 0 {
			return err
		}
		n = int64(len(ids))
		these, err := list(ids)
		if err != nil {
			return err
		}
		const where = `id IN (SELECT value FROM json_each(?))`
		if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, 'stuck', ? FROM copies WHERE `+where, ms(now), says,
			these); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE copies SET state = 'stuck', says = ?, todo = ?, reprove = 0, recorded = 0, remote = '', sha256 = '', landed = 0, proof = '', proven_at = 0, sent = 0, tries = 0, not_before = 0, changed_at = ? WHERE `+where,
			says, todo, ms(now), these); err != nil {
			return err
		}
		return moveAll(tx, now, queue.Skipped, queue.NotAsked, `id IN (`+unasked+`c.state = 'stuck' AND c.`+where+`)`, these)
	})
	return n, err
}

// RestingOn lists the safe copies that rest on a path at a destination, a few of them.
func (r *Proofs) RestingOn(ctx context.Context, destination, remote string) ([]Copy, error) {
	var copies []Copy
	if err := r.read.SelectContext(ctx, &copies,
		selectCopy+`WHERE c.state = 'safe' AND c.destination = ? AND c.remote = ? ORDER BY c.id LIMIT 64`, destination,
		remote); err != nil {
		return nil, fmt.Errorf("reading what rests on %s at %s: %w", remote, destination, err)
	}
	return copies, nil
}

// RestOn is how many safe copies rest on a path at a destination.
func (r *Proofs) RestOn(ctx context.Context, destination, remote string) (n int64, err error) {
	if err := r.read.GetContext(ctx, &n, `SELECT count(*) FROM copies WHERE state = 'safe' AND destination = ? AND remote = ?`, destination, remote); err != nil {
		return 0, fmt.Errorf("reading what rests on %s at %s: %w", remote, destination, err)
	}
	return n, nil
}

// Unrecorded counts the safe copies that do not stand in the open record at a
// destination yet (small ones never do: they go again), and tells since when the oldest has not.
func (r *Proofs) Unrecorded(ctx context.Context, destination string) (n int64, since time.Time, err error) {
	var row struct {
		N  int64 `db:"n"`
		MS int64 `db:"since"`
	}
	if err := r.read.GetContext(ctx, &row, `SELECT count(*) n, coalesce(min(proven_at), 0) since FROM copies WHERE state = 'safe' AND recorded = 0 AND shelf <> 'small' AND destination = ?`, destination); err != nil {
		return 0, time.Time{}, fmt.Errorf("counting what is not in the record at %s: %w", destination, err)
	}
	return row.N, FromMS(row.MS), nil
}

// ToRecord lists the safe copies that do not stand in the open record at a
// destination yet, at most limit.
func (r *Proofs) ToRecord(ctx context.Context, destination string, limit int) ([]Copy, error) {
	var copies []Copy
	if err := r.read.SelectContext(ctx, &copies,
		selectCopy+`WHERE c.state = 'safe' AND c.recorded = 0 AND c.shelf <> 'small' AND c.destination = ? ORDER BY c.proven_at LIMIT ?`, destination, limit); err != nil {
		return nil, fmt.Errorf("reading what is not in the record at %s: %w", destination, err)
	}
	return copies, nil
}

// SetRecorded notes that copies stand in a part of the open record.
func (r *Proofs) SetRecorded(ctx context.Context, ids []int64, part int64) error {
	query, args, err := sqlx.In(`UPDATE copies SET recorded = ? WHERE id IN (?) AND state = 'safe'`, part, append(ids, -1))
	if err == nil {
		_, err = r.write.ExecContext(ctx, query, args...)
	}
	if err != nil {
		return fmt.Errorf("noting what is in the record: %w", err)
	}
	return nil
}

// Lying is a file that was at a destination before Yard Tide came.
type Lying struct {
	Destination string `db:"destination"`
	Path        string `db:"path"`
	Size        int64  `db:"size"`
	SHA256      string `db:"sha256"` // "" before it was needed
	HashedMS    int64  `db:"hashed_at"`
}

// AddFound keeps a batch of files that are at a destination. One that is known
// keeps its hash if its size is the same.
func (r *Adopted) AddFound(ctx context.Context, found []Lying) error {
	return r.tx(ctx, "keeping what is at the destination", func(tx *transaction) error {
		for _, f := range found {
			_, err := tx.NamedExec(`INSERT INTO found VALUES (:destination, :path, :size, '', 0)
				ON CONFLICT DO UPDATE SET size = excluded.size, sha256 = '', hashed_at = 0 WHERE size <> excluded.size`, f)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// FoundOf lists the files at a destination that have a size.
func (r *Adopted) FoundOf(ctx context.Context, destination string, size int64) ([]Lying, error) {
	var found []Lying
	if err := r.read.SelectContext(ctx, &found, `SELECT * FROM found WHERE destination = ? AND size = ? ORDER BY path`,
		destination, size); err != nil {
		return nil, fmt.Errorf("reading what is at %s: %w", destination, err)
	}
	return found, nil
}

// FoundAt is the file at a path of a destination, if it was there before.
func (r *Adopted) FoundAt(ctx context.Context, destination, path string) (f Lying, known bool, err error) {
	err = r.read.GetContext(ctx, &f, `SELECT * FROM found WHERE destination = ? AND path = ?`, destination, path)
	if errors.Is(err, sql.ErrNoRows) {
		return f, false, nil
	}
	if err != nil {
		return f, false, fmt.Errorf("reading what is at %s: %w", destination, err)
	}
	return f, true, nil
}

// SetFound keeps the hash of a file that was read; "" forgets the file, as it
// is no longer there.
func (r *Adopted) SetFound(ctx context.Context, destination, path, sha256 string, now time.Time) error {
	query, args := `UPDATE found SET sha256 = ?, hashed_at = ? WHERE destination = ? AND path = ?`, []any{sha256, ms(now),
		destination, path}
	if sha256 == "" {
		query, args = `DELETE FROM found WHERE destination = ? AND path = ?`, []any{destination, path}
	}
	if _, err := r.write.ExecContext(ctx, query, args...); err != nil {
		return fmt.Errorf("keeping the hash of %s: %w", path, err)
	}
	return nil
}

// Ours tells which of some paths at a destination copies have.
func (r *Adopted) Ours(ctx context.Context, destination string, paths []string) (map[string]bool, error) {
	text, err := json.Marshal(paths)
	if err != nil {
		return nil, fmt.Errorf("writing the paths at %s: %w", destination, err)
	}
	var known []string
	if err := r.read.SelectContext(ctx, &known,
		`SELECT DISTINCT c.remote FROM json_each(?) p CROSS JOIN copies c ON c.destination = ? AND c.remote = p.value AND c.remote <> ''`,
		string(text), destination); err != nil {
		return nil, fmt.Errorf("reading the paths at %s: %w", destination, err)
	}
	ours := make(map[string]bool, len(known))
	for _, p := range known {
		ours[p] = true
	}
	return ours, nil
}

// Matching counts what of the files found at a destination has the size of an
// item whose copy waits.
func (r *Adopted) Matching(ctx context.Context, destination string) (n int64, err error) {
	err = r.read.GetContext(ctx, &n, `SELECT count(*) FROM copies c WHERE c.state = 'waiting' AND c.destination = ? AND EXISTS (SELECT 1 FROM found f WHERE f.destination = c.destination AND f.size = c.bytes)`, destination)
	if err != nil {
		return 0, fmt.Errorf("comparing sizes at %s: %w", destination, err)
	}
	return n, nil
}

package records

import (
	"context"
	"fmt"
	"time"

	"yardtide/core/queue"
)

// Proofs belong to a place. This file has what follows when a destination's name
// comes to stand for another one.

// Owe makes every safe copy at a destination owe its proof anew, as what lies
// there may not be what was proven. What it was proven with stays, to be compared
// with. In the same transaction it keeps the fact which place that is now: a proof
// that was taken meanwhile counts before, or not. It returns how many.
func (r *Places) Owe(ctx context.Context, destination, says string, is NamedFact, now time.Time) (n int64, err error) {
	err = r.durably(ctx, "having proofs taken anew", func(tx *transaction) error {
		if err := queue.Step(queue.Safe, queue.Proving); err != nil {
			return err
		}
		if _, err := tx.Exec(setFact, is.Name, is.Value); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, 'proving', ? FROM copies WHERE state = 'safe' AND destination = ?`, ms(now), says, destination); err != nil {
			return err
		}
		res, err := tx.Exec(`UPDATE copies SET state = 'proving', says = ?, todo = '', proof = '', proven_at = 0, reprove = 0, recorded = 0, tries = 0, not_before = 0, changed_at = ? WHERE state = 'safe' AND destination = ?`,
			says, ms(now), destination)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil {
			return err
		}
		_, err = tx.Exec(`UPDATE found SET sha256 = '', hashed_at = 0 WHERE destination = ?`, destination)
		return err
	})
	return n, err
}

// Abandon begins anew at a destination whose name stands for a new place: what
// lies at the old one is listed as being there, and every copy whose file is
// still on the device goes again. Like Owe it keeps which place that is now. It
// returns how many go.
func (r *Places) Abandon(ctx context.Context, destination, place, says string, is NamedFact,
	now time.Time) (n int64, err error) {
	const there = `state IN ('safe', 'proving') AND destination = ?`
	err = r.durably(ctx, "leaving a place", func(tx *transaction) error {
		if _, err := tx.Exec(setFact, is.Name, is.Value); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT OR REPLACE INTO left_behind SELECT ?, destination, remote, bytes, sha256, ? FROM copies WHERE remote <> '' AND `+there, place, ms(now), destination); err != nil {
			return err
		}
		for _, to := range []struct {
			state queue.State
			where string
		}{{queue.Waiting, ` AND EXISTS (SELECT 1 FROM items i WHERE i.id = item AND i.gone_at = 0)`}, {queue.Skipped, ``}} {
			where := there + to.where
			if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, ?, ? FROM copies WHERE `+where, ms(now), to.state, says,
				destination); err != nil {
				return err
			}
			res, err := tx.Exec(`UPDATE copies SET state = ?, says = ?, todo = '', remote = '', sha256 = '', proof = '', proven_at = 0, landed = 0, temp = '', sent = 0, reprove = 0, recorded = 0, tries = 0, not_before = 0, changed_at = ? WHERE `+where,
				to.state, says, ms(now), destination)
			if err != nil {
				return err
			}
			if to.state == queue.Waiting {
				if n, err = res.RowsAffected(); err != nil {
					return err
				}
			}
		}
		if _, err := tx.Exec(`UPDATE copies SET remote = '', sha256 = '', landed = 0, temp = '', sent = 0 WHERE destination = ? AND state NOT IN ('safe', 'proving')`, destination); err != nil {
			return err
		}
		_, err := tx.Exec(`DELETE FROM found WHERE destination = ?`, destination)
		return err
	})
	return n, err
}

// LeftBehind tells what lies at places that a destination's name stood for.
func (r *Places) LeftBehind(ctx context.Context, destination string) (n, bytes int64, err error) {
	var row struct {
		N     int64 `db:"n"`
		Bytes int64 `db:"bytes"`
	}
	if err := r.read.GetContext(ctx, &row, `SELECT count(*) n, coalesce(sum(size), 0) bytes FROM left_behind WHERE destination = ?`, destination); err != nil {
		return 0, 0, fmt.Errorf("reading what was left behind: %w", err)
	}
	return row.N, row.Bytes, nil
}

// Taken tells whether a copy other than one has a path at a destination.
func (r *Places) Taken(ctx context.Context, destination, remote string, but int64) (taken bool, err error) {
	err = r.read.GetContext(ctx, &taken, `SELECT EXISTS (SELECT 1 FROM copies WHERE destination = ? AND remote = ? AND remote <> '' AND id <> ? AND +landed = 1)`, destination, remote, but)
	if err != nil {
		return false, fmt.Errorf("looking who has %s: %w", remote, err)
	}
	return taken, nil
}

// KnowsTemp tells whether a copy's record has a temporary name at a destination.
func (r *Places) KnowsTemp(ctx context.Context, destination, temp string) (known bool, err error) {
	err = r.read.GetContext(ctx, &known, `SELECT EXISTS (SELECT 1 FROM copies WHERE destination = ? AND temp <> '' AND temp = ?)`, destination, temp)
	if err != nil {
		return false, fmt.Errorf("looking for %s: %w", temp, err)
	}
	return known, nil
}

// LandedSince is how many bytes of copies were put in place at a destination since a time.
func (r *Places) LandedSince(ctx context.Context, destination string, since time.Time) (bytes int64, err error) {
	err = r.read.GetContext(ctx, &bytes, `SELECT coalesce(sum(bytes), 0) FROM copies WHERE destination = ? AND landed = 1 AND changed_at >= ?`, destination, ms(since))
	if err != nil {
		return 0, fmt.Errorf("reading what landed at %s: %w", destination, err)
	}
	return bytes, nil
}

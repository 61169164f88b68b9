package records

import (
	"context"
	"fmt"
	"time"

	"yardtide/core/gate"
)

// Sensed is what a device sensed from a time on.
type Sensed struct {
	AtMS     int64  `db:"at"`
	Network  string `db:"network"`
	Name     string `db:"name"` // of the Wi-Fi
	Metered  string `db:"metered"`
	Roaming  string `db:"roaming"`
	Charging string `db:"charging"`
	Use      string `db:"in_use"`
}

// KeptSensed is how long what was sensed is kept.
const KeptSensed = 60 * 24 * time.Hour

// Sense keeps what is sensed, if it is otherwise than before. What is too old goes.
func (r *Journal) Sense(ctx context.Context, c gate.Conditions, now time.Time) error {
	return r.tx(ctx, "keeping what is sensed", func(tx *transaction) error {
		_, err := tx.Exec(`INSERT INTO sensed (at, network, name, metered, roaming, charging, in_use) SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7
			WHERE NOT EXISTS (SELECT 1 FROM sensed WHERE id = (SELECT max(id) FROM sensed) AND network = ?2 AND name = ?3 AND metered = ?4 AND roaming = ?5 AND charging = ?6 AND in_use = ?7)`,
			ms(now), c.Network, c.NetworkName, c.Metered, c.Roaming, c.Charging, c.Use)
		if err == nil {
			_, err = tx.Exec(`DELETE FROM sensed WHERE at < ?`, ms(now.Add(-KeptSensed)))
		}
		return err
	})
}

// SensedBetween lists what was sensed from one time to another, the first as it was then.
func (r *Journal) SensedBetween(ctx context.Context, from, to time.Time) (list []Sensed, err error) {
	err = r.read.SelectContext(ctx, &list, `SELECT max(at, ?1) at, network, name, metered, roaming, charging, in_use FROM sensed
		WHERE at < ?2 AND at >= coalesce((SELECT max(at) FROM sensed WHERE at <= ?1), ?1) ORDER BY at, id`, ms(from), ms(to))
	if err != nil {
		return nil, fmt.Errorf("reading what was sensed: %w", err)
	}
	return list, nil
}

// LastOn is when the device was last on a network of a kind, "" for any; zero for never.
func (r *Journal) LastOn(ctx context.Context) (network, name string, until time.Time, err error) {
	var list []struct {
		Network string
		Name    string
		Until   int64
	}
	err = r.read.SelectContext(ctx, &list, `SELECT network, name, coalesce((SELECT min(n.at) FROM sensed n WHERE n.id > s.id), 0) until FROM sensed s WHERE network NOT IN ('none', 'unknown') ORDER BY id DESC LIMIT 1`)
	if err != nil || len(list) == 0 {
		return "", "", time.Time{}, err
	}
	return list[0].Network, list[0].Name, FromMS(list[0].Until), nil
}

// Run is one run of the device's program.
type Run struct {
	BeganMS int64 `db:"began"`
	SeenMS  int64 `db:"seen"`  // it ran still
	EndedMS int64 `db:"ended"` // 0 while it runs, or when it was stopped from outside
}

// BeginRun notes that the program begins. It returns the number of the run.
func (r *Journal) BeginRun(ctx context.Context, now time.Time) (id int64, err error) {
	err = r.tx(ctx, "noting a run", func(tx *transaction) error {
		if _, err := tx.Exec(`DELETE FROM runs WHERE seen < ?`, ms(now.Add(-KeptSensed))); err != nil {
			return err
		}
		res, err := tx.Exec(`INSERT INTO runs (began, seen) VALUES (?1, ?1)`, ms(now))
		if err == nil {
			id, err = res.LastInsertId()
		}
		return err
	})
	return id, err
}

// SeeRun notes that the program runs still, or ends.
func (r *Journal) SeeRun(ctx context.Context, id int64, now time.Time, ends bool) error {
	ended := int64(0)
	if ends {
		ended = ms(now)
	}
	if _, err := r.write.ExecContext(ctx, `UPDATE runs SET seen = ?, ended = ? WHERE id = ?`, ms(now), ended,
		id); err != nil {
		return fmt.Errorf("noting a run: %w", err)
	}
	return nil
}

// RunsBetween lists the runs that there were from one time to another.
func (r *Journal) RunsBetween(ctx context.Context, from, to time.Time) (list []Run, err error) {
	if err := r.read.SelectContext(ctx, &list,
		`SELECT began, seen, ended FROM runs WHERE seen >= ? AND began < ? ORDER BY id`, ms(from), ms(to)); err != nil {
		return nil, fmt.Errorf("reading the runs: %w", err)
	}
	return list, nil
}

// Landing is what became safe in a part of the time.
type Landing struct {
	AtMS  int64 `db:"at"` // when that part began
	N     int64 `db:"n"`
	Bytes int64 `db:"bytes"`
}

// SafeBetween counts the copies that became safe from one time to another, by parts of so
// long.
func (r *Journal) SafeBetween(ctx context.Context, from, to time.Time, part time.Duration) (list []Landing, err error) {
	err = r.read.SelectContext(ctx, &list, `SELECT ?1 + (proven_at - ?1) / ?3 * ?3 at, count(*) n, sum(bytes) bytes FROM copies WHERE proven_at >= max(?1, 1) AND proven_at < ?2 GROUP BY 1 ORDER BY 1`, ms(from), ms(to), part.Milliseconds())
	if err != nil {
		return nil, fmt.Errorf("reading what became safe: %w", err)
	}
	return list, nil
}

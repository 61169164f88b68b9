package records

import (
	"context"
	"fmt"

	"yardtide/core/burst"
	"yardtide/core/media"
)

// Shots are the photos that a rule takes, whose camera tells when they were taken, found
// after an item; and the last item of all.
func (r *Catalogue) Shots(ctx context.Context, rule string, after int64) (shots []burst.Shot, last int64, err error) {
	var rows []struct {
		ID     int64  `db:"id"`
		Camera string `db:"camera"`
		AtMS   int64  `db:"taken_at"`
	}
	err = r.read.SelectContext(ctx, &rows, `SELECT id, camera, taken_at FROM items WHERE id > ? AND gone_at = 0 AND part_of = 0 AND kind = 'photo' AND rule = ? AND taken_from <> ?`, after, rule, media.FromFile)
	if err == nil {
		err = r.read.GetContext(ctx, &last, `SELECT coalesce(max(id), 0) FROM items`)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("reading the shots of %s: %w", rule, err)
	}
	shots = make([]burst.Shot, len(rows))
	for i, row := range rows {
		shots[i] = burst.Shot{ID: row.ID, Camera: row.Camera, At: FromMS(row.AtMS)}
	}
	return shots, last, nil
}

package records

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"
)

// This file reads what an index of the items needs of each.

// Indexed is an item as an index has it.
type Indexed struct {
	ID        int64  `db:"id"`
	Source    string `db:"source"`
	Dir       string `db:"dir"`
	Name      string `db:"name"`
	Kind      string `db:"kind"`
	TakenMS   int64  `db:"taken_at"`
	TakenZone int    `db:"taken_zone"` // seconds east of UTC
	AllBytes  int64  `db:"all_bytes"`
	Camera    string `db:"camera"`
	Caption   string `db:"caption"`
	Rating    int    `db:"rating"`
	Keywords  string `db:"keywords"` // JSON
	Standing  int64  `db:"standing"`
	GoneMS    int64  `db:"gone_at"`
	Placed    bool   `db:"placed"` // it is told where it was taken, in millionths of a degree
	Lat       int64  `db:"lat"`
	Lon       int64  `db:"lon"`
	Keeper    string `db:"keeper"` // JSON, see KeeperOf
}

// indexed are the items that can be found: main files of which a copy is or was asked for, and pictures, clips and sound
// that are here and that no rule takes. Smaller versions in a closed library are none.
const indexed = `SELECT id, source, dir, name, kind, taken_at, taken_zone, all_bytes, camera, caption, rating, keywords, standing, gone_at, placed, lat, lon, keeper
	FROM items WHERE part_of = 0 AND (standing <> 0 OR gone_at = 0 AND made_from = '' AND kind IN ('photo', 'raw', 'graphic', 'video', 'audio'))`

// mostIndexed is how many items are named in one question.
const mostIndexed = 500

// EachIndexed reads items for an index, by their numbers, in order: those that are named, or all with nil. What can no
// longer be found is left out.
func (r *Catalogue) EachIndexed(ctx context.Context, ids []int64, each func(Indexed)) error {
	if ids == nil {
		return r.eachIndexed(ctx, each, indexed+` ORDER BY id`)
	}
	for some := range slices.Chunk(ids, mostIndexed) {
		query, args, err := sqlx.In(indexed+` AND id IN (?) ORDER BY id`, some)
		if err != nil {
			return fmt.Errorf("reading items for the index: %w", err)
		}
		if err := r.eachIndexed(ctx, each, query, args...); err != nil {
			return err
		}
	}
	return nil
}

func (r *Catalogue) eachIndexed(ctx context.Context, each func(Indexed), query string, args ...any) (err error) {
	rows, err := r.read.QueryxContext(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("reading items for the index: %w", err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var it Indexed
		if err := rows.Scan(&it.ID, &it.Source, &it.Dir, &it.Name, &it.Kind, &it.TakenMS, &it.TakenZone, &it.AllBytes, &it.Camera, &it.Caption,
			&it.Rating, &it.Keywords, &it.Standing, &it.GoneMS, &it.Placed, &it.Lat, &it.Lon, &it.Keeper); err != nil {
			return fmt.Errorf("reading items for the index: %w", err)
		}
		each(it)
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading items for the index: %w", err)
	}
	return nil
}

// ItemsOf reads items by their numbers, in the order in which they are named; one that is not there is left out.
func (r *Catalogue) ItemsOf(ctx context.Context, ids []int64) ([]Item, error) {
	byID := make(map[int64]Item, len(ids))
	for some := range slices.Chunk(ids, mostIndexed) {
		query, args, err := sqlx.In(`SELECT * FROM items WHERE id IN (?)`, some)
		if err != nil {
			return nil, fmt.Errorf("reading items: %w", err)
		}
		var items []Item
		if err := r.read.SelectContext(ctx, &items, query, args...); err != nil {
			return nil, fmt.Errorf("reading items: %w", err)
		}
		for _, it := range items {
			byID[it.ID] = it
		}
	}
	list := make([]Item, 0, len(ids))
	for _, id := range ids {
		if it, is := byID[id]; is {
			list = append(list, it)
		}
	}
	return list, nil
}

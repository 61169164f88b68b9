package records

import (
	"context"
	"fmt"
	"strings"
)

// Sum is how many items there are, and their bytes.
type Sum struct {
	N     int64 `db:"n"`
	Bytes int64 `db:"bytes"`
}

// SafeBelow counts what is safe of a folder of a source and everything below, by
// destination. dir is "." for the whole source.
func (r *Catalogue) SafeBelow(ctx context.Context, source, dir string) (map[string]Sum, error) {
	var rows []struct {
		Destination string `db:"destination"`
		Sum
	}
	query := `SELECT c.destination, count(*) n, sum(c.bytes) bytes FROM items i JOIN copies c ON c.item = i.id AND c.state = 'safe' AND c.shelf = '' WHERE i.part_of = 0 AND i.source = ? AND i.gone_at = 0`
	args := []any{source}
	if dir != "." { // from the folder's name on to the last name that begins with it and a slash
		query += ` AND (i.dir = ? OR i.dir >= ? AND i.dir < ?)`
		args = append(args, dir, dir+"/", strings.TrimSuffix(dir, "/")+"0")
	}
	if err := r.read.SelectContext(ctx, &rows, query+` GROUP BY 1`, args...); err != nil {
		return nil, fmt.Errorf("counting what is safe of %s/%s: %w", source, dir, err)
	}
	safe := map[string]Sum{}
	for _, row := range rows {
		safe[row.Destination] = row.Sum
	}
	return safe, nil
}

package records

import (
	"context"
	"fmt"
)

// Lookalike is an item that most likely has the same content as another, by its size and its look.
type Lookalike struct {
	Item
	Safe bool `db:"safe"` // its copies are all proven, and there is one
}

// Alike lists items of a size and a look: those that are here first.
func (r *Catalogue) Alike(ctx context.Context, size int64, look string) (items []Lookalike, err error) {
	if err := r.read.SelectContext(ctx, &items,
		`SELECT i.*, coalesce((SELECT min(c.state = 'safe') FROM copies c WHERE c.item = i.id AND c.shelf = ''), 0) safe
		 FROM items i WHERE size = ? AND look = ? ORDER BY gone_at <> 0, id LIMIT 20`, size, look); err != nil {
		return nil, fmt.Errorf("looking for what is alike: %w", err)
	}
	return items, nil
}

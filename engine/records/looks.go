package records

import (
	"context"
	"fmt"
)

// Alike lists items of a size and a look: those that are here first. Most of them have the same content.
func (r *Catalogue) Alike(ctx context.Context, size int64, look string) (items []Item, err error) {
	if err := r.read.SelectContext(ctx, &items,
		`SELECT * FROM items WHERE size = ? AND look = ? ORDER BY gone_at <> 0, id LIMIT 20`, size, look); err != nil {
		return nil, fmt.Errorf("looking for what is alike: %w", err)
	}
	return items, nil
}

// SafeItem tells whether an item's copies are all proven, and there is one.
func (r *Catalogue) SafeItem(ctx context.Context, id int64) (safe bool, err error) {
	if err := r.read.GetContext(ctx, &safe,
		`SELECT count(*) > 0 AND count(*) = sum(state = 'safe') FROM copies WHERE item = ? AND shelf = ''`, id); err != nil {
		return false, fmt.Errorf("reading whether item %d is safe: %w", id, err)
	}
	return safe, nil
}

package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
)

// Content is an item's size and the look of its edges: who has both has most likely the same content.
type Content struct {
	Size int64  `db:"size"`
	Look string `db:"look"`
}

// Lookalike is an item that most likely has a content.
type Lookalike struct {
	Content
	Source string `db:"source"`
	GoneMS int64  `db:"gone_at"`
	Safe   bool   `db:"safe"` // its copies are all proven, and there is one
}

// mostLooks is how many contents are asked for at once.
const mostLooks = 1000

// Lookalikes lists the items that most likely have one of some contents.
func (r *Queue) Lookalikes(ctx context.Context, of []Content) (all []Lookalike, err error) {
	for some := range slices.Chunk(of, mostLooks) {
		asked := make([][2]any, len(some))
		for i, l := range some {
			asked[i] = [2]any{l.Size, l.Look}
		}
		text, err := json.Marshal(asked)
		if err != nil {
			return nil, fmt.Errorf("looking for what is alike: %w", err)
		}
		var found []Lookalike
		if err := r.read.SelectContext(ctx, &found,
			`SELECT i.size, i.look, i.source, i.gone_at, coalesce((SELECT min(c.state = 'safe') FROM copies c WHERE c.item = i.id AND c.shelf = ''), 0) safe
			 FROM json_each(?) j CROSS JOIN items i INDEXED BY items_look ON i.size = j.value ->> 0 AND i.look = j.value ->> 1`, string(text)); err != nil {
			return nil, fmt.Errorf("looking for what is alike: %w", err)
		}
		all = append(all, found...)
	}
	return all, nil
}

// Alike lists items of a size and a look: those that are here first.
func (r *Queue) Alike(ctx context.Context, size int64, look string) (items []Item, err error) {
	if err := r.read.SelectContext(ctx, &items,
		`SELECT * FROM items WHERE size = ? AND look = ? ORDER BY gone_at <> 0, id LIMIT 20`, size, look); err != nil {
		return nil, fmt.Errorf("looking for what is alike: %w", err)
	}
	return items, nil
}

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

// Held is what there is of a content.
type Held struct {
	Here bool `db:"here"` // in a folder of the device
	Safe bool `db:"safe"` // proven at every place that it was to go to, of one item at least
}

// mostAsked is how many contents are asked for at once.
const mostAsked = 1000

// Held tells what there is of some contents, of those of which there is something. What lies in one source does not
// count as here.
func (r *Queue) Held(ctx context.Context, of []Content, but string) (map[Content]Held, error) {
	all := map[Content]Held{}
	for some := range slices.Chunk(of, mostAsked) {
		asked := make([][2]any, len(some))
		for i, c := range some {
			asked[i] = [2]any{c.Size, c.Look}
		}
		text, err := json.Marshal(asked)
		if err != nil {
			return nil, fmt.Errorf("looking for what is alike: %w", err)
		}
		var found []struct {
			Content
			Held
		}
		if err := r.read.SelectContext(ctx, &found,
			`SELECT i.size, i.look, max(i.gone_at = 0 AND i.source <> ?) here, max(coalesce((SELECT min(c.state = 'safe') FROM copies c WHERE c.item = i.id AND c.shelf = ''), 0)) safe
			 FROM json_each(?) j CROSS JOIN items i INDEXED BY items_look ON i.size = j.value ->> 0 AND i.look = j.value ->> 1 GROUP BY i.size, i.look`,
			but, string(text)); err != nil {
			return nil, fmt.Errorf("looking for what is alike: %w", err)
		}
		for _, f := range found {
			all[f.Content] = f.Held
		}
	}
	return all, nil
}

// Renamed lists items whose content is known and that have the size, the look, the number and the time of one of some
// files: under another name those may be the same files.
func (r *Queue) Renamed(ctx context.Context, files []Item) (items []Item, err error) {
	asked := make([][4]any, len(files))
	for i, f := range files {
		asked[i] = [4]any{f.Size, f.Look, f.Inode, f.MTime}
	}
	text, err := json.Marshal(asked)
	if err != nil {
		return nil, fmt.Errorf("looking for what was renamed: %w", err)
	}
	if err := r.read.SelectContext(ctx, &items,
		`SELECT i.* FROM json_each(?) j CROSS JOIN items i INDEXED BY items_look ON i.size = j.value ->> 0 AND i.look = j.value ->> 1
		 WHERE i.inode = j.value ->> 2 AND i.mtime = j.value ->> 3 AND i.inode <> 0 AND i.sha256 <> '' ORDER BY i.gone_at <> 0, i.id`,
		string(text)); err != nil {
		return nil, fmt.Errorf("looking for what was renamed: %w", err)
	}
	return items, nil
}

// Alike lists items of a size and a look: those that are here first.
func (r *Queue) Alike(ctx context.Context, c Content) (items []Item, err error) {
	if err := r.read.SelectContext(ctx, &items,
		`SELECT * FROM items WHERE size = ? AND look = ? ORDER BY gone_at <> 0, id LIMIT 20`, c.Size, c.Look); err != nil {
		return nil, fmt.Errorf("looking for what is alike: %w", err)
	}
	return items, nil
}

package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yardtide/core/plan"
)

// This file knows again what was gone and is back: brought back from a place, or put there by somebody.

// Returned finds items that went from where files are found now, with their size and edges, and that are safe as their
// rule asks: by the index of the file. The content is to be compared.
func (r *Catalogue) Returned(ctx context.Context, files []Item) (map[int]Item, error) {
	type place struct {
		At, Size        int64
		Dir, Name, Look string
	}
	var asked []place
	for i, it := range files {
		if it.Problem == "" && it.Look != "" {
			asked = append(asked, place{int64(i), it.Size, it.Dir, it.Name, it.Look})
		}
	}
	if len(asked) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(asked)
	if err != nil {
		return nil, fmt.Errorf("looking for what was there before: %w", err)
	}
	var found []struct {
		At int `db:"at"`
		Item
	}
	// The newest of each comes last.
	err = r.read.SelectContext(ctx, &found, `SELECT j.value ->> 'At' at, i.* FROM json_each(?) j CROSS JOIN items i INDEXED BY items_gone
		ON i.source = ? AND i.dir = j.value ->> 'Dir' AND i.name = j.value ->> 'Name'
		WHERE i.gone_at <> 0 AND i.older = 0 AND i.sha256 <> '' AND i.size = j.value ->> 'Size' AND i.look = j.value ->> 'Look'
			AND EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.shelf = '' AND c.state = 'safe')
			AND NOT EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.shelf = '' AND c.state <> 'safe')
			AND NOT EXISTS (SELECT 1 FROM items h WHERE h.source = i.source AND h.dir = i.dir AND h.name = i.name AND h.gone_at = 0)
		ORDER BY i.id`, string(text), files[0].Source)
	if err != nil {
		return nil, fmt.Errorf("looking for what was there before: %w", err)
	}
	back := map[int]Item{}
	for _, f := range found {
		back[f.At] = f.Item
	}
	return back, nil
}

// Return notes that items are back, with the stamps of their files.
func (r *Catalogue) Return(ctx context.Context, items []Item, p *plan.Plan, now time.Time) error {
	return r.tx(ctx, "noting what is back", func(tx *transaction) error {
		names := make([][2]string, len(items))
		for i, it := range items {
			if _, err := tx.Exec(`UPDATE items SET gone_at = 0, mtime = ?, inode = ?, ctime = ? WHERE id = ? AND gone_at <> 0
				AND NOT EXISTS (SELECT 1 FROM items h WHERE h.source = items.source AND h.dir = items.dir AND h.name = items.name AND h.gone_at = 0)`, it.MTime, it.Inode, it.CTime,
				it.ID); err != nil {
				return fmt.Errorf("%q: %w", it.Path(), err)
			}
			if _, err := tx.Exec(`UPDATE cleared SET back_at = ? WHERE item = ? AND back_at = 0 AND state = 'removed'`, ms(now), it.ID); err != nil {
				return fmt.Errorf("%q: %w", it.Path(), err)
			}
			names[i] = [2]string{it.Dir, it.Name}
		}
		changes, err := relateNames(tx, items[0].Source, names, p)
		if err != nil {
			return err
		}
		return settleParts(tx, now, items[0].Source, changes, p)
	})
}

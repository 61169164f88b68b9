package records

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// This file keeps what the originals of a closed library are told from smaller versions by, and what came of it.

// LibraryFile is a file of a library with what is known of its frame.
type LibraryFile struct {
	Item
	Framed bool   `db:"framed"` // the frame was looked at
	W      int    `db:"w"`      // pixels, 0 where they cannot be told
	H      int    `db:"h"`
	Fine   string `db:"fine"` // how it looks, "-" where that cannot be told, "" while nobody asked
}

// Library lists what is known of the files that lie in a folder of a source and below, "." for all of it, of the kinds
// that have versions, and the tags of caches there.
func (r *Catalogue) Library(ctx context.Context, source, folder string) (files []LibraryFile, err error) {
	kinds, err := json.Marshal(append([]media.Kind{media.Raw}, media.Versions...))
	if err != nil {
		return nil, err
	}
	below, args := "", []any{source, string(kinds), media.CacheTag}
	if folder = path.Clean(folder); folder != "." {
		below, args = ` AND (dir = ? OR substr(dir, 1, length(?)) = ?)`, append(args, folder, folder+"/", folder+"/")
	}
	if err := r.read.SelectContext(ctx, &files,
		`SELECT i.*, f.item IS NOT NULL framed, coalesce(f.w, 0) w, coalesce(f.h, 0) h, coalesce(f.fine, '') fine FROM items i LEFT JOIN frames f ON f.item = i.id
		 WHERE source = ? AND gone_at = 0 AND (kind IN (SELECT value FROM json_each(?)) OR name = ?)`+below+` ORDER BY dir, name`,
		args...); err != nil {
		return nil, fmt.Errorf("reading the library %s/%s: %w", source, folder, err)
	}
	return files, nil
}

// KeepFrames keeps the frames and the looks of files.
func (r *Catalogue) KeepFrames(ctx context.Context, files []LibraryFile) error {
	return r.tx(ctx, "keeping how pictures look", func(tx *transaction) error {
		for _, f := range files {
			if _, err := tx.Exec(`INSERT INTO frames (item, w, h, fine) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET w = excluded.w, h = excluded.h, fine = excluded.fine`,
				f.ID, f.W, f.H, f.Fine); err != nil {
				return err
			}
		}
		return nil
	})
}

// Sort keeps what items of a source were told to be, and brings the source in line with it: what is an original is
// sent, a smaller version that had not been sent is skipped.
func (r *Catalogue) Sort(ctx context.Context, items []Item, s plan.Source, p *plan.Plan, device string,
	now time.Time) error {
	return r.tx(ctx, "telling originals from smaller versions", func(tx *transaction) error {
		set, err := tx.PrepareNamed(`UPDATE items SET sorted = 1, made_from = :made_from WHERE id = :id`)
		if err != nil {
			return err
		}
		for _, it := range items {
			if _, err := set.Exec(it); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`DELETE FROM frames WHERE NOT EXISTS (SELECT 1 FROM items WHERE id = item AND gone_at = 0)`); err != nil {
			return err
		}
		if err := choose(tx, s.Folder, p.Chooser(s, p.Zone(device)), p); err != nil {
			return err
		}
		if err := want(tx, now, s, p); err != nil {
			return err
		}
		return unwant(tx, now)
	})
}

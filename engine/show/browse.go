package show

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardtide/engine/library"
	"yardtide/engine/look"
	"yardtide/engine/role"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// browseTime is how long the folders in one are counted: somebody waits for it.
const browseTime = 2 * time.Second

// Browse lists the folders in one, with the pictures and clips in each, as far as they can be counted quickly.
// The folder is named as in a plan; "" or "." is the device's own folder.
func (s *Show) Browse(ctx context.Context, folder string) (planwire.Browsed, error) {
	at := s.Root
	if folder != "" && folder != "." {
		at = filepath.Clean(s.Folder(strings.TrimPrefix(folder, "~/")))
	}
	b := planwire.Browsed{Device: s.Device, Folder: s.named(at), Path: at, Source: s.sourceAround(at),
		Folders: []planwire.BrowsedFolder{}}
	if up := filepath.Dir(at); up != at {
		b.Up = s.named(up)
	}
	l, err := look.List(ctx, at, browseTime)
	var closed look.Unreadable
	if errors.As(err, &closed) {
		b.Problem = closed.Error() + ". Allow reading it, or choose another."
		return b, nil
	}
	if err != nil {
		return b, err
	}
	b.Here = wire.Amount{N: l.N, Bytes: l.Bytes}
	for _, f := range l.Folders {
		below := filepath.Join(at, f.Name)
		if slices.Contains(s.Own, below) {
			continue // what Yard Tide keeps is nobody's picture
		}
		b.Folders = append(b.Folders, planwire.BrowsedFolder{Name: f.Name, Folder: s.named(below),
			Amount: wire.Amount{N: f.N, Bytes: f.Bytes}, Whole: f.Whole, More: f.More, Closed: library.Closed(below),
			Source: s.sourceAround(below)})
	}
	return b, nil
}

// named is how a plan names a folder at a path: by the word for one that people have, by its path below the
// device's own folder, or else by its path.
func (s *Show) named(at string) string {
	for _, u := range role.Of(s.Root) {
		if rel, err := filepath.Rel(u.Path, at); err == nil && filepath.IsLocal(rel) {
			return path.Join(u.Source, filepath.ToSlash(rel))
		}
	}
	if rel, err := filepath.Rel(s.Root, at); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return filepath.ToSlash(at)
}

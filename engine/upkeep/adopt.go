package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// maxFolders is how deep a storage's folders are looked at.
const maxFolders = 64

// Adopt lists what is at a destination and was not put there by a device of
// this process, so that it is not sent again. A file is read back when
// something of its size is to be sent, once, over a network that costs nothing. It
// tells what it found so far.
func (u *Upkeep) Adopt(ctx context.Context, name string, tell func(wire.Adopted)) (wire.Adopted, error) {
	var a wire.Adopted
	if u.Outlook().Costs(name) {
		return a, &destination.Error{Cause: queue.Shut,
			Says: "the network costs, or the device cannot tell that it does not; this is done over one that costs nothing"}
	}
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return a, err
	}
	b, able := driver.(destination.Browser)
	if !able {
		return a, &destination.Error{Cause: queue.Misplaced, Says: "this storage cannot be listed"}
	}
	dirs := []string{""}
	for len(dirs) > 0 {
		dir := dirs[len(dirs)-1]
		dirs = dirs[:len(dirs)-1]
		entries, err := b.List(ctx, dir)
		if err != nil && !errors.Is(err, destination.ErrNotFound) {
			return a, fmt.Errorf("listing %q: %w", dir, err)
		}
		for some := range slices.Chunk(entries, adoptedAtOnce) {
			more, err := adoption{u, name, &a}.keep(ctx, dir, some)
			if err != nil {
				return a, err
			}
			dirs = append(dirs, more...)
		}
		tell(a)
	}
	if a.Compare, err = u.Others.Matching(ctx, name); err != nil {
		return a, err
	}
	u.Changed()
	return a, nil
}

// adoptedAtOnce is how many entries of a folder are looked up and kept at once.
const adoptedAtOnce = 1000

// adoption is what was found at a destination so far.
type adoption struct {
	*Upkeep
	name  string
	found *wire.Adopted
}

// keep keeps which of some entries of a folder nobody here put there, and lists the folders among
// them.
func (a adoption) keep(ctx context.Context, dir string, entries []destination.Entry) (dirs []string, err error) {
	var found []records.Lying
	var paths []string
	for _, e := range entries {
		p := strings.TrimPrefix(dir+"/"+e.Name, "/")
		switch {
		case p == destination.TempDir || p == destination.RecordDir || p == destination.MarkerName:
		case e.Folder && strings.Count(p, "/") >= maxFolders: // a storage may show a folder within itself
		case e.Folder:
			dirs = append(dirs, p)
		case e.Size > 0:
			found, paths = append(found, records.Lying{Destination: a.name, Path: p, Size: e.Size}), append(paths, p)
		}
	}
	ours, err := a.Others.Ours(ctx, a.name, paths)
	if err != nil {
		return nil, err
	}
	found = slices.DeleteFunc(found, func(f records.Lying) bool { return ours[f.Path] })
	for _, f := range found {
		a.found.Files, a.found.Bytes = a.found.Files+1, a.found.Bytes+f.Size
	}
	return dirs, a.Records.Adopted.AddFound(ctx, found)
}

package tell

import (
	"context"
	"encoding/json"
	"path"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/search"
	"yardtide/engine/records"
)

// Feed is how far an index of the items is. The zero value begins with nothing.
type Feed struct {
	from  *records.Records
	watch *records.Watch
}

// Close ends it.
func (f *Feed) Close() {
	if f.watch != nil {
		f.watch.Close()
	}
	f.from, f.watch = nil, nil
}

// Into is where a feed tells of items.
type Into interface {
	// Anew forgets all that was told.
	Anew()
	Put(it search.Entry)
	Remove(id int64)
}

// Feed tells an index of the items, of all at first, and then of those that changed.
func (t Teller) Feed(ctx context.Context, f *Feed, into Into) (err error) {
	if f.from != t.From {
		f.Close()
		f.from, f.watch = t.From, t.From.Catalogue.Watch()
		defer func() {
			if err != nil { // the next time all is told
				f.Close()
			}
		}()
		return t.feed(ctx, nil, into)
	}
	ids, all := f.watch.Take()
	if all {
		ids = nil
	} else if len(ids) == 0 {
		return nil
	}
	if err := t.feed(ctx, ids, into); err != nil {
		f.Close()
		return err
	}
	return nil
}

// feed tells of items: of all where none are named.
func (t Teller) feed(ctx context.Context, ids []int64, into Into) error {
	if ids == nil {
		into.Anew()
	}
	all, err := t.From.Queue.Standings(ctx)
	if err != nil {
		return err
	}
	at := map[int64][]string{}
	for _, s := range all {
		at[s.ID] = safeAt(s.Copies)
	}
	left := map[int64]bool{}
	for _, id := range ids {
		left[id] = true
	}
	if err := t.From.Catalogue.EachIndexed(ctx, ids, func(it records.Indexed) {
		delete(left, it.ID)
		into.Put(indexed(it, at[it.Standing]))
	}); err != nil {
		return err
	}
	for id := range left {
		into.Remove(id)
	}
	return nil
}

// safeAt are the destinations at which all of an item is safe.
func safeAt(copies []records.Stand) (list []string) {
	whole := map[string]bool{}
	for _, c := range copies {
		if c.Shelf != plan.Main {
			continue
		}
		before, seen := whole[c.Destination]
		whole[c.Destination] = (before || !seen) && c.State == queue.Safe
	}
	for name, is := range whole {
		if is {
			list = append(list, name)
		}
	}
	return list
}

func indexed(it records.Indexed, at []string) search.Entry {
	is := search.Entry{ID: it.ID, Taken: time.UnixMilli(it.TakenMS).In(time.FixedZone("", it.TakenZone)), Kind: media.Kind(it.Kind),
		Bytes: it.AllBytes, Folder: path.Join(it.Source, it.Dir), Name: it.Name, Camera: it.Camera, Caption: it.Caption,
		Rating: it.Rating, Gone: it.GoneMS != 0, At: at, Position: records.PositionOf(it.Placed, it.Lat, it.Lon)}
	if it.Keeper != "" {
		k := records.KeeperOf(it.Keeper)
		is.Marked, is.Hidden, is.Note, is.Sets = k.Marked, k.Hidden, k.Note, k.Sets
	}
	if it.Keywords != "" && it.Keywords != "[]" {
		_ = json.Unmarshal([]byte(it.Keywords), &is.Keywords) // of a mirror they were looked at before
	}
	return is
}

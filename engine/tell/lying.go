package tell

import (
	"context"
	"path"
	"slices"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/bringback"
	"yardtide/engine/records"
)

// Lying is where an item lies: each of its files with the copies that are proven.
type Lying struct {
	ID     int64 // in the records
	Key    string
	Source string
	Gone   bool // from its device
	Size   int64
	// Files are its main file and its parts. Their paths are below the source; their copies stand in no order.
	Files []bringback.Wanted
}

// Lying tells where items lie, in the order in which they are named; one that is not there is left out.
func (t Teller) Lying(ctx context.Context, ids []int64) ([]Lying, error) {
	items, err := t.From.Catalogue.ItemsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	copies, err := t.From.Catalogue.CopiesOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	parts, err := t.partsOf(ctx, copies)
	if err != nil {
		return nil, err
	}
	v, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]Lying, 0, len(items))
	for _, it := range items {
		list = append(list, v.lying(t.From.Catalogue.Key(it.ID), it, copies[it.ID], parts))
	}
	return list, nil
}

// partsOf reads the further files of which there are copies, by their numbers.
func (t Teller) partsOf(ctx context.Context, copies map[int64][]records.Copy) (map[int64]records.Item, error) {
	var ids []int64
	for _, list := range copies {
		for _, c := range list {
			if c.PartOf != 0 {
				ids = append(ids, c.Item)
			}
		}
	}
	slices.Sort(ids)
	parts, err := t.From.Catalogue.ItemsOf(ctx, slices.Compact(ids))
	byID := map[int64]records.Item{}
	for _, it := range parts {
		byID[it.ID] = it
	}
	return byID, err
}

func (v view) lying(key string, it records.Item, copies []records.Copy, parts map[int64]records.Item) Lying {
	l := Lying{ID: it.ID, Key: key, Source: it.Source, Gone: it.GoneMS != 0, Size: it.Size}
	at := map[int64]int{}
	file := func(of records.Item) *bringback.Wanted {
		i, known := at[of.ID]
		if !known {
			i = len(l.Files)
			at[of.ID] = i
			l.Files = append(l.Files, bringback.Wanted{Path: path.Join(of.Dir, of.Name), Modified: time.Unix(0, of.MTime)})
		}
		return &l.Files[i]
	}
	file(it)
	for _, c := range copies {
		of := it
		if c.PartOf != 0 {
			of = parts[c.Item]
		}
		if of.ID == 0 || c.Remote == "" || v.Shown(c.State, c.Destination) != queue.Safe || c.Shelf != plan.Main && c.Shelf != plan.Small {
			continue
		}
		f := file(of)
		f.Copies = append(f.Copies, bringback.At{Destination: c.Destination, Path: c.Remote, SHA256: c.SHA256, Bytes: c.Bytes,
			Reduced: c.Reduced || c.Shelf == plan.Small})
	}
	return l
}

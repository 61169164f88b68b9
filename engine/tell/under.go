package tell

import (
	"context"

	"yardtide/engine/records"
	"yardtide/wire"
)

// Under tells the newest items of some paths, each a source and what lies below it, also when their files are gone from
// there. Where there is none it is nil. Of a part the item is told that it belongs to.
func (t Teller) Under(ctx context.Context, paths [][2]string) ([]*wire.Item, error) {
	list := make([]*wire.Item, len(paths))
	var found []records.Item
	var of []int // the path that each is of
	for i, p := range paths {
		it, ok, err := t.From.Catalogue.Under(ctx, p[0], p[1])
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		whole, err := t.wholes(ctx, []records.Item{it})
		if err != nil {
			return nil, err
		}
		found, of = append(found, whole...), append(of, i)
	}
	if len(found) == 0 {
		return list, nil
	}
	v, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	told, err := t.present(ctx, v, found)
	if err != nil {
		return nil, err
	}
	for i := range told {
		list[of[i]] = &told[i]
	}
	return list, nil
}

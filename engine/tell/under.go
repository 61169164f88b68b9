package tell

import (
	"context"

	"yardtide/engine/records"
	"yardtide/wire"
)

// Under tells the newest item of a path below a source, also when its file is gone from there; ok is false where there
// is none. Of a part the item is told that it belongs to.
func (t Teller) Under(ctx context.Context, source, file string) (it wire.Item, ok bool, err error) {
	is, ok, err := t.From.Catalogue.Under(ctx, source, file)
	if err != nil || !ok {
		return wire.Item{}, false, err
	}
	all, err := t.wholes(ctx, []records.Item{is})
	if err != nil {
		return wire.Item{}, false, err
	}
	v, err := t.view(ctx)
	if err != nil {
		return wire.Item{}, false, err
	}
	told, err := t.present(ctx, v, all)
	if err != nil || len(told) == 0 {
		return wire.Item{}, false, err
	}
	return told[0], true, nil
}

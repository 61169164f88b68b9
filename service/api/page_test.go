package api

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/service"
	"yardtide/wire"
)

// shelf tells a list of items, as a device does.
type shelf struct {
	service.Told
	items []wire.Item
}

func (s shelf) Items(_ context.Context, f wire.Filter) ([]wire.Item, error) {
	from := 1 + slices.IndexFunc(s.items, func(it wire.Item) bool { return it.Key == f.After })
	return s.items[from:min(len(s.items), from+f.Limit)], nil
}

// Of devices with as many items as may be, pages hold each item once, newest first, and no page but
// the last is short.
func TestPagesHoldEachItemOfTheDevicesOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		limit := rapid.IntRange(1, 40).Draw(t, "limit")
		var shelves []shelf
		var all []wire.Item
		for d := range rapid.IntRange(1, 6).Draw(t, "devices") {
			var items []wire.Item
			for i := range rapid.IntRange(0, 60).Draw(t, "items") {
				items = append(items, wire.Item{Device: fmt.Sprint(d), Key: fmt.Sprintf("%d-%d", d, i),
					TakenAt: time.Unix(rapid.Int64Range(0, 30).Draw(t, "taken"), 0)})
			}
			slices.SortStableFunc(items, func(a, b wire.Item) int { return b.TakenAt.Compare(a.TakenAt) })
			shelves, all = append(shelves, shelf{items: items}), append(all, items...)
		}
		after := map[int]string{}
		var got []wire.Item
		for more := true; more; {
			var lists []*list
			for d, s := range shelves {
				lists = append(lists, &list{device: service.Device{Told: s},
					filter: wire.Filter{After: after[d], Limit: share(limit, len(shelves))}})
			}
			var page []wire.Item
			var err error
			page, more, err = merge(t.Context(), lists, limit)
			require.NoError(t, err)
			require.True(t, len(page) == limit || !more && len(page) < limit)
			for _, it := range page {
				var d int
				_, err := fmt.Sscan(it.Device, &d)
				require.NoError(t, err)
				after[d] = it.Key
			}
			got = append(got, page...)
		}
		require.True(t, slices.IsSortedFunc(got, func(a, b wire.Item) int { return b.TakenAt.Compare(a.TakenAt) }))
		require.ElementsMatch(t, all, got)
	})
}

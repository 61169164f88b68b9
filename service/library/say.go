package library

import (
	"context"
	"fmt"
	"slices"

	"yardtide/core/media"
	"yardtide/core/search"
	"yardtide/service/household"
)

// saidAtOnce is of how many items a device is told at once.
const saidAtOnce = 200

// Say changes what the keeper said of items, device by device. It returns of how many; a device that does not answer ends it.
func (l *Library) Say(ctx context.Context, refs []search.Ref, change media.KeeperChange) (n int64, err error) {
	if change == (media.KeeperChange{}) {
		return 0, household.Refuse("say what is to be changed: marked, hidden, a note or a set")
	}
	of := map[string][]int64{}
	for _, ref := range refs {
		of[ref.Device] = append(of[ref.Device], ref.ID)
	}
	for _, d := range l.Devices() {
		for some := range slices.Chunk(of[d.DeviceName()], saidAtOnce) {
			said, err := d.Say(ctx, some, change)
			n += said
			if err != nil {
				return n, fmt.Errorf("marking on %s: %w", d.DeviceName(), err)
			}
		}
	}
	return n, nil
}

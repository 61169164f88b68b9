package tell

import (
	"context"
	"time"

	"yardtide/core/plan"
	"yardtide/core/room"
	"yardtide/engine/records"
)

// WantOf is what a device's plan wants to go by itself.
func WantOf(r plan.Room, now time.Time) room.Want {
	return room.Want{Free: int64(r.Free), Before: r.Keep.Since(now), Places: r.Places, Small: r.Keep.Small,
		Hold: time.Duration(r.Held) * 24 * time.Hour}
}

// backStays is for how long what was brought back, or taken back, stays where a standing rule would have it go again.
const backStays = 30 * 24 * time.Hour

// Lately is since when what came back stays under a standing rule.
func Lately(r plan.Room, now time.Time) time.Time {
	return now.Add(-max(backStays, time.Duration(r.Keep.Days)*24*time.Hour))
}

// MayGo chooses what may go from the device by what is known of it. What came back since lately stays, zero for no matter
// when it did.
func (t Teller) MayGo(ctx context.Context, w room.Want, lately time.Time) (room.Choice, []room.Disk, error) {
	v, err := t.view(ctx)
	if err != nil {
		return room.Choice{}, nil, err
	}
	items, err := t.From.Rooms.Candidates(ctx, func(name string) string { return v.known.Stands[name].ID }, v.Shown)
	if err != nil {
		return room.Choice{}, nil, err
	}
	disks, err := t.disks(ctx, v.known)
	if err != nil {
		return room.Choice{}, nil, err
	}
	stays := func(source string) bool {
		s, known := v.known.Sources[source]
		return !known || s.Stays
	}
	return room.Choose(w, items, disks, stays, lately), disks, nil
}

// disks are those of the device, with what lies in the holding places on each.
func (t Teller) disks(ctx context.Context, k Known) ([]room.Disk, error) {
	sums, err := t.From.Rooms.Sums(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]room.Disk, len(k.Disks))
	for i, d := range k.Disks {
		d.Held = 0
		for _, s := range sums {
			for _, source := range d.Sources {
				if s.Source == source && s.State != records.RoomRemoved {
					d.Held += s.Bytes
				}
			}
		}
		list[i] = d
	}
	return list, nil
}

// Cleared is what went from the device to make room.
type Cleared struct {
	Disks []room.Disk
	Sums  []records.ClearedSum
}

// Cleared tells what went.
func (t Teller) Cleared(ctx context.Context) (c Cleared, err error) {
	if c.Disks, err = t.disks(ctx, t.Beside()); err != nil {
		return c, err
	}
	c.Sums, err = t.From.Rooms.Sums(ctx)
	return c, err
}

// ClearedFile is a file that went, with the key of its item.
type ClearedFile struct {
	records.Cleared
	Key string
}

// ClearedFiles lists files that went, the newest first, below a number; with held, those in the holding place alone.
func (t Teller) ClearedFiles(ctx context.Context, held bool, below int64, limit int) ([]ClearedFile, error) {
	rows, err := t.From.Rooms.Ledger(ctx, held, below, limit)
	list := make([]ClearedFile, len(rows))
	for i, row := range rows {
		list[i] = ClearedFile{row, t.From.Catalogue.Key(row.Main)}
	}
	return list, err
}

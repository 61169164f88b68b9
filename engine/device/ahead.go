package device

import (
	"context"
	"slices"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
)

// This file keeps what goes next in memory: the records are asked for many copies at once, and
// again when these have begun. What is kept holds for one decision, and ends with it.

// line is the copies of a class that go one after the other.
type line struct {
	queue.Class
	state queue.State // waiting or proving
	form  string      // in which it goes
	order plan.Order
}

// ahead are the first copies of each line.
type ahead struct {
	lines map[line]*kept
	items map[int64]records.Item // of the copies in them
	begun map[int64]bool         // copies that were begun since
}

// kept is what is known of a line.
type kept struct {
	copies []records.Copy
	fits   int64 // the copies are at most so long
	all    bool  // there are no others of that length
}

func newAhead() *ahead { return &ahead{map[line]*kept{}, map[int64]records.Item{}, map[int64]bool{}} }

// first is the first copy of a line that is at most fits bytes long; busy are left out. ok is
// false when there is none.
func (a *ahead) first(ctx context.Context, r *records.Records, l line, fits int64, busy []int64,
	now time.Time) (c records.Copy, ok bool, err error) {
	k := a.lines[l]
	if k == nil {
		k = &kept{}
		a.lines[l] = k
	}
	if fits <= k.fits {
		if c, ok = a.next(k, fits); ok || k.all {
			return c, ok, nil
		}
	}
	found, err := r.Queue.Pick(ctx, l.Class, l.state, l.form, l.order, fits, now)
	if err != nil {
		return c, false, err
	}
	if err := r.Catalogue.AddItems(ctx, found, a.items); err != nil {
		return c, false, err
	}
	k.fits, k.all = fits, len(found) < records.MostPicked
	k.copies = slices.DeleteFunc(found, func(c records.Copy) bool { return slices.Contains(busy, c.ID) })
	c, ok = a.next(k, fits)
	return c, ok, nil
}

// next is the first copy that is kept, was not begun, and is at most fits bytes long.
func (a *ahead) next(k *kept, fits int64) (records.Copy, bool) {
	for len(k.copies) > 0 && a.begun[k.copies[0].ID] {
		k.copies = k.copies[1:]
	}
	for _, c := range k.copies {
		if c.Bytes <= fits && !a.begun[c.ID] {
			return c, true
		}
	}
	return records.Copy{}, false
}

package makeroom

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"yardtide/engine/bringback"
	"yardtide/engine/records"
	"yardtide/engine/scan"
)

// This file sees to what lies in the holding place: it is removed after some days, or goes back.

const (
	// tidyStep is how many items are seen to in one call.
	tidyStep = 200
	// laterUnproven is how long something stays on that could not be proven, as a place did not answer.
	laterUnproven = 6 * time.Hour
	// laterOpen is how long something stays on that a program has open.
	laterOpen = time.Hour
)

// Tidy sees to the holding places: what is not safe any more goes back, what lay there long enough is proven again and
// removed, and smaller ones go whose whole is back. What one item meets keeps none of the others.
func (m *Maker) Tidy(ctx context.Context, now time.Time) error {
	if err := m.Records.Rooms.Earlier(ctx, now); err != nil {
		return err
	}
	doubtful, err := m.Records.Rooms.Doubtful(ctx, tidyStep)
	if err != nil {
		return err
	}
	for _, main := range doubtful {
		m.note(ctx, main, m.back(ctx, main, "It went back: a copy of it is not safe any more.", now))
	}
	due, err := m.Records.Rooms.Due(ctx, now, tidyStep)
	if err != nil {
		return err
	}
	for _, main := range due {
		m.note(ctx, main, m.remove(ctx, main, now))
	}
	return m.tidySmaller(ctx)
}

// note tells of what one item met.
func (m *Maker) note(ctx context.Context, main int64, err error) {
	if err != nil && ctx.Err() == nil {
		m.Log.Warn("something in the holding place is left as it is", "device", m.Device, "item", main, "err", err)
	}
}

// tidySmaller removes smaller ones whose whole is back.
func (m *Maker) tidySmaller(ctx context.Context) error {
	settled, err := m.Records.Rooms.Settled(ctx)
	if err != nil {
		return err
	}
	for _, r := range settled {
		if m.Away(r.Source) {
			continue
		}
		err := m.in(r.Source, func(root *os.Root) error { return removeSmall(ctx, root, r) })
		if err == nil {
			err = m.Records.Rooms.NoSmall(ctx, []int64{r.ID})
		}
		m.note(ctx, r.Main, err)
	}
	return nil
}

// in does something in the folder of a source.
func (m *Maker) in(source string, do func(root *os.Root) error) error {
	root, err := os.OpenRoot(m.Folder(source))
	if err != nil {
		return fmt.Errorf("opening the source: %w", err)
	}
	defer root.Close()
	return do(root)
}

// remove removes an item from the holding place, proven again at this moment; where a proof does not hold it goes back.
func (m *Maker) remove(ctx context.Context, main int64, now time.Time) error {
	rows, err := m.Records.Rooms.InHolding(ctx, []int64{main}, 0, 1)
	if err != nil || len(rows) == 0 || m.Away(rows[0].Source) {
		return err
	}
	files := make([]int64, len(rows))
	for i, r := range rows {
		files[i] = r.Item
	}
	i, err := m.read(ctx, main, files)
	if err != nil {
		return err
	}
	if err := m.judge(i, rows[0].Places); err != nil {
		return m.back(ctx, main, "It went back: "+err.Error(), now)
	}
	proofs, err := m.prove(ctx, i, false)
	var stays Stays
	switch {
	case errors.As(err, &stays):
		return m.back(ctx, main, "It went back: "+stays.Says, now)
	case err != nil && ctx.Err() != nil:
		return context.Cause(ctx)
	case err != nil:
		return errors.Join(err, m.Records.Rooms.Postpone(ctx, idsOf(rows), now.Add(laterUnproven), "It is held longer: "+err.Error()+"."))
	}
	for n := range rows {
		if rows[n].Proofs, err = textOf(rows[n].Path, proofs[rows[n].Item]); err != nil {
			return err
		}
	}
	err = m.in(rows[0].Source, func(root *os.Root) error { return m.removeHeld(ctx, root, rows, now) })
	if errors.As(err, &stays) {
		return m.back(ctx, main, "It went back: "+stays.Says, now)
	}
	return err
}

// removeHeld removes files that were proven elsewhere just now, if they are what was. The error is Stays where one is not.
func (m *Maker) removeHeld(ctx context.Context, root *os.Root, rows []records.Cleared, now time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range rows {
		sum, err := sumOf(ctx, root, r.HeldAs, nil)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err == nil && sum != r.SHA256 {
			return Stays{Says: "It was changed in the holding place."}
		}
		if err == nil && isOpen(root, r.HeldAs) {
			return m.Records.Rooms.Postpone(ctx, idsOf(rows), now.Add(laterOpen), "It is held longer: a program has it open.")
		}
	}
	if err := m.Records.Rooms.Remove(ctx, rows); err != nil {
		return err
	}
	m.between()
	for _, r := range rows {
		if err := root.Remove(filepath.FromSlash(r.HeldAs)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return errors.Join(fmt.Errorf("removing %s: %w", r.Path, err), m.Records.Rooms.Hold(ctx, idsOf(rows)))
		}
		removeEmpty(root, path.Dir(r.HeldAs))
		m.between()
	}
	m.Changed()
	return m.Records.Rooms.Removed(ctx, idsOf(rows), now)
}

// removeEmpty removes folders of the holding place that hold nothing more.
func removeEmpty(root *os.Root, dir string) {
	for dir == scan.HeldFolder || strings.HasPrefix(dir, scan.HeldFolder+"/") {
		if root.Remove(filepath.FromSlash(dir)) != nil { // it holds something
			return
		}
		dir = path.Dir(dir)
	}
}

// TakeBack puts items from the holding place back where they lay: these, by the numbers of their main files, or with
// none all. It returns how many are back. The first error that is not one item's own ends it.
func (m *Maker) TakeBack(ctx context.Context, mains []int64, now time.Time) (n int64, err error) {
	var failed error
	one := func(main int64) {
		if err := m.back(ctx, main, "You took it back.", now); err != nil {
			failed = errors.Join(failed, err)
			return
		}
		n++
	}
	if len(mains) > 0 {
		for _, main := range mains {
			one(main)
		}
		return n, errors.Join(failed, m.tidySmaller(ctx))
	}
	for after := int64(0); ctx.Err() == nil; {
		rows, err := m.Records.Rooms.InHolding(ctx, nil, after, tidyStep)
		if err != nil || len(rows) == 0 {
			return n, errors.Join(failed, err, m.tidySmaller(ctx))
		}
		for _, r := range rows {
			if r.Main != after {
				after = r.Main
				one(r.Main)
			}
		}
	}
	return n, errors.Join(failed, context.Cause(ctx))
}

// back puts an item back where it lay; where something has one of its names, all of it beside.
func (m *Maker) back(ctx context.Context, main int64, says string, now time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	ctx = context.WithoutCancel(ctx)
	rows, err := m.Records.Rooms.InHolding(ctx, []int64{main}, 0, 1)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return Stays{Says: "It is not in the holding place."}
	}
	if m.Away(rows[0].Source) {
		return Stays{Says: "The folder of " + rows[0].Path + " is not there: it comes back once it is."}
	}
	return m.in(rows[0].Source, func(root *os.Root) error {
		names, err := free(root, rows, func(r records.Cleared) string { return r.Path })
		if err != nil {
			return err
		}
		for i, r := range rows {
			err := bringback.PutInPlace(root, filepath.FromSlash(r.HeldAs), names[i])
			if errors.Is(err, fs.ErrExist) { // it came this very moment
				_, err = putBack(root, r)
			}
			m.between()
			why := says
			if errors.Is(err, fs.ErrNotExist) {
				m.Log.Error("something is no longer in the holding place", "device", m.Device, "path", r.Path)
				why, err = "It was no longer in the holding place.", nil
			}
			if err == nil {
				err = m.Records.Rooms.TookBack(ctx, []int64{r.ID}, why, now)
			}
			if err != nil {
				return err
			}
			removeEmpty(root, path.Dir(r.HeldAs))
		}
		m.Changed()
		if names[0] != rows[0].Path { // under another name it is found as something new, with what is safe of it
			return nil
		}
		return m.here(ctx, root, rows)
	})
}

// here notes that the files of an item are where they lay.
func (m *Maker) here(ctx context.Context, root *os.Root, rows []records.Cleared) error {
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.Item
	}
	items, err := m.Records.Catalogue.ItemsOf(ctx, ids)
	if err != nil {
		return err
	}
	var back []records.Item
	for _, it := range items {
		info, err := root.Lstat(filepath.FromSlash(it.Path()))
		if err != nil || info.Size() != it.Size {
			continue // a look at the folder tells
		}
		stamp := scan.StampOf(info)
		it.MTime, it.Inode, it.CTime = stamp.MTime, stamp.Inode, stamp.CTime
		back = append(back, it)
	}
	if len(back) == 0 {
		return nil
	}
	return m.Back(ctx, back)
}

// Mend sees to what a kill left between two steps.
func (m *Maker) Mend(ctx context.Context) error {
	for after := int64(0); ; {
		rows, err := m.Records.Rooms.InHolding(ctx, nil, after, tidyStep)
		if err != nil || len(rows) == 0 {
			return err
		}
		for len(rows) > 0 {
			n := 1
			for n < len(rows) && rows[n].Main == rows[0].Main {
				n++
			}
			after = rows[0].Main
			m.note(ctx, after, m.mend(ctx, rows[:n]))
			rows = rows[n:]
		}
	}
}

// mend sees to one item.
func (m *Maker) mend(ctx context.Context, rows []records.Cleared) error {
	if m.Away(rows[0].Source) {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.in(rows[0].Source, func(root *os.Root) error {
		var held, moving int
		for _, r := range rows {
			if _, err := root.Lstat(filepath.FromSlash(r.HeldAs)); err == nil {
				held++
			} else if !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("looking into the holding place: %w", err)
			}
			if r.State == records.RoomMoving {
				moving++
			}
		}
		if moving > 0 {
			if held == len(rows) { // killed before it was noted
				if err := m.Records.Rooms.Hold(ctx, idsOf(rows)); err != nil {
					return err
				}
				return m.gone(ctx, rows)
			}
			return m.stay(ctx, root, rows)
		}
		return m.mendHeld(ctx, root, rows)
	})
}

// mendHeld sees to the files of an item that were moved.
func (m *Maker) mendHeld(ctx context.Context, root *os.Root, rows []records.Cleared) error {
	var again, removed, back []int64
	for _, r := range rows {
		_, err := root.Lstat(filepath.FromSlash(r.HeldAs))
		there := err == nil
		switch {
		case r.State == records.RoomRemoving && there:
			again = append(again, r.ID)
		case r.State == records.RoomRemoving:
			removed = append(removed, r.ID)
		case !there: // killed as it was taken back, or somebody took it
			back = append(back, r.ID)
		}
	}
	if len(again) > 0 && len(removed) > 0 { // of one item: the rest is proven again first
		removed = nil
	}
	err := m.Records.Rooms.Hold(ctx, again)
	if err == nil {
		err = m.Records.Rooms.Removed(ctx, removed, time.Now())
	}
	if err == nil {
		err = m.Records.Rooms.TookBack(ctx, back, "It was no longer in the holding place at the start.", time.Now())
	}
	if err == nil && len(back) < len(rows) {
		err = m.gone(ctx, rows)
	}
	return err
}

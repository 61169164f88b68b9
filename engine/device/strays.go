package device

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/engine/records"
	"yardtide/engine/role"
	"yardtide/engine/work"
	"yardtide/wire"
)

// This file looks for strays now and then, for the figure that is told with the device, and for folders that appear.

const (
	strayFirst = time.Minute     // after the start, and after the folders of the plan changed
	strayWait  = 6 * time.Hour   // between two looks
	strayTime  = 5 * time.Minute // that a look may take
	nearEvery  = 10 * time.Second
	nearWait   = 5 * time.Second // after something appeared beside a source: more may come
	mostNew    = 10              // folders that are told as new
	mostSeen   = 2000            // folders that are known not to be new
)

// strays keeps what the last look told.
type strays struct {
	d *Device

	mu   sync.Mutex
	due  time.Time
	by   []string // the folders that were in the plan
	told *wire.StraySum
}

// seenFact is the names of the folders with strays about which nothing is asked: those that were there at the first
// look, and those that were left.
const seenFact records.Fact[[]string] = "stray folders"

// look has strays looked for when that is due, beside everything else. It returns when to look again.
func (s *strays) look(ctx context.Context, p *plan.Plan, now time.Time) (next time.Time) {
	own := p.Devices[s.d.Name]
	by := append(slices.Clone(own.LetBe), own.NewFolders)
	for _, of := range own.Sources {
		by = append(by, of.Folder)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.due.IsZero() || !slices.Equal(by, s.by) {
		s.by, s.due = by, now.Add(s.d.Wait(strayFirst))
	}
	if now.Before(s.due) {
		return s.due
	}
	began := s.d.beside.Begin("look for strays", func() {
		work.Idly() // what is sent goes first
		ctx, cancel := context.WithTimeout(ctx, strayTime)
		defer cancel()
		found, err := s.d.Shows.StraysBeside(ctx)
		if err == nil {
			err = s.take(ctx, found, own.NewFolders == plan.LeaveFolders)
		}
		if err != nil {
			s.d.Log.Info("strays could not be looked for", "device", s.d.Name, "err", err)
		}
	})
	if began {
		s.due = now.Add(s.d.Wait(strayWait))
	}
	return s.due
}

// take keeps what a look told. What was there at the first look is not new; leave takes in what appeared since.
func (s *strays) take(ctx context.Context, found wire.Strays, leave bool) error {
	seen, known, err := seenFact.Read(ctx, &s.d.Records.Facts)
	if err != nil {
		return err
	}
	var fresh []wire.StrayFolder
	for _, f := range found.Folders {
		switch {
		case slices.Contains(seen, f.Folder):
		case known && !leave && !f.Alone:
			fresh = append(fresh, f)
		case len(seen) < mostSeen:
			seen = append(seen, f.Folder)
		}
	}
	if err := seenFact.Keep(ctx, &s.d.Records.Facts, append([]string{}, seen...)); err != nil {
		return err
	}
	s.mu.Lock()
	s.told = &wire.StraySum{Amount: found.Outside, Folders: len(found.Folders), Libraries: len(found.Libraries),
		Coverage: found.Coverage, Unseen: len(found.Unseen) + found.Left, At: time.Now(), New: fresh[:min(len(fresh), mostNew)]}
	s.mu.Unlock()
	s.d.changed()
	return nil
}

// watch has strays looked for soon after something appeared in a folder that holds a source, in the device's own, or
// in one in which people mostly keep their pictures, until the context ends. It goes by the times of those folders.
func (s *strays) watch(ctx context.Context) error {
	tick := time.NewTicker(s.d.Wait(nearEvery))
	defer tick.Stop()
	var before map[string]time.Time
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		near, ok := answered(answerTime, s.near)
		if !ok {
			continue // a disk hangs
		}
		if before != nil && !maps.EqualFunc(before, near, time.Time.Equal) {
			s.mu.Lock()
			if soon := time.Now().Add(s.d.Wait(nearWait)); s.due.IsZero() || soon.Before(s.due) {
				s.due = soon
			}
			s.mu.Unlock()
			s.d.changed()
		}
		before = near
	}
}

// near are the folders around the sources, with the times of their last change.
func (s *strays) near() map[string]time.Time {
	times := map[string]time.Time{}
	look := func(path string) {
		if info, err := os.Stat(path); err == nil {
			times[path] = info.ModTime()
		}
	}
	look(s.d.Root)
	for _, u := range role.Of(s.d.Root) {
		look(u.Path)
	}
	if p := s.d.currentPlan(); p != nil {
		for _, of := range p.Devices[s.d.Name].Sources {
			if _, _, comes := onvolume.Of(of.Folder); !comes {
				look(filepath.Dir(s.d.Folder(of.Folder)))
			}
		}
	}
	return times
}

// now is what the last look told; nil before the first.
func (s *strays) now() *wire.StraySum {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.told
}

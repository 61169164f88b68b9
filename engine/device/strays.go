package device

import (
	"context"
	"slices"
	"sync"
	"time"

	"yardtide/core/plan"
	"yardtide/wire"
)

// This file looks for strays now and then, for the figure that is told with the device.

const (
	strayFirst = time.Minute     // after the start, and after the folders of the plan changed
	strayWait  = 6 * time.Hour   // between two looks
	strayTime  = 5 * time.Minute // that a look may take
)

// strays keeps what the last look told.
type strays struct {
	d *Device

	mu   sync.Mutex
	due  time.Time
	by   []string // the folders that were in the plan
	told *wire.StraySum
}

// look has strays looked for when that is due, beside everything else. It returns when to look again.
func (s *strays) look(ctx context.Context, p *plan.Plan, now time.Time) (next time.Time) {
	own := p.Devices[s.d.Name]
	by := slices.Clone(own.LetBe)
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
		ctx, cancel := context.WithTimeout(ctx, strayTime)
		defer cancel()
		found, err := s.d.Shows.Strays(ctx)
		if err != nil {
			s.d.Log.Info("strays could not be looked for", "device", s.d.Name, "err", err)
			return
		}
		s.mu.Lock()
		s.told = &wire.StraySum{Amount: found.Outside, Folders: len(found.Folders), Libraries: len(found.Libraries), Coverage: found.Coverage,
			Unseen: len(found.Unseen) + found.Left, At: time.Now()}
		s.mu.Unlock()
		s.d.Changed()
	})
	if began {
		s.due = now.Add(s.d.Wait(strayWait))
	}
	return s.due
}

// now is what the last look told; nil before the first.
func (s *strays) now() *wire.StraySum {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.told
}

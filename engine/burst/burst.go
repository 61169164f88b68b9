// Package burst makes moving pictures of shots in a row, where a rule asks for it. They lie in a
// folder of the device's own, which is a source like any other: each is an item that is found,
// sent and proven. Once it is safe its file goes, by way of a holding place (held.go); its shots
// are never touched.
package burst

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/show"
	"yardtide/engine/source"
	"yardtide/engine/work"
)

// Options make a maker. All are needed, but Dir.
type Options struct {
	Device string
	// Dir is the folder of what is made; "" makes nothing. Renditions is that of what is not whole yet.
	Dir, Renditions string
	Records         *records.Records
	Show            *show.Show
	// Folder is where a source lies; Plan is what the device follows.
	Folder func(source string) string
	Plan   func() *plan.Plan
	// Counts tells whether what was proven at a destination counts.
	Counts func(destination string) bool
	Beside *work.Crew
	Wait   func(time.Duration) time.Duration // stretches or shortens waits
	Log    *slog.Logger
}

// Maker makes the moving pictures of one device.
type Maker struct {
	Options

	mu sync.Mutex
	at time.Time // when it last looked
}

const (
	burstWait  = time.Minute      // between two looks for bursts
	burstQuiet = 20 * time.Second // nothing new was found for so long: a burst may be whole
)

// folder is the folder of what is made of a rule's bursts.
func (m *Maker) folder(rule string) string {
	return filepath.Join(m.Dir, naming.Safe(rule))
}

// With is a plan with those folders among the device's sources.
func (m *Maker) With(p *plan.Plan) *plan.Plan {
	own, named := p.Devices[m.Device]
	if !named || m.Dir == "" {
		return p
	}
	var more []plan.Source
	for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
		if p.Rules[rule].Bursts && p.Follows(m.Device, rule) {
			more = append(more, plan.Source{Folder: filepath.ToSlash(m.folder(rule)), Rules: []string{rule}})
		}
	}
	if len(more) == 0 {
		return p
	}
	with := *p
	with.Devices = maps.Clone(p.Devices)
	own.Sources = append(slices.Clone(own.Sources), more...)
	with.Devices[m.Device] = own
	return &with
}

// Make has moving pictures made of new bursts, beside everything else, where they are made now. It
// returns when to look again.
func (m *Maker) Make(ctx context.Context, now gate.Situation) (next time.Time) {
	if !now.MakesBursts() {
		return time.Time{} // a change wakes
	}
	p := now.Plan
	m.mu.Lock()
	defer m.mu.Unlock()
	if next = m.at.Add(m.Wait(burstWait)); now.Time.Before(next) {
		return next
	}
	began := m.Beside.Begin("make moving pictures", func() {
		for rule, r := range p.Rules {
			if !r.Bursts || !p.Follows(m.Device, rule) || ctx.Err() != nil {
				continue
			}
			if err := m.ofRule(ctx, rule); err != nil && ctx.Err() == nil {
				m.Log.Error("moving pictures could not be made", "device", m.Device, "rule", rule, "err", err)
			}
		}
	})
	if !began {
		return time.Time{} // its end wakes
	}
	m.at = time.Now()
	return m.at.Add(m.Wait(burstWait))
}

// lookedFact is the newest item of a rule that was looked at for bursts.
const lookedFact records.Fact[int64] = "bursts "

// ofRule makes what is still to be made of a rule's bursts.
func (m *Maker) ofRule(ctx context.Context, rule string) error {
	dir := m.folder(rule)
	if err := errors.Join(os.MkdirAll(dir, 0o700), os.MkdirAll(m.Renditions, 0o700)); err != nil {
		return fmt.Errorf("making the folder of moving pictures: %w", err)
	}
	if err := m.holdSent(ctx, dir); err != nil {
		return err
	}
	after, _, err := lookedFact.For(rule).Read(ctx, &m.Records.Facts)
	if err != nil {
		return err
	}
	shots, newest, err := m.Records.Catalogue.Shots(ctx, rule, after)
	if err != nil || newest <= after {
		return err
	}
	if it, ok, err := m.Records.Catalogue.Item(ctx, newest); err != nil || ok &&
		time.Since(records.FromMS(it.FoundMS)) < m.Wait(burstQuiet) {
		return err // more may come
	}
	found, err := m.Show.FindBursts(ctx, shots, -1)
	if err != nil {
		return err
	}
	for _, b := range found {
		if err := m.one(ctx, dir, b); err != nil {
			return err
		}
	}
	return lookedFact.For(rule).Keep(ctx, &m.Records.Facts, newest)
}

// holding is where moving pictures that are safe wait before their bytes go.
func (m *Maker) holding() string { return filepath.Join(m.Dir, ".held") }

// holdSent takes moving pictures that are safe out of a rule's folder.
func (m *Maker) holdSent(ctx context.Context, dir string) error {
	if err := emptyHolding(m.holding(), time.Now()); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("looking through moving pictures: %w", err)
	}
	for _, e := range entries {
		it, known, err := m.Records.Catalogue.Here(ctx, filepath.ToSlash(dir), ".", e.Name())
		if err != nil {
			return err
		}
		if !known {
			continue
		}
		if _, err := m.holdSafe(ctx, it, filepath.Join(dir, e.Name()), m.holding()); err != nil {
			return err
		}
	}
	return nil
}

// one makes one, unless it was made.
func (m *Maker) one(ctx context.Context, dir string, b show.Burst) error {
	first, final := strings.TrimSuffix(b[0].Name, filepath.Ext(b[0].Name)), strings.TrimSuffix(b[len(b)-1].Name,
		filepath.Ext(b[len(b)-1].Name))
	stem := filepath.Join(dir, naming.Safe(first+" to "+final))
	made, err := filepath.Glob(escaped(stem) + ".*")
	if err != nil || len(made) > 0 {
		return err
	}
	moving := rendition.Moving{At: b[0].TakenAt(), Says: b.Says()}
	for _, it := range b {
		moving.Frames = append(moving.Frames, func(ctx context.Context) (rendition.Source, func(), error) {
			f, err := source.Open(ctx, filepath.Join(m.Folder(it.Source), filepath.FromSlash(it.Path())))
			if err != nil {
				return rendition.Source{}, nil, fmt.Errorf("opening a shot: %w", err)
			}
			return rendition.Source{F: io.NewSectionReader(f, 0, it.Size), Size: it.Size, ContentType: it.ContentType}, f.Close,
				nil
		})
	}
	_, err = moving.Make(ctx, m.Renditions, stem)
	var as rendition.AsShot
	if errors.As(err, &as) {
		m.Log.Warn("no moving picture could be made", "device", m.Device, "of", b.Says(), "why", as.Why)
		return nil
	}
	return err
}

// escaped has a path stand for itself in a pattern.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}

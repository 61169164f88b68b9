package device

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardtide/core/burst"
	"yardtide/core/gate"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/engine/face"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/source"
	"yardtide/wire"
)

// This file makes moving pictures of shots in a row, where a rule asks for it. They lie in a
// folder of the device's own, which is a source like any other: each is an item that is found,
// sent and proven. Once it is safe its file goes, by way of a holding place (held.go); its shots
// are never touched.

const (
	burstWait  = time.Minute      // between two looks for bursts
	burstQuiet = 20 * time.Second // nothing new was found for so long: a burst may be whole
	mostShown  = 40               // bursts
)

// burstsOf is the folder of what is made of a rule's bursts.
func (d *Device) burstsOf(rule string) string {
	return filepath.Join(d.Bursts, naming.Safe(rule))
}

// withBursts is a plan with those folders among the device's sources.
func (d *Device) withBursts(p *plan.Plan) *plan.Plan {
	own, named := p.Devices[d.Name]
	if !named || d.Bursts == "" {
		return p
	}
	var more []plan.Source
	for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
		if p.Rules[rule].Bursts && p.Follows(d.Name, rule) {
			more = append(more, plan.Source{Folder: filepath.ToSlash(d.burstsOf(rule)), Rules: []string{rule}})
		}
	}
	if len(more) == 0 {
		return p
	}
	with := *p
	with.Devices = maps.Clone(p.Devices)
	own.Sources = append(slices.Clone(own.Sources), more...)
	with.Devices[d.Name] = own
	return &with
}

// makeBursts has moving pictures made of new bursts, on charge only, beside everything else.
// It returns when to look again.
func (d *Device) makeBursts(ctx context.Context, last decision) (next time.Time) {
	if last.Now.Charging != gate.Yes {
		return time.Time{} // a change wakes
	}
	d.mu.Lock()
	p, asked := d.plan, slices.ContainsFunc(slices.Collect(maps.Values(d.plan.Rules)), func(r plan.Rule) bool { return r.Bursts })
	next = d.burstAt.Add(d.Wait(burstWait))
	due := asked && !d.bursting && !last.Time.Before(next)
	if due {
		d.bursting, d.burstAt = true, time.Now()
		next = d.burstAt.Add(d.Wait(burstWait))
	}
	d.mu.Unlock()
	if !due {
		if !asked {
			return time.Time{}
		}
		return next
	}
	d.beside.Go(func() {
		for rule, r := range p.Rules {
			if !r.Bursts || !p.Follows(d.Name, rule) || ctx.Err() != nil {
				continue
			}
			if err := d.makeBurstsOf(ctx, rule); err != nil && ctx.Err() == nil {
				d.Log.Error("moving pictures could not be made", "device", d.Name, "rule", rule, "err", err)
			}
		}
		d.mu.Lock()
		d.bursting = false
		d.mu.Unlock()
	})
	return next
}

// makeBurstsOf makes what is still to be made of a rule's bursts.
func (d *Device) makeBurstsOf(ctx context.Context, rule string) error {
	dir := d.burstsOf(rule)
	if err := errors.Join(os.MkdirAll(dir, 0o700), os.MkdirAll(d.Renditions, 0o700)); err != nil {
		return fmt.Errorf("making the folder of moving pictures: %w", err)
	}
	if err := d.holdSent(ctx, dir); err != nil {
		return err
	}
	fact := "bursts " + rule
	text, err := d.Records.Facts.Fact(ctx, fact)
	if err != nil {
		return err
	}
	after, _ := strconv.ParseInt(text, 10, 64) // "" is 0
	shots, newest, err := d.Records.Catalogue.Shots(ctx, rule, after)
	if err != nil || newest <= after {
		return err
	}
	if it, ok, err := d.Records.Catalogue.Item(ctx, newest); err != nil || ok && time.Since(records.FromMS(it.FoundMS)) < d.Wait(burstQuiet) {
		return err // more may come
	}
	found, err := d.findBursts(ctx, shots, -1)
	if err != nil {
		return err
	}
	for _, b := range found {
		if err := d.makeBurst(ctx, dir, b); err != nil {
			return err
		}
	}
	return d.Records.Facts.SetFact(ctx, fact, strconv.FormatInt(newest, 10))
}

// holdingOfBursts is where moving pictures that are safe wait before their bytes go.
func (d *Device) holdingOfBursts() string { return filepath.Join(d.Bursts, ".held") }

// holdSent takes moving pictures that are safe out of a rule's folder.
func (d *Device) holdSent(ctx context.Context, dir string) error {
	if err := emptyHolding(d.holdingOfBursts(), time.Now()); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("looking through moving pictures: %w", err)
	}
	for _, e := range entries {
		it, known, err := d.Records.Catalogue.Here(ctx, filepath.ToSlash(dir), ".", e.Name())
		if err != nil {
			return err
		}
		if !known {
			continue
		}
		if _, err := d.holdSafe(ctx, it, filepath.Join(dir, e.Name()), d.holdingOfBursts()); err != nil {
			return err
		}
	}
	return nil
}

// found is a burst with its items, in order.
type foundBurst []records.Item

// says tells what a burst is made of.
func (b foundBurst) says() string {
	return fmt.Sprintf("Made of %d shots in a row, %s to %s.", len(b), b[0].Name, b[len(b)-1].Name)
}

// findBursts finds those among shots that look alike, at most so many; -1 for all.
func (d *Device) findBursts(ctx context.Context, shots []burst.Shot, most int) (found []foundBurst, err error) {
	for _, run := range burst.Runs(shots) {
		looks, items := map[int64]burst.Look{}, map[int64]records.Item{}
		for _, s := range run {
			it, ok, err := d.Records.Catalogue.Item(ctx, s.ID)
			if err != nil {
				return nil, err
			}
			if !ok {
				continue
			}
			look, err := d.lookOf(ctx, it)
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			if err == nil { // else it is like no other
				items[s.ID], looks[s.ID] = it, look
			}
		}
		for _, part := range burst.Split(run, looks) {
			var b foundBurst
			for _, s := range part {
				b = append(b, items[s.ID])
			}
			if found = append(found, b); len(found) == most {
				return found, nil
			}
		}
	}
	return found, nil
}

// lookOf is how an item looks, by its small picture.
func (d *Device) lookOf(ctx context.Context, it records.Item) (l burst.Look, err error) {
	err = d.withPicture(ctx, it, func(src rendition.Source) error {
		small, err := face.Picture(ctx, src.F, src.ContentType, src.Size)
		if err != nil {
			return err
		}
		img, err := jpeg.Decode(bytes.NewReader(small))
		if err == nil {
			l = burst.LookOf(img)
		}
		return err
	})
	return l, err
}

// makeBurst makes one, unless it was made.
func (d *Device) makeBurst(ctx context.Context, dir string, b foundBurst) error {
	first, final := strings.TrimSuffix(b[0].Name, filepath.Ext(b[0].Name)), strings.TrimSuffix(b[len(b)-1].Name, filepath.Ext(b[len(b)-1].Name))
	stem := filepath.Join(dir, naming.Safe(first+" to "+final))
	made, err := filepath.Glob(escaped(stem) + ".*")
	if err != nil || len(made) > 0 {
		return err
	}
	m := rendition.Moving{At: b[0].TakenAt(), Says: b.says()}
	for _, it := range b {
		m.Frames = append(m.Frames, func(ctx context.Context) (rendition.Source, func(), error) {
			f, err := source.Open(ctx, filepath.Join(d.Folder(it.Source), filepath.FromSlash(it.Path())))
			if err != nil {
				return rendition.Source{}, nil, fmt.Errorf("opening a shot: %w", err)
			}
			return rendition.Source{F: io.NewSectionReader(f, 0, it.Size), Size: it.Size, ContentType: it.ContentType}, f.Close, nil
		})
	}
	_, err = m.Make(ctx, d.Renditions, stem)
	var as rendition.AsShot
	if errors.As(err, &as) {
		d.Log.Warn("no moving picture could be made", "device", d.Name, "of", b.says(), "why", as.Why)
		return nil
	}
	return err
}

// escaped has a path stand for itself in a pattern.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}

// FoundBursts shows the bursts among the photos that a rule takes, before anything is made
// of them.
func (d *Device) FoundBursts(ctx context.Context, rule string) (wire.BurstsFound, error) {
	out := wire.BurstsFound{Device: d.Name, Bursts: []wire.Burst{}}
	ctx, cancel := context.WithTimeoutCause(ctx, compareTime, face.ErrAway)
	defer cancel()
	if _, known := d.currentPlan().Rules[rule]; !known {
		return out, nil
	}
	shots, _, err := d.Records.Catalogue.Shots(ctx, rule, 0)
	if err != nil {
		return out, err
	}
	found, err := d.findBursts(ctx, shots, mostShown)
	if err != nil {
		return out, err
	}
	for _, b := range found {
		one := wire.Burst{TakenAt: b[0].TakenAt(), N: int64(len(b)), First: b[0].Name, Last: b[len(b)-1].Name, Folder: filepath.ToSlash(filepath.Join(b[0].Source, b[0].Dir)), Key: d.Records.Catalogue.Key(b[0].ID)}
		for _, it := range b {
			one.Bytes += it.Size
		}
		out.Bursts = append(out.Bursts, one)
	}
	out.More = len(found) == mostShown
	return out, nil
}

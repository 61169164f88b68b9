package show

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"yardtide/core/media"
	"yardtide/core/words"
	"yardtide/engine/library"
	"yardtide/engine/probe"
	"yardtide/engine/stray"
	"yardtide/wire"
)

// mostStrays bounds the lists of what is told of strays.
const mostStrays = 200

// mostSniffed is how many files a look opens whose names do not tell what they are.
const mostSniffed = 5000

// Strays looks for pictures and clips of the device that no source takes up.
func (s *Show) Strays(ctx context.Context) (wire.Strays, error) { return s.strays(ctx, nil) }

// StraysBeside looks for strays while nobody waits for them: while something is sent it mostly rests.
func (s *Show) StraysBeside(ctx context.Context) (wire.Strays, error) {
	return s.strays(ctx, func(worked time.Duration) {
		if s.Sending() {
			stray.Politely(worked)
		}
	})
}

func (s *Show) strays(ctx context.Context, rest func(worked time.Duration)) (wire.Strays, error) {
	p := s.Plan()
	o := stray.Options{Root: s.Root, Place: s.Places(p), Own: s.Own, Closed: library.Closed, Rest: rest,
		Sniff: probe.Sniff, MostSniffed: mostSniffed}
	for _, of := range p.Devices[s.Device].Sources {
		o.Sources = append(o.Sources, s.Folder(of.Folder))
		for _, one := range of.OriginalsOnly {
			o.OriginalsOnly = append(o.OriginalsOnly, filepath.Join(s.Folder(of.Folder), filepath.FromSlash(one)))
		}
	}
	for _, folder := range p.Devices[s.Device].LetBe {
		o.LetBe = append(o.LetBe, s.Folder(folder))
	}
	found, err := stray.Look(ctx, o)
	if err != nil {
		return wire.Strays{}, fmt.Errorf("looking for strays: %w", err)
	}
	told := wire.Strays{Device: s.Device, Inside: wire.Amount(found.Inside), Outside: wire.Amount(found.Outside),
		LetBe: wire.Amount(found.LetBe), Folders: []wire.StrayFolder{}, Unseen: []wire.Unseen{},
		Libraries: []wire.StrayLibrary{}, Coverage: 100}
	if all := found.Inside.N + found.Outside.N + found.LetBe.N; all > 0 {
		told.Coverage = int(100 * found.Inside.N / all)
	}
	for _, f := range found.Folders[:min(len(found.Folders), mostStrays)] {
		one := wire.StrayFolder{Folder: f.Path, Path: filepath.Join(s.Root, filepath.FromSlash(f.Path)), Alone: f.Alone,
			Amount: wire.Amount(f.Sum), Kinds: []wire.StrayKind{}, Newest: f.Newest, Libraries: append([]string{}, f.Libraries...)}
		for _, k := range media.Kinds {
			if of, some := f.Kinds[k]; some {
				one.Kinds = append(one.Kinds, wire.StrayKind{Kind: k, Amount: wire.Amount(of)})
			}
		}
		told.Folders = append(told.Folders, one)
	}
	for _, at := range found.Libraries[:min(len(found.Libraries), mostStrays)] {
		if one, ok := s.libraryIn(at); ok {
			told.Libraries = append(told.Libraries, one)
		}
	}
	for _, u := range found.Unseen[:min(len(found.Unseen), mostStrays)] {
		told.Unseen = append(told.Unseen, wire.Unseen{Path: u.Path, Says: u.Why})
	}
	told.Left = len(found.Unseen) - len(told.Unseen)
	told.Says = words.Strays(s.Device, found.Inside.N, found.Outside.N, found.LetBe.N,
		int64(len(found.Folders)), int64(len(found.Unseen)))
	return told, nil
}

// libraryIn is a closed library at a path from the root, which lies in a source.
func (s *Show) libraryIn(at string) (wire.StrayLibrary, bool) {
	path := filepath.Join(s.Root, filepath.FromSlash(at))
	source := s.sourceAround(path)
	below, err := filepath.Rel(s.Folder(source), path)
	if source == "" || err != nil {
		return wire.StrayLibrary{}, false
	}
	return wire.StrayLibrary{Source: source, Folder: filepath.ToSlash(below), Path: path,
		Says: words.LibraryTaken(filepath.Base(path), source)}, true
}

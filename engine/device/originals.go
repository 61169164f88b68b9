package device

import (
	"context"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yardtide/core/gate"
	corelibrary "yardtide/core/library"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/library"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/scan"
)

// This file has the originals of closed libraries told from smaller versions, for sources of which only originals are
// taken. Until that is known of a file, nothing of it is sent.

const (
	originalsWait  = 5 * time.Second // after a file was found: a program that imports goes on for a while
	originalsAgain = time.Minute     // after it failed
	framesKept     = 500             // frames that are kept at once
)

// originals knows which sources are to be told apart anew.
type originals struct {
	d *Device

	mu  sync.Mutex
	due map[string]time.Time // by the source
}

// found notes that files of a source came or went.
func (o *originals) found(s plan.Source, now time.Time) {
	if len(s.OriginalsOnly) == 0 {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.due == nil {
		o.due = map[string]time.Time{}
	}
	if o.due[s.Folder].IsZero() {
		o.due[s.Folder] = now.Add(o.d.Wait(originalsWait))
	}
}

// anew has every source looked at again: the plan is another.
func (o *originals) anew() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.due = nil
}

// look has the libraries told apart that are due, beside everything else. It returns when to look again.
func (o *originals) look(ctx context.Context, p *plan.Plan, now time.Time) (next time.Time) {
	for _, s := range p.Devices[o.d.Name].Sources {
		if len(s.OriginalsOnly) == 0 || o.d.sources.walking(s.Folder) {
			continue
		}
		o.mu.Lock()
		due, known := o.due[s.Folder]
		o.mu.Unlock()
		if known && due.IsZero() {
			continue // nothing came or went
		}
		if now.Before(due) {
			next = gate.Earlier(next, due)
			continue
		}
		o.d.beside.Begin("originals of "+s.Folder, func() {
			o.again(s.Folder, time.Time{}) // what comes meanwhile makes it due again
			if err := o.sort(ctx, p, s); err != nil && ctx.Err() == nil {
				o.d.Log.Warn("originals could not be told from smaller versions", "device", o.d.Name, "source", s.Folder, "err", err)
				o.again(s.Folder, time.Now().Add(o.d.Wait(originalsAgain)))
			}
			o.d.changed()
		})
	}
	return next
}

func (o *originals) again(folder string, at time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.due == nil {
		o.due = map[string]time.Time{}
	}
	o.due[folder] = at
}

// sort tells the libraries of a source apart, and keeps what came of it.
func (o *originals) sort(ctx context.Context, p *plan.Plan, s plan.Source) error {
	var changed []records.Item
	for _, folder := range s.OriginalsOnly {
		some, err := o.sortOne(ctx, s, path.Clean(folder))
		if err != nil {
			return err
		}
		changed = append(changed, some...)
	}
	switch {
	case o.d.currentPlan() != p: // its sources are looked at under the new one
		o.again(s.Folder, time.Now())
		return nil
	case len(changed) == 0:
		return nil
	}
	return o.d.Records.Catalogue.Sort(ctx, changed, s, p, o.d.Name, time.Now())
}

// sortOne tells one library apart, and returns the items of which something else is known now.
func (o *originals) sortOne(ctx context.Context, s plan.Source, folder string) ([]records.Item, error) {
	known, err := o.d.Records.Catalogue.Library(ctx, s.Folder, folder)
	if err != nil {
		return nil, err
	}
	read := library.Options{Root: filepath.Join(o.d.Folder(s.Folder), filepath.FromSlash(folder)), Workers: probers}
	var files []library.File
	var of []int // the number of each among what is known
	var caches []string
	for i, it := range known {
		below := it.Path()
		if folder != "." {
			below = strings.TrimPrefix(below, folder+"/")
		}
		if it.Name == media.CacheTag && it.Kind != media.Raw {
			if scan.Tagged(filepath.Join(read.Root, filepath.FromSlash(path.Dir(below)))) {
				caches = append(caches, path.Dir(below))
			}
			continue
		}
		f := library.File{File: corelibrary.File{Path: below, Kind: it.Kind, Bytes: it.Size, W: it.W, H: it.H,
			Camera: it.Camera, Seconds: it.Seconds}, ContentType: it.ContentType, Fine: it.Fine}
		if it.TakenFrom != media.FromFile {
			f.AtMS = it.TakenMS
		}
		files, of = append(files, f), append(of, i)
	}
	if err := o.frame(ctx, read, files, of, known); err != nil {
		return nil, err
	}
	told, err := library.Sort(ctx, read, files, caches)
	if err != nil {
		return nil, err
	}
	var changed []records.Item
	var seen []records.LibraryFile
	for i, v := range told.Verdicts {
		it := known[of[i]]
		if it.Fine != files[i].Fine {
			it.Fine = files[i].Fine
			seen = append(seen, it)
		}
		from := ""
		switch {
		case v.Of >= 0:
			from = path.Join(folder, files[v.Of].Path)
		case v.Cache != "":
			from = path.Join(folder, v.Cache, media.CacheTag)
		}
		if !it.Sorted || it.MadeFrom != from {
			it.MadeFrom = from
			changed = append(changed, it.Item)
		}
	}
	if len(seen) > 0 {
		err = o.d.Records.Catalogue.KeepFrames(ctx, seen)
	}
	return changed, err
}

// frame reads the frames of the pictures of which none is known, and keeps them.
func (o *originals) frame(ctx context.Context, read library.Options, files []library.File, of []int,
	known []records.LibraryFile) error {
	var todo []int
	for i, f := range files {
		if k := known[of[i]]; !k.Framed && k.Problem == "" && (f.Kind == media.Photo || f.Kind == media.Graphic) {
			todo = append(todo, i)
		}
	}
	for len(todo) > 0 {
		some := todo[:min(len(todo), framesKept)]
		todo = todo[len(some):]
		err := read.Each(ctx, len(some), func(ctx context.Context, k int) error {
			f := &files[some[k]]
			err := read.Open(ctx, f.Path, f.Bytes, func(in probe.File) (err error) {
				f.W, f.H, err = library.Frame(in, f.Bytes, f.ContentType)
				return err
			})
			is := &known[of[some[k]]]
			is.Framed, is.W, is.H = err == nil, f.W, f.H // else it is asked for again: the file is away
			return context.Cause(ctx)
		})
		if err != nil {
			return err
		}
		var kept []records.LibraryFile
		for _, i := range some {
			if k := known[of[i]]; k.Framed {
				kept = append(kept, k)
			}
		}
		if err := o.d.Records.Catalogue.KeepFrames(ctx, kept); err != nil {
			return err
		}
	}
	return nil
}

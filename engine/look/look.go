// Package look tells what is in a folder before anybody decides that it is taken up:
// how much of which kind and year, which folders are large, what would be left out and
// by what, and what cannot be read. It tells while it counts, first by the names of the
// files, then by their content; it changes nothing and keeps nothing.
package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"mime"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/library"
	"yardtide/engine/probe"
	"yardtide/engine/scan"
)

// Options say how a folder is looked at.
type Options struct {
	Zone *time.Location // of times without one
	// Choose tells why a file would be left out, "" when it would be taken up.
	Choose func(plan.File) string
	// Place tells whether copies go to a folder: it is not gone into.
	Place func(dir string, info fs.FileInfo) bool
	// Rest is how long to wait before the next file: what is sent goes first. None
	// without it.
	Rest func() time.Duration
	// Workers read files at the same time, 2 when it is 0.
	Workers int
	// OriginalsOnly tells of a closed library, by its folder below the one that is looked at, whether only its
	// originals would be taken. Nil says so of each.
	OriginalsOnly func(library string) bool
}

// Amount is how many files there are, and their bytes.
type Amount struct{ N, Bytes int64 }

func (a *Amount) add(bytes int64)  { a.N, a.Bytes = a.N+1, a.Bytes+bytes }
func (a *Amount) take(bytes int64) { a.N, a.Bytes = a.N-1, a.Bytes-bytes }

// Picture is a picture that was found.
type Picture struct {
	Path string // below the folder
	media.Facts
}

// Totals is what was found so far.
type Totals struct {
	All     Amount
	Kinds   map[media.Kind]Amount // of what would be taken up
	Years   map[int]Amount        // by when it was taken, of what would be taken up
	Folders map[string]Amount     // the folders that lie in it, with all below; "." for its own files
	LeftOut map[string]Amount     // by why
	Unread  []scan.Problem        // the first of them
	// Unreadable is how many files and folders cannot be read.
	Unreadable int64
	// Known is how many files were told by their content; the others by their names.
	Known     int64
	Pictures  []Picture // a few, from all over
	Clips     []Picture // the first of them
	Libraries []Library // by their folders
}

const (
	mostUnread   = 20
	mostPictures = 6
	mostClips    = 2
	ahead        = 200_000 // files that are found before their content is looked at
	tellEvery    = 150 * time.Millisecond
)

// entry is a file that was counted by its name.
type entry struct {
	path     string // below the folder
	size     int64
	modified time.Time
	is       counted
	library  *shelf // the closed library that it lies in
}

// counted is how a file was counted.
type counted struct {
	kind media.Kind
	year int
	why  string // it would be left out
}

type looker struct {
	Options
	root  string
	mu    sync.Mutex
	sum   Totals
	seen  int64 // pictures that could be shown
	names map[string]media.Kind
	// libraries are the closed ones that were found.
	libraries []*shelf
}

// At looks at a folder and everything below until the context ends, and tells what it
// found so far now and then. The error is one of the folder itself, or of the context.
func At(ctx context.Context, root string, o Options, tell func(Totals)) (Totals, error) {
	o.Workers = cmp.Or(o.Workers, 2)
	if o.Zone == nil {
		o.Zone = time.UTC
	}
	l := &looker{Options: o, root: root, names: map[string]media.Kind{},
		sum: Totals{Kinds: map[media.Kind]Amount{}, Years: map[int]Amount{}, Folders: map[string]Amount{},
			LeftOut: map[string]Amount{}}}
	if err := isFolder(root); err != nil {
		return Totals{}, err
	}
	entries := make(chan entry, ahead)
	work, working := errgroup.WithContext(ctx)
	work.Go(func() error {
		defer close(entries)
		return l.walk(working, ".", ".", l.closed("."), entries)
	})
	for range o.Workers {
		work.Go(func() error {
			for e := range entries {
				if working.Err() != nil {
					return nil
				}
				if l.Rest != nil {
					if rest := l.Rest(); rest > 0 {
						time.Sleep(rest)
					}
				}
				l.read(e)
			}
			return nil
		})
	}
	stop := make(chan struct{})
	told := make(chan struct{})
	go func() {
		defer close(told)
		every := time.NewTicker(tellEvery)
		defer every.Stop()
		for {
			select {
			case <-stop:
				return
			case <-every.C:
				tell(l.now())
			}
		}
	}()
	ended := make(chan error, 1)
	go func() { ended <- work.Wait() }()
	var err error
	select {
	case err = <-ended:
	case <-ctx.Done():
		select {
		case err = <-ended:
		case <-time.After(leftBehind): // a file system that went keeps a call for ever
			err = context.Cause(ctx)
		}
	}
	if err == nil {
		err = l.sort(ctx)
	}
	close(stop)
	<-told
	sum := l.now()
	tell(sum)
	return sum, err
}

// isFolder tells what is wrong where there is no folder to look at.
func isFolder(root string) error {
	info, err := os.Stat(root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no folder %q", root)
	case err != nil:
		return fmt.Errorf("the folder cannot be looked at: %s", scan.Reason(err))
	case !info.IsDir():
		return fmt.Errorf("%q is a file and not a folder", root)
	}
	return nil
}

// leftBehind is how long a stop waits for a call that does not end.
const leftBehind = 2 * time.Second

// now is what was found so far.
func (l *looker) now() Totals {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.sum
	s.Kinds, s.Years, s.Folders, s.LeftOut = maps.Clone(s.Kinds), maps.Clone(s.Years), maps.Clone(s.Folders),
		maps.Clone(s.LeftOut)
	s.Unread, s.Pictures, s.Libraries = slices.Clone(s.Unread), slices.Clone(s.Pictures), slices.Clone(s.Libraries)
	s.Clips = slices.Clone(s.Clips)
	slices.SortFunc(s.Pictures, func(a, b Picture) int {
		return cmp.Compare(a.Path, b.Path)
	}) // who read them first is chance
	return s
}

// walk counts the files of a folder and below by their names. top is the folder of the
// root's own in which it lies, in the closed library; nil for none.
func (l *looker) walk(ctx context.Context, dir, top string, in *shelf, entries chan<- entry) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	local := filepath.Join(l.root, filepath.FromSlash(dir))
	if info, err := os.Stat(local); err == nil && l.Place != nil && l.Place(local, info) {
		l.leaveOut("Copies go to this folder: it is not taken up.", 0)
		return nil
	}
	list, err := os.ReadDir(local)
	if err != nil {
		l.unread(local, "The folder cannot be read: "+scan.Reason(err)+".", "Allow reading it.")
		return nil
	}
	if dir != "." && dir == top {
		l.mu.Lock()
		if _, told := l.sum.Folders[top]; !told { // although nothing may be in it
			l.sum.Folders[top] = Amount{}
		}
		l.mu.Unlock()
	}
	for _, e := range list {
		below := path.Join(dir, e.Name())
		switch {
		case e.IsDir():
			if l.hides(below) {
				l.leaveOut(plan.HiddenLeftOut, 0)
				continue
			}
			under, within := top, in
			if dir == "." {
				under = e.Name()
			}
			if in.mayHold() {
				if found := l.closed(below); found != nil {
					within = found
				}
			}
			if err := l.walk(ctx, below, under, within, entries); err != nil {
				return err
			}
		case e.Type().IsRegular():
			info, err := e.Info()
			if err != nil {
				continue // removed in between
			}
			one := entry{path: below, size: info.Size(), modified: info.ModTime(), library: in}
			in.tagged(local, below)
			l.count(&one, top)
			select {
			case entries <- one:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
	}
	return nil
}

// hides tells whether a folder is hidden, and hidden files are left out.
func (l *looker) hides(dir string) bool {
	return plan.IsHidden(path.Base(dir)) && l.Choose != nil &&
		l.Choose(plan.File{Path: dir + "/x", Kind: media.Other}) == plan.HiddenLeftOut
}

// count counts a file by its name.
func (l *looker) count(e *entry, top string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	ext := path.Ext(e.path)
	kind, known := l.names[ext]
	if !known {
		kind = cmp.Or(media.KindOf(mime.TypeByExtension(strings.ToLower(ext)), false), media.Other)
		l.names[ext] = kind
	}
	e.is = l.judge(e, kind, e.modified.In(l.Zone), 0)
	l.sum.All.add(e.size)
	in := l.sum.Folders[top]
	in.add(e.size)
	l.sum.Folders[top] = in
	l.put(e.is, e.size, (*Amount).add)
}

// judge tells how a file counts.
func (l *looker) judge(e *entry, kind media.Kind, taken time.Time, seconds int64) counted {
	is := counted{kind: kind, year: taken.Year()}
	if l.Choose != nil {
		is.why = l.Choose(plan.File{Path: e.path, Kind: kind, Bytes: e.size, Taken: taken, Came: e.modified,
			Seconds: seconds})
	}
	return is
}

// put counts a file, or takes it out again. The caller has the lock.
func (l *looker) put(is counted, bytes int64, how func(*Amount, int64)) {
	if is.why != "" {
		a := l.sum.LeftOut[is.why]
		how(&a, bytes)
		keep(l.sum.LeftOut, is.why, a)
		return
	}
	k, y := l.sum.Kinds[is.kind], l.sum.Years[is.year]
	how(&k, bytes)
	how(&y, bytes)
	keep(l.sum.Kinds, is.kind, k)
	keep(l.sum.Years, is.year, y)
}

func keep[K comparable](m map[K]Amount, key K, a Amount) {
	if a == (Amount{}) {
		delete(m, key)
		return
	}
	m[key] = a
}

// read counts a file anew by its content.
func (l *looker) read(e entry) {
	facts, w, h, err := l.probe(e)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sum.Known++
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			l.unreadLocked(filepath.Join(l.root, filepath.FromSlash(e.path)), "The file cannot be read: "+scan.Reason(err)+".",
				"Allow reading it.")
		}
		return
	}
	now := l.judge(&e, facts.Kind, facts.TakenAt, facts.Seconds)
	if now != e.is {
		l.put(e.is, e.size, (*Amount).take)
		l.put(now, e.size, (*Amount).add)
	}
	if e.library != nil {
		e.is = now
		e.library.add(e, facts, w, h)
	}
	if now.why == "" && (facts.Kind == media.Photo || facts.Kind == media.Graphic) {
		l.pick(Picture{e.path, facts})
	}
	if now.why == "" && facts.Kind == media.Video && len(l.sum.Clips) < mostClips {
		l.sum.Clips = append(l.sum.Clips, Picture{e.path, facts})
	}
}

// probe reads the header of a file, and of what lies in a library the frame.
func (l *looker) probe(e entry) (facts media.Facts, w, h int, err error) {
	if e.size == 0 {
		return media.Facts{Kind: e.is.kind, TakenAt: e.modified.In(l.Zone)}, 0, 0, nil
	}
	f, err := scan.Open(filepath.Join(l.root, filepath.FromSlash(e.path)))
	if err != nil {
		return facts, 0, 0, err
	}
	defer f.Close()
	facts, err = probe.Read(io.NewSectionReader(f, 0, e.size), e.size, e.modified, l.Zone)
	if err == nil && e.library != nil && slices.Contains(media.Versions, facts.Kind) {
		w, h, err = library.Frame(io.NewSectionReader(f, 0, e.size), e.size, facts.ContentType)
	}
	return facts, w, h, err
}

// pick keeps a few pictures to show, from all over: the first, and later ones in the
// place of earlier ones, ever more rarely. The caller has the lock.
func (l *looker) pick(p Picture) {
	l.seen++
	if len(l.sum.Pictures) < mostPictures {
		l.sum.Pictures = append(l.sum.Pictures, p)
		return
	}
	if l.seen&(l.seen-1) == 0 { // 8, 16, 32 …
		l.sum.Pictures[int(l.seen/8)%mostPictures] = p
	}
}

func (l *looker) leaveOut(why string, bytes int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	a := l.sum.LeftOut[why]
	a.add(bytes)
	l.sum.LeftOut[why] = a
}

func (l *looker) unread(path, says, todo string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.unreadLocked(path, says, todo)
}

func (l *looker) unreadLocked(path, says, todo string) {
	l.sum.Unreadable++
	if len(l.sum.Unread) < mostUnread {
		l.sum.Unread = append(l.sum.Unread, scan.Problem{Path: path, Says: says, Todo: todo})
	}
}

// Package stray finds the pictures and clips of a device that no source takes up. It looks at names, sizes and
// times, opens only what its name does not tell, and writes nothing.
package stray

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"mime"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/scan"
)

// Options say what to look for.
type Options struct {
	Root    string   // the device's own folder, where the looking begins
	Sources []string // where the sources lie, absolute
	LetBe   []string // folders that are never to be mentioned, absolute
	// Own are folders of Yard Tide's own, absolute: what it makes is nobody's picture.
	Own []string
	// Closed tells whether a folder is a closed library; nil knows of none. OriginalsOnly are those of which the plan
	// takes only originals, absolute.
	Closed        func(dir string) bool
	OriginalsOnly []string
	// Place tells whether a folder is one that copies go to; nil knows of none.
	Place func(fs.FileInfo) bool
	// Sniff tells the kind of a file by its first bytes. It is asked of files whose ending says nothing, MostSniffed in
	// all; nil is asked of none.
	Sniff       func(path string) media.Kind
	MostSniffed int
	// Rest is told after each folder how long that took, and may wait; nil goes on at once.
	Rest func(worked time.Duration)
}

// Politely rests nine times as long as was worked: what goes on beside loses little.
func Politely(worked time.Duration) { time.Sleep(min(9*worked, time.Second)) }

// Sum is how many files of how many bytes there are.
type Sum struct{ N, Bytes int64 }

// Folder is a folder with strays: those in it and below, but in a folder that is told by itself.
type Folder struct {
	Path   string // from the root, with slashes; "." for the root
	Alone  bool   // a source lies below: only what is in the folder itself
	Kinds  map[media.Kind]Sum
	Newest time.Time // when the newest file was changed last
	// Libraries are the closed libraries in it, below the folder; "." for itself.
	Libraries []string
	Sum
}

// Unseen is a folder that was not looked into.
type Unseen struct{ Path, Why string }

// Found is what was found. Inside, Outside and LetBe together are all media that were seen.
type Found struct {
	Folders []Folder // the newest first
	Inside  Sum      // in sources
	Outside Sum      // in none: the strays
	LetBe   Sum      // in none, and let be
	Unseen  []Unseen
	// Libraries are closed libraries in sources of which the plan takes everything, from the root.
	Libraries []string
}

// made are folders of programs, which make them anew.
var made = []string{"node_modules", "__pycache__", "site-packages", "vendor", "target", "lost+found", "Trash", "Cache",
	"Caches", "$RECYCLE.BIN", "System Volume Information"}

// looker is one looking.
type looker struct {
	Options
	found   Found
	folders map[string]*Folder
	closed  []string  // libraries in no source, from the root
	since   time.Time // of the last rest
	sniffed int
	unread  int                // files whose ending says nothing, and that were not asked
	seen    map[[2]uint64]bool // folders, and files with several names: none is counted twice
}

// Look looks through a device's folder. What cannot be read is told as unseen, the root too. The error is that of
// the context.
func Look(ctx context.Context, o Options) (Found, error) {
	l := &looker{Options: o, since: time.Now(), folders: map[string]*Folder{}, seen: map[[2]uint64]bool{}}
	if info, err := os.Stat(o.Root); err != nil {
		l.unseen(".", "it cannot be read: "+scan.Reason(err))
	} else if err := l.walk(ctx, o.Root, ".", info); err != nil {
		return Found{}, err
	}
	if l.unread > 0 {
		l.unseen(".", fmt.Sprintf("%d files whose names do not tell what they are were not opened", l.unread))
	}
	for _, at := range l.closed {
		if name, alone := l.told(at); !alone && l.folders[name] != nil {
			in := l.folders[name]
			below, _ := filepath.Rel(name, at)
			in.Libraries = append(in.Libraries, filepath.ToSlash(below))
		}
	}
	for _, f := range l.folders {
		l.found.Folders = append(l.found.Folders, *f)
	}
	slices.SortFunc(l.found.Folders, func(a, b Folder) int {
		return cmp.Or(b.Newest.Compare(a.Newest), cmp.Compare(a.Path, b.Path))
	})
	slices.SortFunc(l.found.Unseen, func(a, b Unseen) int { return cmp.Compare(a.Path, b.Path) })
	return l.found, nil
}

// walk looks through a folder at a path, which is at a path from the root.
func (l *looker) walk(ctx context.Context, at, rel string, info fs.FileInfo) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if id, names := scan.Identity(info); names > 0 {
		if l.seen[id] {
			l.unseen(rel, "it is here a second time")
			return nil
		}
		l.seen[id] = true
	}
	entries, err := os.ReadDir(at)
	if err != nil {
		l.unseen(rel, "it cannot be read: "+scan.Reason(err))
		return nil
	}
	inside := l.in(l.Sources, at)
	if !inside && !l.above(at) {
		if why := left(at, entries); why != "" && rel != "." {
			l.unseen(rel, why)
			return nil
		}
	}
	l.library(at, rel, inside)
	if l.Rest != nil {
		l.Rest(time.Since(l.since))
		l.since = time.Now()
	}
	for _, e := range entries {
		below, from := filepath.Join(at, e.Name()), path.Join(rel, filepath.ToSlash(e.Name()))
		switch {
		case e.Type().IsRegular():
			l.count(below, from, e, inside)
		case e.IsDir():
			if err := l.enter(ctx, below, from, e, info); err != nil {
				return err
			}
		}
	}
	return nil
}

// library notes a folder that is a closed library, unless only its originals are taken, or it lies in another.
func (l *looker) library(at, rel string, inside bool) {
	if l.Closed == nil || rel == "." || l.in(l.OriginalsOnly, at) ||
		slices.ContainsFunc(slices.Concat(l.closed, l.found.Libraries), func(other string) bool { return plan.Inside(rel, other) }) ||
		!l.Closed(at) {
		return
	}
	if inside {
		l.found.Libraries = append(l.found.Libraries, rel)
	} else {
		l.closed = append(l.closed, rel)
	}
}

// enter walks a folder below another, unless it is none to look into.
func (l *looker) enter(ctx context.Context, at, rel string, e fs.DirEntry, above fs.FileInfo) error {
	if slices.ContainsFunc(l.Own, func(own string) bool { return same(own, at) }) {
		return nil
	}
	info, err := e.Info()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // it went meanwhile
	case err != nil:
		l.unseen(rel, "it cannot be read: "+scan.Reason(err))
		return nil
	case l.Place != nil && l.Place(info):
		return nil // copies lie there
	}
	if !l.in(l.Sources, at) && !l.above(at) { // a source is looked through whatever it is called
		switch name := e.Name(); {
		case strings.HasPrefix(name, "."):
			l.unseen(rel, "it is hidden")
			return nil
		case slices.Contains(made, name):
			l.unseen(rel, "it is a folder of programs, or of what was thrown away")
			return nil
		case scan.Disk(above) != scan.Disk(info):
			l.unseen(rel, "another disk is there")
			return nil
		}
	}
	return l.walk(ctx, at, rel, info)
}

// left tells why a folder is not looked into, by what is in it; "" when it is.
func left(at string, entries []fs.DirEntry) string {
	for _, e := range entries {
		switch e.Name() {
		case ".nomedia":
			return "a file .nomedia in it asks so"
		case media.CacheTag:
			if scan.Tagged(at) {
				return "it is a cache, and says so"
			}
		}
	}
	return ""
}

// count counts a file that is a picture or a clip by its name.
func (l *looker) count(at, rel string, e fs.DirEntry, inside bool) {
	if strings.HasPrefix(e.Name(), ".") {
		return
	}
	kind, is := media.OfName(e.Name())
	if !is && l.tells(e.Name()) {
		return
	}
	if !is {
		if kind = l.sniff(at); kind == "" {
			return
		}
	}
	info, err := e.Info()
	if err != nil || !info.Mode().IsRegular() {
		return // it went meanwhile
	}
	if id, names := scan.Identity(info); names > 1 {
		if l.seen[id] {
			return
		}
		l.seen[id] = true
	}
	switch {
	case inside:
		l.found.Inside.add(info)
		return
	case l.in(l.LetBe, filepath.Dir(at)):
		l.found.LetBe.add(info)
		return
	}
	l.found.Outside.add(info)
	name, alone := l.told(path.Dir(rel))
	f := l.folders[name]
	if f == nil {
		f = &Folder{Path: name, Alone: alone, Kinds: map[media.Kind]Sum{}}
		l.folders[name] = f
	}
	f.add(info)
	of := f.Kinds[kind]
	of.add(info)
	f.Kinds[kind] = of
	if info.ModTime().After(f.Newest) {
		f.Newest = info.ModTime()
	}
}

// tells tells whether a name says that a file is no picture or clip: its ending is another's.
func (l *looker) tells(name string) bool {
	ending := path.Ext(name)
	return l.Sniff == nil || ending != "" && (mime.TypeByExtension(ending) != "" || slices.Contains(others, strings.ToLower(ending)))
}

// others are endings of what is no picture or clip, beside those that the system knows.
var others = []string{".c", ".h", ".go", ".rs", ".py", ".sh", ".java", ".o", ".a", ".so", ".db", ".sqlite", ".sqlite3", ".log",
	".lock", ".bak", ".tmp", ".md", ".yaml", ".yml", ".toml", ".ini", ".conf", ".dll", ".exe", ".lib", ".map", ".idx", ".pack",
	".xmp", ".aae", ".thm", ".txt", ".json", ".xml", ".zip", ".gz", ".tar", ".iso", ".mp3", ".wav", ".flac", ".pdf"}

// sniff is the kind of a picture or clip by its first bytes, "" for anything else.
func (l *looker) sniff(at string) media.Kind {
	if l.sniffed >= l.MostSniffed {
		l.unread++
		return ""
	}
	l.sniffed++
	switch kind := l.Sniff(at); kind {
	case media.Photo, media.Raw, media.Graphic, media.Video:
		return kind
	}
	return ""
}

func (s *Sum) add(info fs.FileInfo) { s.N, s.Bytes = s.N+1, s.Bytes+info.Size() }

// told is the folder under which what lies in one is told: the highest above it, below the root, with
// nothing of a source in it; else the very folder, alone.
func (l *looker) told(rel string) (name string, alone bool) {
	if rel == "." {
		return rel, true
	}
	for i := range len(rel) + 1 {
		if i < len(rel) && rel[i] != '/' {
			continue
		}
		if at := filepath.Join(l.Root, filepath.FromSlash(rel[:i])); !l.above(at) {
			return rel[:i], false
		}
	}
	return rel, true
}

// in tells whether a path is one of some folders, or lies in one.
func (l *looker) in(folders []string, at string) bool {
	return slices.ContainsFunc(folders, func(f string) bool { return plan.Inside(filepath.ToSlash(at), filepath.ToSlash(f)) })
}

// above tells whether a source, or what is let be, lies below a folder.
func (l *looker) above(at string) bool {
	return slices.ContainsFunc(slices.Concat(l.Sources, l.LetBe), func(f string) bool {
		return !same(f, at) && plan.Inside(filepath.ToSlash(f), filepath.ToSlash(at))
	})
}

func same(a, b string) bool { return filepath.Clean(a) == filepath.Clean(b) }

func (l *looker) unseen(rel, why string) { l.found.Unseen = append(l.found.Unseen, Unseen{rel, why}) }

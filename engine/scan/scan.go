// Package scan walks one source and then watches it: it tells a Book which
// files are new or changed and quiet, and which are gone. It opens no file.
//
// These always hold:
//   - a file whose size or time still moves is left until it has been quiet;
//   - a folder that cannot be read is told as a problem, stops nothing else,
//     and makes nothing gone;
//   - a source that is missing, or suddenly empty, makes nothing gone;
//   - a source whose disk went, or was exchanged for another, makes nothing gone;
//   - a place that copies go to is never taken up, nor is what lies in one;
//   - links are not followed; hidden files and folders are left alone unless they are
//     asked for, and then what was found of them is not gone;
//   - memory grows with the number of folders and of files being written.
package scan

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"yardtide/core/plan"

	"github.com/fsnotify/fsnotify"
)

// File is what a folder's entry tells of a file.
type File struct {
	Dir, Name string // below the source; "." is the source itself
	Known     bool   // the book had another file under this path
	Modified  time.Time
	Stamp
}

// Path is the file's path below the source.
func (f File) Path() string { return path.Join(f.Dir, f.Name) }

// Book keeps what was found.
type Book interface {
	// Dir tells the known files of a folder by name; Dirs, all folders with
	// known files.
	Dir(ctx context.Context, dir string) (map[string]Stamp, error)
	Dirs(ctx context.Context) ([]string, error)
	// From tells the known files of a folder, and those of some that follow it, each whole.
	From(ctx context.Context, dir string) (map[string]map[string]Stamp, error)
	// Found takes new and changed files, at most Batch at a time.
	Found(ctx context.Context, files []File) error
	// Gone notes that known files are no longer there.
	Gone(ctx context.Context, dir string, names []string) error
	// Scanned is called after every full walk, with what could not be read.
	Scanned(problems []Problem)
}

// Batch is how many files Found gets at most.
const Batch = 200

// Problem is something in a source that cannot be read.
type Problem struct {
	Path string `json:"path"`
	Says string `json:"says"`
	Todo string `json:"todo"`
}

// Options tune a scan; zero values are the defaults.
type Options struct {
	Quiet  time.Duration // how long a file must rest, 2 s
	Again  time.Duration // how often everything is walked anew, 1 h
	Poll   time.Duration // the same where the system cannot watch, or the source is missing, 30 s
	Hidden bool          // hidden files and folders are walked, too
	// MayEmpty has a source that is empty be one: what was in it is gone. Elsewhere its disk may not be mounted.
	MayEmpty bool
	// Place tells whether copies go to a folder: one that is marked is known
	// without it.
	Place func(fs.FileInfo) bool
	// Marker is the name of the file that marks a place.
	Marker string
	// Here tells, asked anew, whether the source's volume is where the source is looked for; nil is always.
	Here func() bool
}

type scanner struct {
	Options
	root     string
	is       fs.FileInfo // the source's folder, as it was when everything was walked last
	book     Book
	watcher  *fsnotify.Watcher // nil when the system cannot watch
	blind    bool              // some folder is not watched
	dirs     folders           // that were walked
	ahead    *ahead            // while everything is walked
	walking  string            // the source without links on the way, while it is walked
	found    []File            // not told to the book yet
	foundAt  time.Time         // when the first of them was found
	mounts   map[string]uint64 // those of them in which another disk begins, the source itself among them
	moving   map[string]moving // files being written, by path
	problems []Problem
	mounted  bool   // every disk was where it had been, at the last walk
	table    string // what was mounted below it then
	pressing bool   // a problem may go away, and the watcher would not tell
	leaving  bool   // what is gone now is there, and is not taken up any more
}

type moving struct {
	size, mtime int64
	since       time.Time
}

// Run walks and watches the folder root until the context ends (nil) or the
// book fails.
func Run(ctx context.Context, root string, book Book, o Options) (err error) {
	s := &scanner{Options: o, root: root, book: book, moving: map[string]moving{}, mounts: map[string]uint64{}}
	s.Quiet = orElse(s.Quiet, 2*time.Second)
	s.Again = orElse(s.Again, time.Hour)
	s.Poll = orElse(s.Poll, 30*time.Second)
	if s.watcher, err = fsnotify.NewWatcher(); err != nil {
		s.watcher = nil // no more watchers on this system: it is polled
	} else {
		defer func() { err = errors.Join(err, s.watcher.Close()) }()
	}
	err = s.run(ctx)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func orElse(d, other time.Duration) time.Duration {
	if d == 0 {
		return other
	}
	return d
}

func (s *scanner) run(ctx context.Context) error {
	if err := s.walkAll(ctx); err != nil {
		return err
	}
	const settle = 100 * time.Millisecond // events of one folder are gathered
	dirty := map[string]bool{}
	flush, full := time.NewTimer(time.Hour), time.NewTimer(s.next())
	flush.Stop()
	defer flush.Stop()
	defer full.Stop()
	disks := time.NewTicker(diskWait)
	defer disks.Stop()
	var events chan fsnotify.Event
	var failures chan error
	if s.watcher != nil {
		events, failures = s.watcher.Events, s.watcher.Errors
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case e := <-events:
			if e.Op == fsnotify.Chmod {
				continue
			}
			dir, below := s.folderOf(e)
			if !below {
				full.Reset(settle) // the source itself was moved or removed
				continue
			}
			if len(dirty) == 0 {
				flush.Reset(settle)
			}
			dirty[dir] = true
		case <-disks.C:
			if s.sameDisks() != s.mounted || mountsBelow(s.resolved()) != s.table {
				full.Reset(0)
			}
		case err := <-failures:
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				full.Reset(settle)
				continue
			}
			s.blind = true
			full.Reset(s.next())
		case <-flush.C:
			now := dirty
			dirty = map[string]bool{}
			if s.sameDisks() != s.mounted { // before anything seems gone
				full.Reset(0)
				continue
			}
			if err := s.walkEach(ctx, now); err != nil {
				return err
			}
		case <-full.C:
			if err := s.walkAll(ctx); err != nil {
				return err
			}
			full.Reset(s.next())
		}
		if len(s.moving) > 0 && len(dirty) == 0 {
			for p := range s.moving {
				dirty[path.Dir(p)] = true
			}
			flush.Reset(s.Quiet)
		}
	}
}

func (s *scanner) walkEach(ctx context.Context, dirs map[string]bool) error {
	s.walking = s.resolved()
	defer func() { s.walking = "" }()
	for dir := range dirs {
		if err := s.walk(ctx, dir); err != nil {
			return err
		}
	}
	return s.tell(ctx)
}

// folderOf is the folder of the source in which something happened; below is false when it
// happened outside.
func (s *scanner) folderOf(e fsnotify.Event) (dir string, below bool) {
	dir, err := filepath.Rel(s.resolved(), filepath.Dir(e.Name))
	if err != nil || strings.HasPrefix(dir, "..") {
		return "", false
	}
	dir = filepath.ToSlash(dir)
	if e.Has(fsnotify.Create) {
		s.forget(path.Join(dir, filepath.Base(e.Name))) // a new folder under an old name is walked anew
	}
	return dir, true
}

// diskWait is how often it is looked whether the source's disks are where they
// were: nothing tells of an unmount (a kernel here lost word of every other one).
const diskWait = time.Second

// next is when everything is walked again.
func (s *scanner) next() time.Duration {
	if s.watcher == nil || s.blind || s.pressing {
		return s.Poll
	}
	if len(s.moving) > 0 {
		return s.Quiet
	}
	return s.Again
}

// resolved is the source without links on the way: while it is walked, what it was as the walk
// began.
func (s *scanner) resolved() string {
	if s.walking != "" {
		return s.walking
	}
	if root, err := filepath.EvalSymlinks(s.root); err == nil {
		return root
	}
	return s.root
}

func (s *scanner) local(dir string) string {
	return filepath.Join(s.resolved(), filepath.FromSlash(dir))
}

func (s *scanner) problem(dir, says, todo string) {
	s.pressing = true
	s.note(dir, says, todo)
}

// note is a problem that lasts until the plan is another.
func (s *scanner) note(dir, says, todo string) {
	s.problems = append(s.problems, Problem{Path: filepath.Join(s.root, filepath.FromSlash(dir)), Says: says, Todo: todo})
}

// walkAll walks the whole source and then looks for folders that are gone.
func (s *scanner) walkAll(ctx context.Context) error {
	s.problems, s.dirs, s.found, s.blind, s.pressing = nil, newFolders(), nil, false, false
	s.mounted, s.table = s.sameDisks(), mountsBelow(s.resolved())
	defer func() { s.book.Scanned(slices.Clone(s.problems)) }()
	if !s.usable(ctx) {
		return nil
	}
	known, err := s.book.Dirs(ctx)
	if err != nil {
		return err
	}
	s.ahead = newAhead(known)
	err = s.walkEach(ctx, map[string]bool{".": true})
	s.ahead = nil
	if err != nil {
		return err
	}
	for _, dir := range known {
		if _, walked := s.dirs.disk[dir]; walked || s.unreadable(dir) || !s.Hidden && plan.IsHidden(dir) {
			continue
		}
		if err := s.goneDir(ctx, dir); err != nil {
			return err
		}
	}
	return nil
}

// usable tells whether the source can be walked; else it notes the problem.
func (s *scanner) usable(ctx context.Context) bool {
	info, err := os.Stat(s.root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		s.problem(".", "The folder is not there.",
			"Make it, mount its disk, or correct the plan. What was found before is kept.")
		return false
	case err != nil:
		s.problem(".", "The folder cannot be looked at: "+Reason(err)+".", "Allow reading it.")
		return false
	case !info.IsDir():
		s.problem(".", "This is a file and not a folder.", "Name a folder in the plan.")
		return false
	}
	entries, err := os.ReadDir(s.root)
	if err != nil {
		s.problem(".", "The folder cannot be read: "+Reason(err)+".", "Allow reading it.")
		return false
	}
	if s.Here != nil && !s.Here() { // another volume may be there, or only the folder at which it was
		s.pressing = true
		return false
	}
	if s.inPlace() {
		s.note(".", "The folder lies where copies go to: its own copies would be copied again and again.",
			"Name another folder, or another destination.")
		return false
	}
	known, err := s.book.Dirs(ctx)
	if err == nil && len(entries) == 0 && len(known) > 0 && !s.MayEmpty {
		s.problem(".", "The folder is suddenly empty.",
			"Mount its disk if it is on one. If you emptied it, nothing needs doing: what was found before is kept.")
		s.watch(".")
		return false
	}
	if !s.onItsDisk(ctx, ".", info) {
		return false
	}
	s.is = info // only of a folder that is walked: what is not in another is not gone
	return true
}

// onItsDisk tells whether a folder lies on the disk that it was last walked on,
// or on one that has what was found there. Else it notes the problem: the disk
// may come back.
func (s *scanner) onItsDisk(ctx context.Context, dir string, info fs.FileInfo) bool {
	now := Disk(info)
	before, mounted := s.mounts[dir]
	if mounted && before != now {
		if !s.recognised(ctx, dir) {
			s.problem(dir, "The folder is on another disk than before, and nothing that was found is there.",
				"Mount its disk again. If the other one is meant, restart Yard Tide. What was found before is kept.")
			s.watch(dir)
			return false
		}
		s.forget(dir) // watches ended with the disk
	}
	if above, walked := s.dirs.disk[path.Dir(dir)]; dir == "." || walked && above != now {
		s.mounts[dir] = now
	} else {
		delete(s.mounts, dir)
	}
	return true
}

// sameDisks tells whether every disk is where it was walked.
func (s *scanner) sameDisks() bool {
	for dir, disk := range s.mounts {
		if info, err := os.Stat(s.local(dir)); err != nil || Disk(info) != disk {
			return false
		}
	}
	return true
}

// recognised tells whether something that was found in a folder or below is
// still there as it was, or nothing was.
func (s *scanner) recognised(ctx context.Context, top string) bool {
	dirs, err := s.book.Dirs(ctx)
	if err != nil {
		return false
	}
	none := true
	for _, dir := range dirs {
		if top != "." && dir != top && !strings.HasPrefix(dir, top+"/") {
			continue
		}
		known, err := s.book.Dir(ctx, dir)
		if err != nil {
			return false
		}
		for name, stamp := range known {
			none = false
			if info, err := os.Lstat(filepath.Join(s.local(dir), name)); err == nil && info.Size() == stamp.Size &&
				nanoseconds(info.ModTime()) == stamp.MTime {
				return true
			}
		}
	}
	return none
}

// inPlace tells whether the source is a place that copies go to, or lies in one.
func (s *scanner) inPlace() bool {
	for dir := s.resolved(); ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && s.isPlace(dir, info) {
			return true
		}
		if dir == filepath.Dir(dir) {
			return false
		}
	}
}

func (s *scanner) isPlace(dir string, info fs.FileInfo) bool {
	if s.Place != nil && s.Place(info) {
		return true
	}
	if s.Marker == "" {
		return false
	}
	_, err := os.Lstat(filepath.Join(dir, s.Marker))
	return err == nil
}

func (s *scanner) unreadable(dir string) bool {
	p := filepath.Join(s.root, filepath.FromSlash(dir))
	return slices.ContainsFunc(s.problems, func(bad Problem) bool {
		return p == bad.Path || strings.HasPrefix(p, bad.Path+string(filepath.Separator))
	})
}

// Reason is why the system refused, in its own few words and without the path.
func Reason(err error) string {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number.Error()
	}
	return err.Error()
}

// Left tells whether an error says that a file system or its device went, and nothing of the file.
func Left(err error) bool {
	for _, one := range []error{syscall.ENOTCONN, syscall.ECONNABORTED, syscall.ENODEV, syscall.ENXIO, syscall.ESTALE, syscall.ESHUTDOWN,
		syscall.EHOSTDOWN} {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}

func (s *scanner) watch(dir string) {
	if s.watcher == nil {
		return
	}
	if err := s.watcher.Add(s.local(dir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.blind = true // most likely the limit of watches: it is polled
	}
}

// walk looks at one folder and goes down into those it has not seen. The watch
// comes first, so that nothing made in between is lost.
func (s *scanner) walk(ctx context.Context, dir string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	s.watch(dir)
	local := s.local(dir)
	entries, err := os.ReadDir(local)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		s.dirs.remove(dir)
		if _, err := os.Stat(s.root); err != nil {
			return nil // the source itself went away: its next walk says so
		}
		return s.goneTree(ctx, dir)
	case err != nil:
		s.problem(dir, "The folder cannot be read: "+Reason(err)+".", "Allow reading it. Everything else goes on.")
		return nil
	}
	if dir == "." && len(entries) == 0 && !s.MayEmpty {
		return nil // suddenly empty: the next full walk says so
	}
	info, err := os.Stat(local)
	if err != nil {
		return nil // it went this moment: its folder's next walk tells
	}
	if dir != "." && s.isPlace(local, info) {
		s.note(dir, "Copies go to this folder: it is not taken up.", "Nothing needs doing; everything else goes on.")
		s.leaving = true
		defer func() { s.leaving = false }()
		return s.goneTree(ctx, dir)
	}
	if !s.onItsDisk(ctx, dir, info) {
		return nil
	}
	s.dirs.add(dir, Disk(info))
	known, err := s.ahead.in(ctx, s.book, dir)
	if err != nil {
		return err
	}
	if err := s.goneFolders(ctx, dir, entries); err != nil {
		return err
	}
	below, err := s.tellFiles(ctx, dir, entries, known)
	if err != nil {
		return err
	}
	if err := s.gone(ctx, dir, known); err != nil {
		return err
	}
	for _, sub := range below {
		if err := s.walk(ctx, sub); err != nil {
			return err
		}
	}
	return nil
}

// goneFolders tells the book of the folders that were in dir and are not among its entries: removed or moved away.
func (s *scanner) goneFolders(ctx context.Context, dir string, entries []fs.DirEntry) error {
	if len(s.dirs.below[dir]) == 0 {
		return nil
	}
	there := map[string]bool{}
	for _, e := range entries {
		if e.IsDir() {
			there[path.Join(dir, e.Name())] = true
		}
	}
	for sub := range maps.Clone(s.dirs.below[dir]) {
		if !there[sub] {
			if err := s.goneTree(ctx, sub); err != nil {
				return err
			}
		}
	}
	return nil
}

// tellFiles tells the book of new and changed files of dir, and strikes each file that is there from known, which then
// holds the files that are gone. Files of folders in which nothing was known are told together. It returns the folders
// in dir that no walk has seen.
func (s *scanner) tellFiles(ctx context.Context, dir string, entries []fs.DirEntry,
	known map[string]Stamp) (below []string, err error) {
	fresh := len(known) == 0
	for _, e := range entries {
		name := e.Name()
		switch {
		case !s.Hidden && strings.HasPrefix(name, "."):
			delete(known, name)
		case onItsWay(name) || name == s.Marker || name == HeldFolder || name == BackFolder:
		case e.IsDir():
			sub := path.Join(dir, name)
			if _, walked := s.dirs.disk[sub]; !walked {
				below = append(below, sub)
			}
		case e.Type().IsRegular():
			info, err := e.Info()
			if err != nil {
				continue // removed in between
			}
			k, had := known[name]
			f := File{Dir: dir, Name: name, Known: had, Modified: info.ModTime(), Stamp: StampOf(info)}
			delete(known, name)
			if had && k == f.Stamp || !s.quiet(f) {
				continue
			}
			if len(s.found) == 0 {
				s.foundAt = time.Now()
			}
			s.found = append(s.found, f)
			if len(s.found) >= Batch {
				if err := s.tell(ctx); err != nil {
					return nil, err
				}
			}
		}
	}
	if fresh && time.Since(s.foundAt) < gatherTime {
		return below, nil
	}
	return below, s.tell(ctx)
}

// gatherTime is how long files that were found are kept before the book is told of them.
const gatherTime = 200 * time.Millisecond

// tell tells the book of the files that were found.
func (s *scanner) tell(ctx context.Context) error {
	if len(s.found) == 0 {
		return nil
	}
	batch := s.found
	s.found = nil
	return s.book.Found(ctx, batch)
}

// HeldFolder, in a source, is the holding place of what went from there to make room; BackFolder, in any folder, has what
// is on its way back. Neither is ever taken up.
const (
	HeldFolder = ".yardtide-held"
	BackFolder = ".yardtide-back"
)

// onItsWay tells names that programs give to files they have not finished.
func onItsWay(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".part", ".partial", ".tmp", ".temp", ".crdownload", ".download":
		return true
	}
	return false
}

// quiet tells whether a file rests. One whose time lies long enough back does;
// another must have been seen the same before.
func (s *scanner) quiet(f File) bool {
	now, p := time.Now(), f.Path()
	age := now.Sub(time.Unix(0, f.MTime))
	before, seen := s.moving[p]
	switch {
	case age >= s.Quiet && !seen,
		seen && before.size == f.Size && before.mtime == f.MTime && now.Sub(before.since) >= s.Quiet*9/10:
		delete(s.moving, p)
		return true
	case !seen || before.size != f.Size || before.mtime != f.MTime:
		s.moving[p] = moving{f.Size, f.MTime, now}
	}
	return false
}

func (s *scanner) gone(ctx context.Context, dir string, known map[string]Stamp) error {
	if len(known) == 0 {
		return nil
	}
	names := make([]string, 0, len(known))
	for name := range known {
		names = append(names, name)
	}
	if !s.leaving {
		names = s.reallyGone(dir, names)
	}
	if len(names) == 0 {
		return nil
	}
	for _, name := range names {
		delete(s.moving, path.Join(dir, name))
	}
	if err := s.tell(ctx); err != nil { // in the order in which it was seen
		return err
	}
	s.ahead.forget()
	return s.book.Gone(ctx, dir, names)
}

// reallyGone are those of some files that are not in a folder of the source. They are asked for through a handle of the
// source's own folder: while that is away, or another is in its place, nothing is gone, however soon it is back.
func (s *scanner) reallyGone(dir string, names []string) []string {
	root, err := os.OpenRoot(s.resolved())
	if err != nil {
		s.pressing = true
		return nil
	}
	defer root.Close()
	if is, err := root.Stat("."); err != nil || s.is == nil || !os.SameFile(is, s.is) {
		s.pressing = true
		return nil
	}
	names = slices.DeleteFunc(names, func(name string) bool {
		_, err := root.Lstat(path.Join(dir, name))
		if err == nil { // it came back: it is looked at again
			s.pressing = true
		}
		return !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR)
	})
	if len(names) == 0 || s.Here == nil {
		return names
	}
	// The handle may have been of the folder at which the volume was: the volume is asked for after it.
	if now, err := os.Stat(s.root); !s.Here() || err != nil || !os.SameFile(now, s.is) {
		s.pressing = true
		return nil
	}
	return names
}

func (s *scanner) goneDir(ctx context.Context, dir string) error {
	known, err := s.book.Dir(ctx, dir)
	if err != nil {
		return err
	}
	return s.gone(ctx, dir, known)
}

func (s *scanner) goneTree(ctx context.Context, top string) error {
	known, err := s.book.Dirs(ctx)
	if err != nil {
		return err
	}
	for p := range s.moving {
		if strings.HasPrefix(p, top+"/") {
			delete(s.moving, p)
		}
	}
	s.forget(top)
	for _, dir := range known {
		if dir == top || strings.HasPrefix(dir, top+"/") {
			if err := s.goneDir(ctx, dir); err != nil {
				return err
			}
		}
	}
	return nil
}

// forget makes a folder and those below it be walked anew.
func (s *scanner) forget(top string) {
	for dir := range s.dirs.tree(top) {
		s.dirs.remove(dir)
		if s.watcher != nil {
			_ = s.watcher.Remove(s.local(dir)) // it may be gone with the folder
		}
	}
}

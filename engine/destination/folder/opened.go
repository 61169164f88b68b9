package folder

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// This file holds the folder open while calls work in it. Calls that overlap share its handle, and those of
// the folders below it: each call asks for every name on its way once, and opens what it did not find
// open. So a share is asked little, and what lies under a name that was exchanged is seen by the next call.

// sharing is what the drivers of one folder share.
type sharing struct {
	illness
	mu  sync.Mutex
	now *opened // nil while no call works
}

// opened is the folder, open.
type opened struct {
	*below
	users int // calls at work, under sharing.mu; the last closes it

	mu       sync.Mutex
	folders  map[string]*below // by path
	replaced []*below          // of which another is in folders now
	id       string            // of the place
	marker   fs.FileInfo       // of the file that told id; nil before
	counts   map[string]counted
}

// below is a folder, open. Its names have no slash.
type below struct {
	*os.Root
	info fs.FileInfo
	file *os.File // for what os.Root cannot do
}

// counted is what a counter told.
type counted struct {
	n  int64
	at time.Time
}

// countLife is how long a counter is not read again by calls that overlap.
const countLife = time.Second

// mostOpen is how many folders are held open; with more, the next call begins anew.
const mostOpen = 64

// enter opens the folder for a call. leave is called when the call ends.
func (d Driver) enter() (o *opened, leave func(), err error) {
	s := d.shared
	if s == nil {
		o, err = d.open()
		return o, func() { o.close() }, err
	}
	s.mu.Lock()
	if o = s.now; o != nil {
		o.users++
	}
	s.mu.Unlock()
	if o != nil {
		if info, err := os.Stat(d.Root); err == nil && os.SameFile(info, o.info) && !o.full() {
			return o, func() { s.leave(o) }, nil
		}
		s.leave(o)
	}
	if o, err = d.open(); err != nil {
		return nil, nil, err
	}
	o.users = 1
	s.mu.Lock()
	s.now = o // whoever works in the one before closes it
	s.mu.Unlock()
	return o, func() { s.leave(o) }, nil
}

func (s *sharing) leave(o *opened) {
	s.mu.Lock()
	o.users--
	last := o.users == 0
	if last && s.now == o {
		s.now = nil
	}
	s.mu.Unlock()
	if last {
		o.close()
	}
}

// open opens the folder itself; it may be named through a link.
func (d Driver) open() (*opened, error) {
	root, err := os.OpenRoot(d.Root)
	switch {
	case err == nil:
		b, err := hold(root)
		if err != nil {
			return nil, err
		}
		return &opened{below: b, folders: map[string]*below{}, counts: map[string]counted{}}, nil
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
		return nil, &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the folder %s is not there", d.Root),
			Err: err}
	}
	return nil, failure("opening "+d.Root, err)
}

// hold takes a handle of a folder, which is closed with an error.
func hold(root *os.Root) (*below, error) {
	file, err := root.Open(".")
	if err != nil {
		return nil, errors.Join(failure("opening the folder", err), root.Close())
	}
	info, err := file.Stat()
	if err != nil {
		return nil, errors.Join(failure("looking at the folder", err), file.Close(), root.Close())
	}
	return &below{root, info, file}, nil
}

// shut closes a folder. What is written there is on disk by then: an error tells nothing.
func (b *below) shut() { _, _ = b.file.Close(), b.Root.Close() }

func (o *opened) close() {
	for _, b := range o.folders {
		b.shut()
	}
	for _, b := range o.replaced {
		b.shut()
	}
	o.shut()
}

func (o *opened) full() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.folders)+len(o.replaced) > mostOpen
}

// folder is the folder at a path, with no link on the way. The error is fs.ErrNotExist where one is
// missing, unless rights are given, with which it is made.
func (o *opened) folder(p string, rights fs.FileMode) (*below, error) {
	at := o.below
	switch p = path.Clean(p); {
	case p == ".":
		return at, nil
	case !filepath.IsLocal(p):
		return nil, &destination.Error{Cause: queue.Refused, Says: p + " leaves the folder"}
	}
	for i := range len(p) + 1 {
		if i < len(p) && p[i] != '/' {
			continue
		}
		next, err := o.next(at, p[:i], rights)
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}

// next is the folder at a path in the one above it. Nothing is locked while the file system is asked: over a
// share calls wait beside one another.
func (o *opened) next(above *below, p string, rights fs.FileMode) (*below, error) {
	name := path.Base(p)
	info, err := above.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) && rights != 0 {
		if err := above.Mkdir(name, rights); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, failure("making the folder "+p, err)
		}
		if err := above.sync(); err != nil {
			return nil, err
		}
		info, err = above.Lstat(name)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, err
	case err != nil:
		return nil, failure("looking at "+p, err)
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, isLink(p)
	case !info.IsDir():
		return nil, failure("opening the folder "+p, syscall.ENOTDIR)
	}
	if known := o.known(p, info); known != nil {
		return known, nil
	}
	root, err := above.OpenRoot(name)
	if err != nil {
		return nil, failure("opening the folder "+p, err)
	}
	is, err := hold(root)
	if err != nil {
		return nil, err
	}
	if !os.SameFile(is.info, info) {
		is.shut()
		return nil, isLink(p) // it was exchanged in this moment, for a link maybe
	}
	return o.keep(p, is), nil
}

// known is a folder that is open, if it is the one that a path leads to now; nil else.
func (o *opened) known(p string, info fs.FileInfo) *below {
	o.mu.Lock()
	defer o.mu.Unlock()
	if is := o.folders[p]; is != nil && os.SameFile(is.info, info) {
		return is
	}
	return nil
}

// keep holds a folder open. Another call may have opened the same one meanwhile: either serves.
func (o *opened) keep(p string, is *below) *below {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch before := o.folders[p]; {
	case before == nil:
	case os.SameFile(before.info, is.info):
		is.shut()
		return before
	default:
		o.replaced = append(o.replaced, before)
	}
	o.folders[p] = is
	return is
}

// sync brings a folder's entries to disk.
func (b *below) sync() error {
	if err := b.file.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) { // some shares cannot
		return failure("writing the folder to disk", err)
	}
	return nil
}

func isLink(p string) error {
	return &destination.Error{Cause: queue.Refused,
		Says: fmt.Sprintf("at the storage, %s is a link; nothing is written or read through one", p)}
}

func notAFile(p string) error {
	return &destination.Error{Cause: queue.Refused, Says: fmt.Sprintf("what lies at %s is not a file", p)}
}

// lookAt looks at a regular file. The error is fs.ErrNotExist where there is none.
func (o *opened) lookAt(p string) (in *below, info fs.FileInfo, err error) {
	if in, err = o.folder(path.Dir(p), 0); err != nil {
		return nil, nil, err
	}
	info, err = in.Lstat(path.Base(p))
	switch {
	case err != nil:
		return nil, nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, nil, isLink(p)
	case !info.Mode().IsRegular():
		return nil, nil, notAFile(p)
	}
	return in, info, nil
}

// regular opens a regular file, looked at by name and by the open handle.
func (o *opened) regular(p string, how int) (*os.File, error) {
	in, before, err := o.lookAt(p)
	if err != nil {
		return nil, err
	}
	f, err := in.OpenFile(path.Base(p), how|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if now, err := f.Stat(); err != nil || !os.SameFile(before, now) {
		return nil, errors.Join(notAFile(p), err, f.Close())
	}
	return f, nil
}

// atPlace sees that the folder is one of the place that a driver is tied to.
func (o *opened) atPlace(at destination.Anchor) (lies string, err error) {
	if at.ID == "" {
		return "", nil
	}
	seen, info, err := o.identity()
	if err != nil {
		return "", err
	}
	switch {
	case seen == "":
		return "its file " + destination.MarkerName + " is missing", nil
	case seen != at.ID:
		return "it is another place, " + seen, nil
	case at.Stamp != "" && changed(info) != at.Stamp:
		return "its file " + destination.MarkerName + " was made anew", nil
	case at.Least > 0:
		n, err := o.countedLately(at.Put, at.Least)
		if err != nil || n >= at.Least {
			return "", err
		}
		return "it is an older copy of the place, without what was put there last", nil
	}
	return "", nil
}

// identity is that of the place, "" where there is no marker. The marker is read again when its file is
// another, or was written.
func (o *opened) identity() (id string, info fs.FileInfo, err error) {
	_, info, err = o.lookAt(destination.MarkerName)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, nil
	}
	if err != nil {
		return "", nil, failure("looking at the marker", err)
	}
	o.mu.Lock()
	known, is := o.id, o.marker
	o.mu.Unlock()
	if is != nil && os.SameFile(is, info) && is.Size() == info.Size() && is.ModTime().Equal(info.ModTime()) &&
		changed(is) == changed(info) {
		return known, info, nil
	}
	f, err := o.regular(destination.MarkerName, os.O_RDONLY)
	if err != nil {
		return "", nil, failure("opening the marker", err)
	}
	defer f.Close()
	if info, err = f.Stat(); err != nil {
		return "", nil, failure("looking at the marker", err)
	}
	text := make([]byte, destination.MaxMarker)
	n, err := io.ReadFull(f, text)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return "", nil, failure("reading the marker", err)
	}
	if id, err = destination.ParseMarker(text[:n]); err != nil {
		return "", info, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.id, o.marker = id, info
	return id, info, nil
}

// countedLately is what a counter told lately, where that is enough, or what it tells now.
func (o *opened) countedLately(p string, least int64) (int64, error) {
	o.mu.Lock()
	lately := o.counts[p]
	o.mu.Unlock()
	if lately.n >= least && time.Since(lately.at) < countLife {
		return lately.n, nil
	}
	return o.count(p)
}

// mostCount bounds a counter: no device puts so much anywhere, and more can be counted.
const mostCount = 1 << 60

// count reads a counter, 0 without one, or of one that cannot be read as such a number.
func (o *opened) count(p string) (int64, error) {
	f, err := o.regular(p, os.O_RDONLY)
	for try := 0; try < 8 && destination.CauseOf(err) == queue.Refused; try++ { // it may be replaced in this moment
		f, err = o.regular(p, os.O_RDONLY)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, failure("opening the counter of what was put there", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, destination.MaxMarker))
	if err != nil {
		return 0, failure("reading the counter of what was put there", err)
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil || n < 0 || n > mostCount {
		n = 0
	}
	o.noteCount(p, n)
	return n, nil
}

// setCount writes a counter. The file is this device's own: its last number is replaced.
func (o *opened) setCount(p string, n int64) error {
	in, err := o.folder(path.Dir(p), 0o755)
	if err != nil {
		return err
	}
	next := path.Base(p) + ".new"
	if err := in.Remove(next); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return failure("removing what an earlier try left", err)
	}
	f, err := in.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return failure("counting what was put there", err)
	}
	_, err = fmt.Fprintln(f, n)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = in.Rename(next, path.Base(p))
	}
	if err != nil {
		return failure("counting what was put there", err)
	}
	if err := in.sync(); err != nil {
		return err
	}
	o.noteCount(p, n)
	return nil
}

// noteCount notes what a counter told.
func (o *opened) noteCount(p string, n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.counts[p] = counted{n, time.Now()}
}

package inbox

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardtide/engine/records"
)

// This file shows an inbox as a folder to apps: what was taken on stays listed, with its size and its tag, also when it
// is freed, so that no app sends it again.

// Listing is an inbox as apps see it.
type Listing struct{ b *Inbox }

// Entry is what an app is told of a file or a folder.
type Entry struct {
	Name     string // its last step
	Folder   bool
	Size     int64
	Modified time.Time
	Tag      string // of its content; "" for a folder
}

// ErrNotSafe is the refusal to remove what is not safe yet.
var ErrNotSafe = errors.New("it is not safe yet, and stays; remove it once it is, or leave it: its room is freed by itself")

// ErrFolderHolds is the refusal to remove a folder that holds something.
var ErrFolderHolds = errors.New("the folder holds what is not safe yet, and stays")

func fileOf(h records.HandedOver) Entry {
	return Entry{Name: path.Base(h.Path), Size: h.Size, Modified: time.Unix(0, h.MTime), Tag: h.SHA256}
}

// Stat tells what a path of a way stands for; the error is fs.ErrNotExist where it is nothing. "" is the way's own
// folder.
func (l Listing) Stat(ctx context.Context, way Way, name string) (Entry, error) {
	if name != "" {
		h, some, err := l.b.Records.Handed.At(ctx, string(way), name)
		if err != nil {
			return Entry{}, err
		}
		if some && !h.Hidden {
			return fileOf(h), nil
		}
	}
	info, err := l.b.root.Lstat(in(way, name))
	if err == nil && info.IsDir() {
		return Entry{Name: path.Base(name), Folder: true, Modified: info.ModTime()}, nil
	}
	below, err := l.b.Records.Handed.Below(ctx, string(way), name)
	if err != nil {
		return Entry{}, err
	}
	if slices.ContainsFunc(below, func(h records.HandedOver) bool { return !h.Hidden }) { // its folder was freed with it
		return Entry{Name: path.Base(name), Folder: true, Modified: time.Unix(0, below[0].MTime)}, nil
	}
	return Entry{}, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
}

// List tells what is in a folder of a way, by name.
func (l Listing) List(ctx context.Context, way Way, dir string) ([]Entry, error) {
	all := map[string]Entry{}
	below, err := l.b.Records.Handed.Below(ctx, string(way), dir)
	if err != nil {
		return nil, err
	}
	for _, h := range below {
		if h.Hidden {
			continue
		}
		rest := strings.TrimPrefix(strings.TrimPrefix(h.Path, dir), "/")
		if first, _, deeper := strings.Cut(rest, "/"); deeper {
			all[first] = Entry{Name: first, Folder: true, Modified: time.Unix(0, h.MTime)}
		} else {
			all[first] = fileOf(h)
		}
	}
	f, err := l.b.root.Open(in(way, dir))
	if err == nil {
		entries, rerr := f.ReadDir(-1)
		err = errors.Join(rerr, f.Close())
		for _, e := range entries {
			if info, ierr := e.Info(); ierr == nil && e.IsDir() {
				all[e.Name()] = Entry{Name: e.Name(), Folder: true, Modified: info.ModTime()}
			}
		}
	}
	if err != nil && (!errors.Is(err, fs.ErrNotExist) || len(all) == 0) {
		return nil, err
	}
	list := make([]Entry, 0, len(all))
	for _, one := range all {
		list = append(list, one)
	}
	slices.SortFunc(list, func(x, y Entry) int { return strings.Compare(x.Name, y.Name) })
	return list, nil
}

// Open opens a file to be read: in the inbox, or in the holding place. The error is fs.ErrNotExist where its bytes are
// there no more.
func (l Listing) Open(ctx context.Context, way Way, name string) (*os.File, error) {
	h, some, err := l.b.Records.Handed.At(ctx, string(way), name)
	if err != nil {
		return nil, err
	}
	at := in(way, name)
	if some && !h.Here() {
		at = filepath.Join(heldFolder, h.Held)
	}
	if !some || h.Hidden || h.GoneMS > 0 {
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return l.b.root.Open(at)
}

// ErrIsFolder tells that a file cannot have a name, as a folder has it.
var ErrIsFolder = errors.New("this is a folder")

// MayPut tells whether a file may be put under a path. The error is ErrIsFolder, or fs.ErrNotExist where its folder is
// missing.
func (l Listing) MayPut(ctx context.Context, way Way, name string) error {
	if is, err := l.Stat(ctx, way, name); err == nil && is.Folder {
		return ErrIsFolder
	}
	return l.inFolder(ctx, way, name)
}

// inFolder sees that what a path lies in is a folder; else the error is fs.ErrNotExist.
func (l Listing) inFolder(ctx context.Context, way Way, name string) error {
	dir := path.Dir(name)
	if dir == "." {
		return nil
	}
	up, err := l.Stat(ctx, way, dir)
	if err == nil && !up.Folder {
		err = fmt.Errorf("%s: %w", dir, fs.ErrNotExist)
	}
	return err
}

// MakeFolder makes one. The error is fs.ErrExist where something has its name, and fs.ErrNotExist where its parent is
// missing.
func (l Listing) MakeFolder(ctx context.Context, way Way, name string) error {
	l.b.mu.Lock()
	defer l.b.mu.Unlock()
	is, err := l.b.lies(ctx, way, name)
	if err != nil {
		return err
	}
	if is != nothing {
		return fmt.Errorf("%s: %w", name, fs.ErrExist)
	}
	if err := l.inFolder(ctx, way, name); err != nil {
		return err
	}
	if err := l.b.root.MkdirAll(in(way, name), 0o700); err != nil {
		return fmt.Errorf("making a folder in the inbox of %s: %w", l.b.Phone, asRoom(err))
	}
	return l.b.syncFolders(in(way, name))
}

// Rename gives a file or a folder another path. With over it takes a name that a file has, which moves aside. The errors
// are fs.ErrNotExist and fs.ErrExist.
func (l Listing) Rename(ctx context.Context, way Way, from, to string, over bool) error {
	if from == to || strings.HasPrefix(to, from+"/") {
		return BadName{to, "it is the thing itself, or lies in it"}
	}
	l.b.mu.Lock()
	defer l.b.mu.Unlock()
	is, err := l.Stat(ctx, way, from)
	if err != nil {
		return err
	}
	if err := l.inFolder(ctx, way, to); err != nil {
		return err
	}
	there, err := l.b.lies(ctx, way, to)
	if err != nil {
		return err
	}
	switch {
	case there == nothing:
	case !over, there == aFolder, is.Folder:
		return fmt.Errorf("%s: %w", to, fs.ErrExist)
	default:
		if err := l.b.moveAside(ctx, way, to); err != nil {
			return err
		}
	}
	defer l.b.Tell()
	return l.b.move(ctx, way, from, to)
}

// Aside gives a file another name beside, so that something else may have its own. The error is ErrFolderHolds for a
// folder, and fs.ErrNotExist.
func (l Listing) Aside(ctx context.Context, way Way, name string) error {
	l.b.mu.Lock()
	defer l.b.mu.Unlock()
	switch is, err := l.b.lies(ctx, way, name); {
	case err != nil:
		return err
	case is == nothing:
		return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	case is == aFolder:
		return ErrFolderHolds
	}
	return l.b.moveAside(ctx, way, name)
}

// Remove takes a file off the list that is safe, or removes an empty folder. The error is ErrNotSafe for what is not,
// ErrFolderHolds for a folder that holds such, and fs.ErrNotExist.
func (l Listing) Remove(ctx context.Context, way Way, name string) error {
	is, err := l.Stat(ctx, way, name)
	if err != nil {
		return err
	}
	if !is.Folder {
		return l.removeFile(ctx, way, name)
	}
	below, err := l.b.Records.Handed.Below(ctx, string(way), name)
	if err != nil {
		return err
	}
	below = slices.DeleteFunc(below, func(h records.HandedOver) bool { return h.Hidden })
	stand, err := l.b.Judge(ctx, pathsOf(below))
	if err != nil || slices.ContainsFunc(stand, func(s Standing) bool { return !s.May }) {
		return errors.Join(err, ErrFolderHolds)
	}
	for _, h := range below {
		if err := l.removeFile(ctx, way, h.Path); err != nil {
			return err
		}
	}
	l.b.mu.Lock()
	defer l.b.mu.Unlock()
	return l.removeFolders(in(way, name))
}

// removeFolders removes a folder in which there are only folders. The caller has the lock.
func (l Listing) removeFolders(dir string) error {
	var all []string
	err := fs.WalkDir(l.b.root.FS(), filepath.ToSlash(dir), func(at string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			all = append(all, at)
		}
		return err
	})
	for _, at := range slices.Backward(all) {
		if rerr := gone(l.b.root.Remove(filepath.FromSlash(at))); rerr != nil {
			return errors.Join(ErrFolderHolds, rerr)
		}
	}
	return gone(err)
}

func (l Listing) removeFile(ctx context.Context, way Way, name string) error {
	h, some, err := l.b.Records.Handed.At(ctx, string(way), name)
	if err != nil || !some || h.Hidden {
		return err
	}
	s, err := l.b.judge(ctx, h)
	if err != nil {
		return err
	}
	if !s.May {
		return ErrNotSafe
	}
	if h.Here() {
		if err := l.b.hold(ctx, h, time.Now()); err != nil {
			return err
		}
	}
	return l.b.Records.Handed.Hide(ctx, h.ID)
}

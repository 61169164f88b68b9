// Package inbox keeps what one phone hands over, until it is safe. It knows files, and no protocol: tus, WebDAV and SFTP
// are served above it.
//
// These always hold:
//   - a file is under its name whole, on disk and on record, or not at all;
//   - nothing that is there is written over: what comes under a taken name with other content moves the earlier aside, or
//     goes beside it;
//   - nothing leaves the inbox before every copy that the plan asks for is proven, one of them as shot; it waits in the
//     holding place then, is judged again, and only then removed;
//   - no path leads out of the phone's own folder, and no link is followed.
//
// Memory: a buffer for each writer. One process has an inbox at a time; the service's lock sees to that.
package inbox

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yardtide/core/naming"
	"yardtide/engine/atomicfile"
	"yardtide/engine/records"
	"yardtide/engine/work"
)

// Way is by what something was handed over. It is the name of a source of the phone as well.
type Way string

// The ways.
const (
	ByPage   Way = "page"
	ByWebDAV Way = "webdav"
	BySFTP   Way = "sftp"
)

// Ways are all of them.
var Ways = []Way{ByPage, ByWebDAV, BySFTP}

// Folders of the inbox beside those of its ways. Hidden, as a device does not look into them.
const (
	partsFolder = ".parts"
	heldFolder  = ".held"
)

// Options make an inbox.
type Options struct {
	Phone   string
	Dir     string // the phone's own, in which its sources lie
	Records *records.Records
	Room    *Room // of all inboxes
	// Judge tells how files stand, by their ways and paths.
	Judge func(ctx context.Context, paths [][2]string) ([]Standing, error)
	// Most is how many bytes may lie here; HeldFor is how long a file stays in the holding place.
	Most    func() int64
	HeldFor func() time.Duration
	Tell    func() // something changed
}

// Inbox is one phone's. Its methods are safe for concurrent use.
type Inbox struct {
	Options

	// Uploads are the files that come in pieces, Listing what apps are shown.
	Uploads Uploads
	Listing Listing

	root  *os.Root
	freed int64 // up to which number Free looked
	// mu is held while names change: it makes "is the name free" and "it is taken" one step.
	mu sync.Mutex
}

// Open opens the inbox of a phone, and mends what a kill left.
func Open(ctx context.Context, o Options) (*Inbox, error) {
	folders := []string{partsFolder, heldFolder}
	for _, way := range Ways {
		folders = append(folders, string(way))
	}
	for _, dir := range folders {
		if err := os.MkdirAll(filepath.Join(o.Dir, dir), 0o700); err != nil {
			return nil, fmt.Errorf("making the inbox of %s: %w", o.Phone, err)
		}
	}
	root, err := os.OpenRoot(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("opening the inbox of %s: %w", o.Phone, err)
	}
	o.Room.holds(o.Phone, 0) // it has a share from now on
	b := &Inbox{Options: o, root: root}
	b.Uploads.b, b.Listing.b = b, b
	if err := b.mend(ctx); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return b, nil
}

// Close lets go of the folder, and of the room it took.
func (b *Inbox) Close() error {
	b.Room.leave(b.Phone)
	return b.root.Close()
}

// BadName tells that a name cannot be one in an inbox.
type BadName struct{ Name, Why string }

func (e BadName) Error() string { return fmt.Sprintf("%q cannot be a name here: %s", e.Name, e.Why) }

// Bounds of paths.
const (
	mostDepth = 16
	mostPath  = 1000 // bytes
)

// Clean makes a path below a way of what a phone calls a file: each step a name that every storage takes. A step that
// would lead out is none. The error is BadName.
func Clean(name string) (string, error) {
	if len(name) > 4*mostPath {
		return "", BadName{name[:40] + "…", "it is too long"}
	}
	var steps []string
	for step := range strings.SplitSeq(strings.ReplaceAll(name, `\`, "/"), "/") {
		if step == "" || step == "." {
			continue
		}
		if step == ".." {
			return "", BadName{name, "it leads out of the inbox"}
		}
		steps = append(steps, naming.Safe(step))
	}
	clean := path.Join(steps...)
	switch {
	case len(steps) == 0:
		return "", BadName{name, "it names no file"}
	case len(steps) > mostDepth:
		return "", BadName{name, fmt.Sprintf("it is more than %d folders deep", mostDepth)}
	case len(clean) > mostPath:
		return "", BadName{name[:40] + "…", fmt.Sprintf("it is longer than %d bytes", mostPath)}
	}
	return clean, nil
}

// in is a path below a way, as the root takes it.
func in(way Way, name string) string { return filepath.FromSlash(path.Join(string(way), name)) }

// Different tells that what came has not the content that was announced.
type Different struct{ Says string }

func (e Different) Error() string { return e.Says }

// Taken is what became of a file that was handed over.
type Taken struct {
	Path string // below its way: the name that it has now
	Had  bool   // it was here already, with this content
}

// Writer takes a file in. One calls Write, and then Take or Drop, from one goroutine.
type Writer struct {
	b     *Inbox
	f     *os.File
	part  string // its name in the parts
	sum   hash.Hash
	size  int64 // that came
	room  int64 // that it took
	exact int64 // that must come, -1 where nobody said
}

// Create begins to take a file in, of a size in bytes, or of one that nobody knows yet with -1. The error is NoRoom
// where it cannot be taken.
func (b *Inbox) Create(size int64) (*Writer, error) {
	w := &Writer{b: b, sum: sha256.New(), exact: size}
	if err := w.take(max(size, 0), 0); err != nil {
		return nil, err
	}
	var err error
	w.part = partsFolder + "/" + newID() + ".new"
	if w.f, err = b.root.OpenFile(w.part, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
		b.Room.give(b.Phone, w.room)
		return nil, fmt.Errorf("beginning a file in the inbox of %s: %w", b.Phone, asRoom(err))
	}
	return w, nil
}

// take takes room until the writer has so many bytes, and what is asked for beside.
func (w *Writer) take(bytes, beside int64) error {
	if bytes <= w.room {
		return nil
	}
	took, err := w.b.Room.take(w.b.Phone, bytes-w.room, beside, w.b.Most())
	w.room += took
	return err
}

// roomStep is how much room is taken ahead for a file whose size nobody said.
const roomStep = 8 << 20

// Write implements io.Writer. The error is NoRoom, or Different for more than was announced.
func (w *Writer) Write(p []byte) (int, error) {
	end := w.size + int64(len(p))
	if w.exact >= 0 && end > w.exact {
		return 0, Different{fmt.Sprintf("more than the %d bytes came that were announced", w.exact)}
	}
	if err := w.take(end, roomStep); err != nil {
		return 0, err
	}
	n, err := w.f.Write(p)
	w.sum.Write(p[:n])
	w.size += int64(n)
	return n, asRoom(err)
}

// Size is how many bytes came.
func (w *Writer) Size() int64 { return w.size }

// SHA256 is of what came, in hex.
func (w *Writer) SHA256() string { return hex.EncodeToString(w.sum.Sum(nil)) }

// Drop gives up the file.
func (w *Writer) Drop() error {
	w.b.Room.give(w.b.Phone, w.room)
	w.room = 0
	return errors.Join(w.f.Close(), gone(w.b.root.Remove(w.part)))
}

// Take brings the file to disk under its name. Modified is when it was changed last on the phone, zero where nobody says.
// With over it takes a name that another content has: what had it moves aside; else it goes beside.
func (w *Writer) Take(ctx context.Context, way Way, name string, modified time.Time, over bool) (Taken, error) {
	err := w.ready(modified)
	if err == nil {
		var t Taken
		if t, err = w.b.publish(ctx, w.part, w.SHA256(), w.size, way, name, over); err == nil {
			w.b.settle(t, w.room, w.size)
			w.room = 0
			return t, nil
		}
	}
	return Taken{}, errors.Join(err, w.Drop())
}

// settle ends the room that a file took on its way: what lies there stays taken.
func (b *Inbox) settle(t Taken, room, size int64) {
	if t.Had {
		size = 0
	}
	b.Room.landed(size)
	b.Room.give(b.Phone, room-size)
}

// ready brings the bytes to disk.
func (w *Writer) ready(modified time.Time) error {
	if w.exact >= 0 && w.size != w.exact {
		return Different{fmt.Sprintf("%d of the %d bytes came that were announced", w.size, w.exact)}
	}
	if err := w.f.Sync(); err != nil {
		return fmt.Errorf("bringing a file of %s to disk: %w", w.b.Phone, asRoom(err))
	}
	if err := w.f.Close(); err != nil {
		return fmt.Errorf("closing a file of %s: %w", w.b.Phone, err)
	}
	return w.b.setTime(w.part, modified)
}

// setTime has a file be as old as the phone says, within reason: it may be all that tells when a picture was taken.
func (b *Inbox) setTime(name string, modified time.Time) error {
	if modified.Before(time.Unix(0, 0)) || modified.After(time.Now().Add(48*time.Hour)) || modified.IsZero() {
		return nil
	}
	if err := b.root.Chtimes(name, modified, modified); err != nil {
		return fmt.Errorf("setting the time of a file of %s: %w", b.Phone, err)
	}
	return nil
}

// mostBeside is how many files may go beside one of their name.
const mostBeside = 10_000

// publish gives a whole file in the parts its name, and notes it.
func (b *Inbox) publish(ctx context.Context, part, sum string, size int64, way Way, name string, over bool) (Taken, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	taken := Taken{Path: name}
	for n := 2; ; n++ {
		is, err := b.lies(ctx, way, taken.Path)
		if err != nil {
			return taken, err
		}
		if is == nothing {
			break
		}
		if had, err := b.same(ctx, way, taken.Path, sum, size); err != nil {
			return taken, err
		} else if had {
			taken.Had = true
			break
		}
		if over && is == aFile {
			if err := b.moveAside(ctx, way, taken.Path); err != nil {
				return taken, err
			}
			break
		}
		if n > mostBeside {
			return taken, BadName{name, "too many files have it already"}
		}
		taken.Path = beside(name, n)
	}
	return taken, b.put(ctx, part, sum, size, way, &taken)
}

// put is the step of publish that changes names. The caller has the lock.
func (b *Inbox) put(ctx context.Context, part, sum string, size int64, way Way, taken *Taken) error {
	to := in(way, taken.Path)
	if taken.Had {
		if err := gone(b.root.Remove(part)); err != nil {
			return fmt.Errorf("dropping what %s handed over twice: %w", b.Phone, err)
		}
	} else {
		if err := b.root.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return fmt.Errorf("making a folder in the inbox of %s: %w", b.Phone, asRoom(err))
		}
		if err := b.root.Rename(part, to); err != nil {
			return fmt.Errorf("putting %s into the inbox of %s: %w", taken.Path, b.Phone, asRoom(err))
		}
		if err := b.syncFolders(to); err != nil {
			return err
		}
	}
	h, err := b.noted(ctx, way, taken.Path)
	if err != nil || taken.Had && h.SHA256 == sum && !h.Hidden { // it was noted before, and may be freed already
		return err
	}
	info, err := b.root.Lstat(to)
	if err != nil {
		return fmt.Errorf("looking at %s in the inbox of %s: %w", taken.Path, b.Phone, err)
	}
	err = b.Records.Handed.Add(context.WithoutCancel(ctx), records.HandedOver{Way: string(way), Path: taken.Path, Size: size,
		MTime: info.ModTime().UnixNano(), SHA256: sum, AtMS: time.Now().UnixMilli()})
	b.Tell()
	return err
}

func (b *Inbox) noted(ctx context.Context, way Way, name string) (h records.HandedOver, err error) {
	h, _, err = b.Records.Handed.At(ctx, string(way), name)
	return h, err
}

// syncFolders brings the names of a file and of the folders that it lies in to disk.
func (b *Inbox) syncFolders(file string) error {
	for dir := filepath.Dir(file); ; dir = filepath.Dir(dir) {
		if err := atomicfile.SyncFolder(filepath.Join(b.Dir, dir)); err != nil {
			return fmt.Errorf("bringing a name in the inbox of %s to disk: %w", b.Phone, err)
		}
		if dir == "." {
			return nil
		}
	}
}

// thing is what lies under a path.
type thing int

const (
	nothing thing = iota
	aFile         // here, or freed and on record
	aFolder
)

// lies tells what a path stands for.
func (b *Inbox) lies(ctx context.Context, way Way, name string) (thing, error) {
	info, err := b.root.Lstat(in(way, name))
	if err == nil {
		if info.IsDir() {
			return aFolder, nil
		}
		return aFile, nil
	}
	if !errors.Is(err, fs.ErrNotExist) && !notAFolder(err) {
		return nothing, fmt.Errorf("looking into the inbox of %s: %w", b.Phone, err)
	}
	h, some, err := b.Records.Handed.At(ctx, string(way), name)
	if err != nil || !some || h.Hidden {
		return nothing, err
	}
	return aFile, nil
}

// same tells whether a path has a content, in the inbox or freed from there.
func (b *Inbox) same(ctx context.Context, way Way, name, sum string, size int64) (bool, error) {
	h, some, err := b.Records.Handed.At(ctx, string(way), name)
	if err != nil || some && (!h.Here() || h.Size != size) {
		return some && h.SHA256 == sum, err
	}
	f, err := b.root.Open(in(way, name))
	if err != nil {
		return false, nil //nolint:nilerr // a folder, or what nobody can read: it is another
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() != size {
		return false, nil //nolint:nilerr // as above
	}
	is, err := sumOf(ctx, f)
	return is == sum, err
}

func hashed(ctx context.Context, r io.Reader) (hash.Hash, error) {
	sum := sha256.New()
	if _, err := io.Copy(sum, work.Until(ctx, r)); err != nil {
		return nil, fmt.Errorf("reading a file of an inbox: %w", err)
	}
	return sum, nil
}

func sumOf(ctx context.Context, r io.Reader) (string, error) {
	sum, err := hashed(ctx, r)
	if err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// moveAside makes room for a newer content of a name: the earlier one keeps its row and its bytes under a name beside.
// The caller has the lock.
func (b *Inbox) moveAside(ctx context.Context, way Way, name string) error {
	for n := 2; n <= mostBeside; n++ {
		other := beside(name, n)
		is, err := b.lies(ctx, way, other)
		if err != nil {
			return err
		}
		if is == nothing {
			return b.move(ctx, way, name, other)
		}
	}
	return BadName{name, "too many files have it already"}
}

// move changes a path, of a file that may be freed or of a folder. The caller has the lock.
func (b *Inbox) move(ctx context.Context, way Way, from, to string) error {
	if err := b.root.MkdirAll(filepath.Dir(in(way, to)), 0o700); err != nil {
		return fmt.Errorf("making a folder in the inbox of %s: %w", b.Phone, asRoom(err))
	}
	if err := gone(b.root.Rename(in(way, from), in(way, to))); err != nil {
		return fmt.Errorf("renaming %s in the inbox of %s: %w", from, b.Phone, err)
	}
	if err := b.syncFolders(in(way, to)); err != nil {
		return err
	}
	return b.Records.Handed.Moved(context.WithoutCancel(ctx), string(way), from, to)
}

// beside is another name of a file.
func beside(name string, n int) string {
	dir, base := path.Split(name)
	ext := path.Ext(base)
	return dir + naming.Safe(fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(base, ext), n, ext))
}

// gone is an error of removing, nil where nothing was there.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

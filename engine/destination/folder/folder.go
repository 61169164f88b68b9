// Package folder is the driver for a folder of this machine: a disk or a
// mounted share. Files are put in place with a hard link, which never
// overwrites; where the file system has none, with a rename that does not.
//
// Nothing is opened through a link, and nothing outside the folder is reached: a
// link on the way is refused, whoever put it there.
package folder

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
	"syscall"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Driver writes below Root, which must exist: a folder that is not there may
// be a disk that is not mounted, and is never made.
//
// A driver that Anchor returned reads the marker of the place through the folder's
// handle before each call works with that handle. So what is exchanged, mounted or
// unmounted under the folder's name meanwhile is never written to.
type Driver struct {
	Root string

	at  destination.Anchor // the place that the driver is tied to; none without an identity
	ill *illness           // of the folder; nil has calls wait however long
}

// New makes a driver whose calls end when the folder does not answer: a share that went, or a
// disk that fails. Such a call is left behind, and until it ends all others fail at once.
func New(root string) Driver { return Driver{Root: root, ill: &illness{}} }

var (
	_ destination.Driver    = Driver{}
	_ destination.Resumer   = Driver{}
	_ destination.Browser   = Driver{}
	_ destination.Spacer    = Driver{}
	_ destination.Connected = Driver{}
	_ destination.Stamper   = Driver{}
	_ destination.Anchorer  = Driver{}
)

// Anchor implements destination.Anchorer.
func (d Driver) Anchor(at destination.Anchor) destination.Driver {
	d.at = at
	return d
}

// open opens the folder itself; it may be named through a link.
func (d Driver) open() (*os.Root, error) {
	root, err := os.OpenRoot(d.Root)
	switch {
	case err == nil:
		return root, nil
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
		return nil, &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the folder %s is not there", d.Root),
			Err: err}
	}
	return nil, failure("opening "+d.Root, err)
}

// within does something in the folder, within the bounds of a call.
func within[T any](ctx context.Context, d Driver, do func(root *os.Root, w *watch) (T, error)) (T, error) {
	return bounded(ctx, d, func(w *watch) (is T, err error) {
		root, err := d.open()
		if err != nil {
			return is, err
		}
		defer root.Close()
		if err := d.atPlace(root); err != nil {
			return is, err
		}
		return do(root, w)
	})
}

// in is within for what only fails or not.
func (d Driver) in(ctx context.Context, do func(root *os.Root) error) error {
	_, err := within(ctx, d, func(root *os.Root, _ *watch) (struct{}, error) { return struct{}{}, do(root) })
	return err
}

// atPlace sees that a handle of the folder is one of the place that the driver is tied to.
func (d Driver) atPlace(root *os.Root) error {
	if d.at.ID == "" {
		return nil
	}
	seen, info, err := marker(root)
	if err != nil {
		return err
	}
	lies := ""
	switch {
	case seen == "":
		lies = "its file " + destination.MarkerName + " is missing"
	case seen != d.at.ID:
		lies = "it is another place, " + seen
	case d.at.Stamp != "" && changed(info) != d.at.Stamp:
		lies = "its file " + destination.MarkerName + " was made anew"
	case d.at.Least > 0:
		n, err := count(root, d.at.Put)
		if err != nil || n >= d.at.Least {
			return err
		}
		lies = "it is an older copy of the place, without what was put there last"
	default:
		return nil
	}
	return &destination.Error{Cause: queue.Elsewhere,
		Says: fmt.Sprintf("what lies at %s is not the place that was there, %s: %s", d.Root, d.at.ID, lies)}
}

// Count implements destination.Counter.
func (d Driver) Count(ctx context.Context, p string) (int64, error) {
	return within(ctx, d, func(root *os.Root, _ *watch) (int64, error) { return count(root, p) })
}

// mostCount bounds a counter: no device puts so much anywhere, and more can be counted.
const mostCount = 1 << 60

// count reads a counter, 0 without one, or of one that cannot be read as such a number.
func count(root *os.Root, p string) (int64, error) {
	f, err := regular(root, p, os.O_RDONLY)
	for try := 0; try < 8 && destination.CauseOf(err) == queue.Refused; try++ { // it may be replaced in this moment
		f, err = regular(root, p, os.O_RDONLY)
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
		return 0, nil
	}
	return n, nil
}

// SetCount implements destination.Counter. The file is this device's own: its last number is
// replaced.
func (d Driver) SetCount(ctx context.Context, p string, n int64) error {
	return d.in(ctx, func(root *os.Root) error {
		dir := path.Dir(p)
		if err := noLink(root, dir); err != nil {
			return err
		}
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return failure("making the folder "+dir, err)
		}
		next := p + ".new"
		if err := root.Remove(next); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return failure("removing what an earlier try left", err)
		}
		f, err := root.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return failure("counting what was put there", err)
		}
		_, err = fmt.Fprintln(f, n)
		if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
			err = root.Rename(next, p)
		}
		if err != nil {
			return failure("counting what was put there", err)
		}
		return syncDir(root, dir)
	})
}

// marker reads the identity of the place through a handle of its folder, "" where there is
// no marker.
func marker(root *os.Root) (id string, info fs.FileInfo, err error) {
	f, err := regular(root, destination.MarkerName, os.O_RDONLY)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, nil
	}
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
	id, err = destination.ParseMarker(text[:n])
	return id, info, err
}

// noLink refuses a path with a link on the way, or at its end. What is not there
// is no link.
func noLink(root *os.Root, p string) error {
	if p == "" {
		return nil
	}
	for i := range len(p) + 1 {
		if i < len(p) && p[i] != '/' {
			continue
		}
		info, err := root.Lstat(p[:i])
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return failure("looking at "+p[:i], err)
		case info.Mode()&fs.ModeSymlink != 0:
			return &destination.Error{Cause: queue.Refused,
				Says: fmt.Sprintf("at the storage, %s is a link; nothing is written or read through one", p[:i])}
		}
	}
	return nil
}

// regular opens a regular file, looked at by name and by the open handle.
func regular(root *os.Root, p string, how int) (*os.File, error) {
	if err := noLink(root, p); err != nil {
		return nil, err
	}
	before, err := root.Lstat(p)
	if err != nil {
		return nil, err
	}
	if !before.Mode().IsRegular() {
		return nil, notAFile(p)
	}
	f, err := root.OpenFile(p, how|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if now, err := f.Stat(); err != nil || !os.SameFile(before, now) {
		return nil, errors.Join(notAFile(p), err, f.Close())
	}
	return f, nil
}

func notAFile(p string) error {
	return &destination.Error{Cause: queue.Refused, Says: fmt.Sprintf("what lies at %s is not a file", p)}
}

// Put implements destination.Driver. The bytes are on disk when it returns.
func (d Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	source := destination.NewBody(ctx, body, size-from)
	defer source.Stop() // nothing reads the body after this, whatever was left behind
	_, err := within(ctx, d, func(root *os.Root, w *watch) (_ struct{}, err error) {
		f, err := temporary(root, temp, from, destination.Rights(ctx))
		if err != nil {
			return struct{}{}, err
		}
		err = write(f, source, from, size, w)
		if cerr := f.Close(); err == nil && cerr != nil {
			err = failure("closing the temporary file", cerr)
		}
		return struct{}{}, err
	})
	return err
}

// temporary makes a temporary file, or with from above 0 opens the one that is
// there. No other name of the file may exist: it would be written over too.
func temporary(root *os.Root, temp string, from int64, rights fs.FileMode) (*os.File, error) {
	if err := noLink(root, destination.TempDir); err != nil {
		return nil, err
	}
	if err := root.MkdirAll(destination.TempDir, 0o755); err != nil {
		return nil, failure("making the folder for files on their way", err)
	}
	if from == 0 {
		if err := root.Remove(temp); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, failure("removing what an earlier try left", err)
		}
		f, err := root.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL, rights)
		if err != nil {
			return nil, failure("making the temporary file", err)
		}
		return f, nil
	}
	f, err := regular(root, temp, os.O_WRONLY)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, destination.PartLost()
	}
	if err != nil {
		return nil, failure("opening the temporary file", err)
	}
	if info, err := f.Stat(); err != nil || names(info) > 1 {
		return nil, errors.Join(destination.PartLost(), err, f.Close())
	}
	return f, nil
}

func write(f *os.File, source *destination.Body, from, size int64, w *watch) error {
	if lost, err := destination.GoOn(f, from); err != nil {
		return failure("preparing the temporary file", err)
	} else if lost {
		return destination.PartLost()
	}
	n, err := io.Copy(f, resting{source, w})
	_, own := source.Stop()
	switch {
	case own != nil:
		return own
	case err != nil:
		return failure("writing the temporary file", err)
	case n != size-from:
		return io.ErrUnexpectedEOF
	}
	w.begin(time.Duration(size>>20) * mebibyte)
	if err := f.Sync(); err != nil {
		return failure("writing the temporary file to disk", err)
	}
	return nil
}

// Kept implements destination.Resumer. The last bytes of a file that was being
// written may not have reached the disk: it goes on some way before its end.
func (d Driver) Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error) {
	return within(ctx, d, func(root *os.Root, _ *watch) (int64, error) {
		f, err := regular(root, temp, os.O_RDONLY)
		if errors.Is(err, fs.ErrNotExist) {
			return 0, nil
		}
		if err != nil {
			return 0, failure("opening the temporary file", err)
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return 0, failure("looking at the temporary file", err)
		}
		return destination.KeptTail(f, info.Size(), local, size)
	})
}

// Resumes implements destination.Resumer.
func (d Driver) Resumes() bool { return true }

// Publish implements destination.Driver.
func (d Driver) Publish(ctx context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return d.in(ctx, func(root *os.Root) error {
		if err := noLink(root, temp); err != nil {
			return err
		}
		info, err := root.Lstat(temp)
		switch {
		case err != nil:
			return failure("looking at the temporary file", err)
		case !info.Mode().IsRegular():
			return notAFile(temp)
		}
		dir := path.Dir(to)
		if err := noLink(root, dir); err != nil {
			return err
		}
		if err := root.MkdirAll(dir, folderRights(info.Mode())); err != nil {
			return failure("making the folder "+dir, err)
		}
		err = root.Link(temp, to)
		switch {
		case errors.Is(err, fs.ErrExist):
			return destination.ErrExists
		case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.ENOTSUP), errors.Is(err, syscall.ENOSYS), errors.Is(err,
			syscall.EMLINK):
			if err := renameNoReplace(root, temp, to); err != nil {
				if errors.Is(err, fs.ErrExist) {
					return destination.ErrExists
				}
				return failure("putting the file in place", err)
			}
		case err != nil:
			return failure("putting the file in place", err)
		default:
			if err := root.Remove(temp); err != nil {
				return failure("removing the temporary name", err)
			}
		}
		return syncDir(root, dir)
	})
}

// folderRights are those of a folder that is made for a file: whoever may read the file may
// enter the folder, and nobody else.
func folderRights(file fs.FileMode) fs.FileMode {
	reads := file.Perm() & 0o044
	return 0o700 | reads | reads>>2
}

// syncDir brings a folder's entries to disk.
func syncDir(root *os.Root, dir string) error {
	f, err := root.Open(dir)
	if err != nil {
		return failure("opening the folder", err)
	}
	err = f.Sync()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil && !errors.Is(err, syscall.EINVAL) { // some shares cannot
		return failure("writing the folder to disk", err)
	}
	return nil
}

// Size implements destination.Driver.
func (d Driver) Size(ctx context.Context, p string) (int64, error) {
	return within(ctx, d, func(root *os.Root, _ *watch) (int64, error) {
		if err := noLink(root, p); err != nil {
			return 0, err
		}
		info, err := root.Lstat(p)
		switch {
		case err != nil:
			return 0, failure("looking at "+p, err)
		case !info.Mode().IsRegular():
			return 0, notAFile(p)
		}
		return info.Size(), nil
	})
}

// Open implements destination.Driver.
func (d Driver) Open(ctx context.Context, p string) (io.ReadCloser, error) {
	f, err := within(ctx, d, func(root *os.Root, _ *watch) (*os.File, error) {
		f, err := regular(root, p, os.O_RDONLY)
		if err != nil {
			return nil, failure("opening "+p, err)
		}
		return f, nil
	})
	if err != nil {
		return nil, err
	}
	return reader{ctx, d, f}, nil
}

// reader reads a file within the bounds of a call each time.
type reader struct {
	ctx context.Context
	d   Driver
	f   *os.File
}

func (r reader) Read(p []byte) (int, error) {
	if r.d.ill == nil {
		return r.f.Read(p)
	}
	own, err := bounded(r.ctx, r.d, func(*watch) ([]byte, error) {
		b := make([]byte, len(p)) // the call may outlive this one
		n, err := r.f.Read(b)
		return b[:n], err
	})
	return copy(p, own), err
}

func (r reader) Close() error { return r.f.Close() }

// Remove implements destination.Driver.
func (d Driver) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return d.in(ctx, func(root *os.Root) error {
		if err := noLink(root, destination.TempDir); err != nil {
			return err
		}
		if err := root.Remove(temp); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return failure("removing "+temp, err)
		}
		return nil
	})
}

// SetTime implements destination.Dater.
func (d Driver) SetTime(ctx context.Context, temp string, at time.Time) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return d.in(ctx, func(root *os.Root) error {
		if err := noLink(root, temp); err != nil {
			return err
		}
		if err := root.Chtimes(temp, at, at); err != nil {
			return failure("giving the file its time", err)
		}
		return nil
	})
}

// Withdraw implements destination.Driver.
func (d Driver) Withdraw(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return d.in(ctx, func(root *os.Root) error {
		f, err := regular(root, p, os.O_RDONLY)
		if err != nil {
			return failure("opening "+p, err)
		}
		if err := f.Close(); err != nil {
			return failure("closing "+p, err)
		}
		if err := errors.Join(noLink(root, destination.TempDir), root.MkdirAll(destination.TempDir, 0o700)); err != nil {
			return failure("making the folder of temporary files", err)
		}
		if err := root.Rename(p, temp); err != nil {
			return failure("taking "+p+" out of its place", err)
		}
		return errors.Join(syncDir(root, path.Dir(p)), syncDir(root, destination.TempDir))
	})
}

// Copy implements destination.Copier: a file system that shares blocks does so.
func (d Driver) Copy(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	_, err := within(ctx, d, func(root *os.Root, w *watch) (struct{}, error) {
		return struct{}{}, copied(ctx, root, p, temp, w)
	})
	return err
}

func copied(ctx context.Context, root *os.Root, p, temp string, w *watch) error {
	from, err := regular(root, p, os.O_RDONLY)
	if err != nil {
		return failure("opening "+p, err)
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil {
		return failure("looking at "+p, err)
	}
	to, err := temporary(root, temp, 0, info.Mode().Perm())
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = from.Close() })
	defer stop()
	w.begin(2 * time.Duration(info.Size()>>20) * mebibyte) // all of it in one call
	if _, err = to.ReadFrom(from); err == nil {
		err = to.Sync()
	}
	err = errors.Join(err, to.Close())
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	if err != nil {
		return failure("copying "+p, err)
	}
	return nil
}

// List implements destination.Browser.
func (d Driver) List(ctx context.Context, dir string) ([]destination.Entry, error) {
	return within(ctx, d, func(root *os.Root, w *watch) (entries []destination.Entry, err error) {
		if err := noLink(root, dir); err != nil {
			return nil, err
		}
		f, err := root.Open(path.Join(".", dir))
		if err != nil {
			return nil, failure("listing "+dir, err)
		}
		defer f.Close()
		found, err := f.ReadDir(-1)
		if err != nil {
			return nil, failure("listing "+dir, err)
		}
		for _, e := range found {
			w.begin(0)
			info, err := e.Info()
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, failure("looking at "+e.Name(), err)
			}
			switch {
			case info.IsDir():
				entries = append(entries, destination.Entry{Name: e.Name(), Folder: true})
			case info.Mode().IsRegular():
				entries = append(entries, destination.Entry{Name: e.Name(), Size: info.Size()})
			}
		}
		return entries, nil
	})
}

// MakeFolder implements destination.Browser.
func (d Driver) MakeFolder(ctx context.Context, dir string) error {
	return d.in(ctx, func(root *os.Root) error {
		if err := noLink(root, dir); err != nil {
			return err
		}
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return failure("making the folder "+dir, err)
		}
		return nil
	})
}

// Tidy implements destination.Browser.
func (d Driver) Tidy(ctx context.Context) error {
	return d.in(ctx, func(root *os.Root) error {
		err := root.Remove(destination.TempDir)
		if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTEMPTY) ||
			errors.Is(err, syscall.EEXIST) {
			return nil
		}
		return failure("removing the folder for files on their way", err)
	})
}

// Connection implements destination.Connected: another disk under the same name
// is another, and so is one whose marker changed. 0 is a folder without a readable marker.
func (d Driver) Connection() uint64 {
	d.at = destination.Anchor{}
	is, err := within(context.Background(), d, func(root *os.Root, _ *watch) (uint64, error) {
		id, info, err := marker(root)
		if err != nil || info == nil {
			return 0, err
		}
		h := fnv.New64a()
		fmt.Fprintf(h, "%s %s %s", id, inode(info), changed(info))
		if folder, err := root.Stat("."); err == nil {
			fmt.Fprintf(h, " %s", inode(folder))
		}
		return h.Sum64(), nil
	})
	if err != nil {
		return 0
	}
	return is
}

// Stamp implements destination.Stamper: a copy of a file was made at another
// time.
func (d Driver) Stamp(ctx context.Context, p string) (string, error) {
	return within(ctx, d, func(root *os.Root, _ *watch) (string, error) {
		info, err := root.Lstat(p)
		if err != nil {
			return "", failure("looking at "+p, err)
		}
		return changed(info), nil
	})
}

// Close implements destination.Driver.
func (d Driver) Close() error { return nil }

// failure tells the cause of a file system's error.
func failure(doing string, err error) error {
	var own *destination.Error
	if errors.As(err, &own) {
		return own
	}
	e := &destination.Error{Cause: queue.Busy, Says: doing + " failed", Err: err}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.Join(destination.ErrNotFound, err)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT), errors.Is(err, syscall.EFBIG):
		e.Cause, e.Says = queue.Full, "the disk is full"
	case errors.Is(err, syscall.EROFS):
		e.Cause, e.Says = queue.SignIn, "the disk is read-only"
	case errors.Is(err, fs.ErrPermission):
		e.Cause, e.Says = queue.SignIn, "writing to the folder is not permitted"
	case errors.Is(err, syscall.ENAMETOOLONG), errors.Is(err, syscall.EINVAL), errors.Is(err, syscall.EILSEQ):
		e.Cause, e.Says = queue.Refused, "the disk refuses the name"
	case errors.Is(err, syscall.ENOTDIR):
		e.Cause, e.Says = queue.Refused, "a file stands where a folder is needed"
	case errors.Is(err, syscall.ELOOP), strings.Contains(err.Error(), "path escapes from parent"):
		e.Cause, e.Says = queue.Refused, "a link stands on the way, and nothing is written or read through one"
	}
	return e
}

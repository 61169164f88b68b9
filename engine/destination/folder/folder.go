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
	"strings"
	"syscall"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Driver writes below Root, which must exist: a folder that is not there may
// be a disk that is not mounted, and is never made.
//
// A driver that Anchor returned looks at the marker of the place through the folder's
// handle before each call works with that handle. So what is exchanged, mounted or
// unmounted under the folder's name meanwhile is never written to.
type Driver struct {
	Root string

	at     destination.Anchor // the place that the driver is tied to; none without an identity
	shared *sharing           // nil has calls wait however long, and open all anew
}

// New makes a driver whose calls end when the folder does not answer: a share that went, or a
// disk that fails. Such a call is left behind, and until it ends all others fail at once.
func New(root string) Driver { return Driver{Root: root, shared: &sharing{}} }

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

// within does something in the folder, within the bounds of a call.
func within[T any](ctx context.Context, d Driver, do func(o *opened, w *watch) (T, error)) (T, error) {
	return bounded(ctx, d, func(w *watch) (is T, err error) {
		o, leave, err := d.enter()
		if err != nil {
			return is, err
		}
		defer leave()
		lies, err := o.atPlace(d.at)
		if err != nil {
			return is, err
		}
		if lies != "" {
			return is, &destination.Error{Cause: queue.Elsewhere,
				Says: fmt.Sprintf("what lies at %s is not the place that was there, %s: %s", d.Root, d.at.ID, lies)}
		}
		return do(o, w)
	})
}

// in is within for what only fails or not.
func (d Driver) in(ctx context.Context, do func(o *opened) error) error {
	_, err := within(ctx, d, func(o *opened, _ *watch) (struct{}, error) { return struct{}{}, do(o) })
	return err
}

// Count implements destination.Counter.
func (d Driver) Count(ctx context.Context, p string) (int64, error) {
	return within(ctx, d, func(o *opened, _ *watch) (int64, error) { return o.count(p) })
}

// SetCount implements destination.Counter.
func (d Driver) SetCount(ctx context.Context, p string, n int64) error {
	return d.in(ctx, func(o *opened) error { return o.setCount(p, n) })
}

// Put implements destination.Driver. The bytes are on disk when it returns.
func (d Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	source := destination.NewBody(ctx, body, size-from)
	defer source.Stop() // nothing reads the body after this, whatever was left behind
	_, err := within(ctx, d, func(o *opened, w *watch) (_ struct{}, err error) {
		f, err := o.temporary(temp, from, destination.Rights(ctx))
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
func (o *opened) temporary(temp string, from int64, rights fs.FileMode) (*os.File, error) {
	in, err := o.folder(destination.TempDir, 0o755)
	if err != nil {
		return nil, err
	}
	if from == 0 {
		name := path.Base(temp)
		f, err := in.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, rights)
		if errors.Is(err, fs.ErrExist) {
			if err := in.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, failure("removing what an earlier try left", err)
			}
			f, err = in.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, rights)
		}
		if err != nil {
			return nil, failure("making the temporary file", err)
		}
		return f, nil
	}
	f, err := o.regular(temp, os.O_WRONLY)
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
	return within(ctx, d, func(o *opened, _ *watch) (int64, error) {
		f, err := o.regular(temp, os.O_RDONLY)
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
	return d.in(ctx, func(o *opened) error {
		from, info, err := o.lookAt(temp)
		if err != nil {
			return failure("looking at the temporary file", err)
		}
		in, err := o.folder(path.Dir(to), folderRights(info.Mode()))
		if err != nil {
			return err
		}
		err = o.link(from, temp, in, to)
		switch {
		case errors.Is(err, fs.ErrExist):
			return destination.ErrExists
		case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.ENOTSUP), errors.Is(err, syscall.ENOSYS), errors.Is(err,
			syscall.EMLINK):
			if err := o.renameNoReplace(from, temp, in, to); err != nil {
				if errors.Is(err, fs.ErrExist) {
					return destination.ErrExists
				}
				return failure("putting the file in place", err)
			}
		case err != nil:
			return failure("putting the file in place", err)
		default:
			if err := from.Remove(path.Base(temp)); err != nil {
				return failure("removing the temporary name", err)
			}
		}
		return in.sync()
	})
}

// folderRights are those of a folder that is made for a file: whoever may read the file may
// enter the folder, and nobody else.
func folderRights(file fs.FileMode) fs.FileMode {
	reads := file.Perm() & 0o044
	return 0o700 | reads | reads>>2
}

// Size implements destination.Driver.
func (d Driver) Size(ctx context.Context, p string) (int64, error) {
	return within(ctx, d, func(o *opened, _ *watch) (int64, error) {
		_, info, err := o.lookAt(p)
		if err != nil {
			return 0, failure("looking at "+p, err)
		}
		return info.Size(), nil
	})
}

// Open implements destination.Driver.
func (d Driver) Open(ctx context.Context, p string) (io.ReadCloser, error) {
	return d.OpenFrom(ctx, p, 0)
}

// OpenFrom implements destination.Ranger.
func (d Driver) OpenFrom(ctx context.Context, p string, from int64) (io.ReadCloser, error) {
	f, err := within(ctx, d, func(o *opened, _ *watch) (*os.File, error) {
		f, err := o.regular(p, os.O_RDONLY)
		if err != nil {
			return nil, failure("opening "+p, err)
		}
		if _, err := f.Seek(from, io.SeekStart); err != nil {
			return nil, errors.Join(failure("reading "+p, err), f.Close())
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
	if r.d.shared == nil {
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
	return d.in(ctx, func(o *opened) error {
		in, err := o.folder(destination.TempDir, 0)
		if err == nil {
			err = in.Remove(path.Base(temp))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
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
	return d.in(ctx, func(o *opened) error {
		in, err := o.folder(path.Dir(temp), 0)
		if err == nil {
			err = in.Chtimes(path.Base(temp), at, at)
		}
		if err != nil {
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
	return d.in(ctx, func(o *opened) error {
		from, _, err := o.lookAt(p)
		if err != nil {
			return failure("looking at "+p, err)
		}
		to, err := o.folder(path.Dir(temp), 0o700)
		if err != nil {
			return err
		}
		if err := o.Rename(p, temp); err != nil {
			return failure("taking "+p+" out of its place", err)
		}
		return errors.Join(from.sync(), to.sync())
	})
}

// Copy implements destination.Copier: a file system that shares blocks does so.
func (d Driver) Copy(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	_, err := within(ctx, d, func(o *opened, w *watch) (struct{}, error) {
		return struct{}{}, copied(ctx, o, p, temp, w)
	})
	return err
}

func copied(ctx context.Context, o *opened, p, temp string, w *watch) error {
	from, err := o.regular(p, os.O_RDONLY)
	if err != nil {
		return failure("opening "+p, err)
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil {
		return failure("looking at "+p, err)
	}
	to, err := o.temporary(temp, 0, info.Mode().Perm())
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
	return within(ctx, d, func(o *opened, w *watch) (entries []destination.Entry, err error) {
		in, err := o.folder(dir, 0)
		if err != nil {
			return nil, failure("listing "+dir, err)
		}
		f, err := in.Open(".") // the handle that is held has one place in the list for all
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
	return d.in(ctx, func(o *opened) error {
		_, err := o.folder(dir, 0o755)
		return err
	})
}

// Tidy implements destination.Browser.
func (d Driver) Tidy(ctx context.Context) error {
	return d.in(ctx, func(o *opened) error {
		err := o.Remove(destination.TempDir)
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
	is, err := within(context.Background(), d, func(o *opened, _ *watch) (uint64, error) {
		id, info, err := o.identity()
		if err != nil || info == nil {
			return 0, err
		}
		h := fnv.New64a()
		fmt.Fprintf(h, "%s %s %s %s", id, inode(info), changed(info), inode(o.info))
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
	return within(ctx, d, func(o *opened, _ *watch) (string, error) {
		_, info, err := o.lookAt(p)
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

// Package folder is the driver for a folder of this machine: a disk or a
// mounted share. Files are put in place with a hard link, which never
// overwrites; where the file system has none, with a rename that does not.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Driver writes below Root, which must exist: a folder that is not there may
// be a disk that is not mounted, and is never made.
type Driver struct {
	Root string
	// Marker tells what the file MarkerName in Root must hold, so that the
	// empty folder under a disk that is not mounted is not filled; nil, or ""
	// from it, asks for none.
	Marker func() (string, error)
}

// MarkerName is the file that tells a destination's folder.
const MarkerName = ".yardtide-marker"

var _ destination.Driver = Driver{}
var _ destination.Resumer = Driver{}
var _ destination.Browser = Driver{}
var _ destination.Spacer = Driver{}

// Put implements destination.Driver. The bytes are on disk when it returns.
func (d Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) (err error) {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.mounted(); err != nil {
		return err
	}
	if err := os.MkdirAll(d.local(destination.TempDir), 0o755); err != nil {
		return failure("making the folder for files on their way", err)
	}
	how := os.O_WRONLY
	if from == 0 {
		how |= os.O_CREATE
	}
	f, err := os.OpenFile(d.local(temp), how, 0o644)
	if from > 0 && errors.Is(err, fs.ErrNotExist) {
		return destination.PartLost()
	}
	if err != nil {
		return failure("making the temporary file", err)
	}
	defer func() {
		if cerr := f.Close(); err == nil && cerr != nil {
			err = failure("closing the temporary file", cerr)
		}
	}()
	if lost, err := destination.GoOn(f, from); err != nil {
		return failure("preparing the temporary file", err)
	} else if lost {
		return destination.PartLost()
	}
	source := destination.NewBody(ctx, body, size-from)
	n, err := io.Copy(f, source)
	_, own := source.Stop()
	switch {
	case own != nil:
		return own
	case err != nil:
		return failure("writing the temporary file", err)
	case n != size-from:
		return io.ErrUnexpectedEOF
	}
	if err := f.Sync(); err != nil {
		return failure("writing the temporary file to disk", err)
	}
	return nil
}

// Kept implements destination.Resumer. The last bytes of a file that was being
// written may not have reached the disk: it goes on some way before its end.
func (d Driver) Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error) {
	f, err := os.Open(d.local(temp))
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
}

// Resumes implements destination.Resumer.
func (d Driver) Resumes() bool { return true }

// Publish implements destination.Driver.
func (d Driver) Publish(_ context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.mounted(); err != nil {
		return err
	}
	dir := filepath.Dir(d.local(to))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return failure("making the folder "+path.Dir(to), err)
	}
	err := os.Link(d.local(temp), d.local(to))
	switch {
	case errors.Is(err, fs.ErrExist):
		return destination.ErrExists
	case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.ENOTSUP), errors.Is(err, syscall.ENOSYS), errors.Is(err, syscall.EMLINK):
		if err := renameNoReplace(d.local(temp), d.local(to)); err != nil {
			if errors.Is(err, fs.ErrExist) {
				return destination.ErrExists
			}
			return failure("putting the file in place", err)
		}
	case err != nil:
		return failure("putting the file in place", err)
	default:
		if err := os.Remove(d.local(temp)); err != nil {
			return failure("removing the temporary name", err)
		}
	}
	return syncDir(dir)
}

// syncDir brings a folder's entries to disk.
func syncDir(dir string) error {
	f, err := os.Open(dir)
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
func (d Driver) Size(_ context.Context, p string) (int64, error) {
	if err := d.mounted(); err != nil {
		return 0, err
	}
	info, err := os.Stat(d.local(p))
	if err != nil {
		return 0, failure("looking at "+p, err)
	}
	if !info.Mode().IsRegular() {
		return 0, &destination.Error{Cause: queue.Refused, Says: fmt.Sprintf("%s is not a file", p)}
	}
	return info.Size(), nil
}

// Open implements destination.Driver.
func (d Driver) Open(_ context.Context, p string) (io.ReadCloser, error) {
	if err := d.mounted(); err != nil {
		return nil, err
	}
	f, err := os.Open(d.local(p))
	if err != nil {
		return nil, failure("opening "+p, err)
	}
	return f, nil
}

// Remove implements destination.Driver.
func (d Driver) Remove(_ context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.mounted(); err != nil {
		return err
	}
	if err := os.Remove(d.local(temp)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return failure("removing "+temp, err)
	}
	return nil
}

// List implements destination.Browser.
func (d Driver) List(_ context.Context, dir string) ([]destination.Entry, error) {
	if err := d.mounted(); err != nil {
		return nil, err
	}
	found, err := os.ReadDir(d.local(dir))
	if err != nil {
		return nil, failure("listing "+dir, err)
	}
	var entries []destination.Entry
	for _, e := range found {
		if e.Name() == MarkerName {
			continue
		}
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
}

// MakeFolder implements destination.Browser.
func (d Driver) MakeFolder(_ context.Context, dir string) error {
	if err := d.mounted(); err != nil {
		return err
	}
	if err := os.MkdirAll(d.local(dir), 0o755); err != nil {
		return failure("making the folder "+dir, err)
	}
	return nil
}

// Tidy implements destination.Browser.
func (d Driver) Tidy(context.Context) error {
	err := os.Remove(d.local(destination.TempDir))
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, syscall.EEXIST) {
		return nil
	}
	return failure("removing the folder for files on their way", err)
}

// Close implements destination.Driver.
func (d Driver) Close() error { return nil }

func (d Driver) local(p string) string { return filepath.Join(d.Root, filepath.FromSlash(p)) }

func (d Driver) mounted() error {
	info, err := os.Stat(d.Root)
	switch {
	case errors.Is(err, fs.ErrNotExist) || err == nil && !info.IsDir():
		return &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the folder %s is not there", d.Root), Err: err}
	case err != nil:
		return failure("looking at "+d.Root, err)
	case d.Marker == nil:
		return nil
	}
	want, err := d.Marker()
	if err != nil || want == "" {
		return err
	}
	has, err := os.ReadFile(filepath.Join(d.Root, MarkerName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return failure("reading the marker", err)
	}
	if strings.TrimSpace(string(has)) != want {
		return &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the folder %s is not the one that was there: its disk is not mounted, or it is another disk (a file %s with the line %s tells the right one)", d.Root, MarkerName, want)}
	}
	return nil
}

// failure tells the cause of a file system's error.
func failure(doing string, err error) error {
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
	}
	return e
}

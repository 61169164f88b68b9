// Package source reads a file of a device, whatever its file system does: a call that
// hangs keeps nobody, and what changed since the file was found is noticed. It does
// not walk folders: scan does.
package source

import (
	"context"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/scan"
)

// Error is a failure of the file, not of the storage.
type Error struct {
	Cause queue.Cause
	Says  string
}

// Error implements error.
func (e Error) Error() string { return e.Says }

// Unreadable is the error of a file that cannot be read, looked at or the like: its own fault, or that of what it lies on,
// which went.
func Unreadable(how string, err error) Error {
	if scan.Left(err) {
		return Error{queue.Away, "What its file lies on went while it was " + how + "."}
	}
	return Error{queue.Unreadable, "The file cannot be " + how + ": " + scan.Reason(err) + "."}
}

// File is a file on the device that is being read. A file system may keep a call
// for ever (a share that went, a disk that fails), and no call can be taken back:
// so each is made by a goroutine of the file's own, and whoever waits for it goes
// when the context ends. What is then left behind ends when the system lets it.
type File struct {
	ctx    context.Context
	f      *os.File
	buffer []byte
	calls  chan func()
	end    sync.Once
}

// Buffer is how much is read in one call.
const Buffer = 256 << 10

// Open opens a regular file; what is read of it ends with the context.
func Open(ctx context.Context, path string) (*File, error) {
	f := &File{ctx: ctx, calls: make(chan func())}
	go func() {
		for call := range f.calls {
			call()
		}
		if f.f != nil {
			_ = f.f.Close() // only read from
		}
	}()
	err := f.call(func() (err error) { f.f, err = scan.Open(path); return err })
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// call has something done by the file's goroutine, and waits for it or the end.
func (f *File) call(do func() error) error {
	done := make(chan error, 1)
	patience := time.NewTimer(Patience)
	defer patience.Stop()
	select {
	case f.calls <- func() { done <- do() }:
	case <-f.ctx.Done():
		return context.Cause(f.ctx)
	case <-patience.C:
		return silent
	}
	select {
	case err := <-done:
		return err
	case <-f.ctx.Done():
		return context.Cause(f.ctx)
	case <-patience.C:
		return silent
	}
}

// Patience is how long a call into a file system may take. A disk that slept is awake by then.
const Patience = 45 * time.Second

// silent is the error of a file system that does not answer.
var silent = Error{Cause: queue.Changed, Says: "The folder of the file does not answer; it is tried again."}

// Close lets go of the file; it waits for nothing.
func (f *File) Close() { f.end.Do(func() { close(f.calls) }) }

// Read implements io.Reader.
func (f *File) Read(p []byte) (n int, err error) {
	return f.through(p, func(own []byte) (int, error) { return f.f.Read(own) })
}

// ReadAt implements io.ReaderAt.
func (f *File) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) && err == nil {
		var got int
		from := at + int64(n) // the call may outlive this one
		got, err = f.through(p[n:], func(own []byte) (int, error) { return f.f.ReadAt(own, from) })
		n += got
	}
	return n, err
}

// through reads by way of a buffer of the file's own: after it was given up, a
// call writes into that one still.
func (f *File) through(p []byte, read func([]byte) (int, error)) (n int, err error) {
	most := min(len(p), Buffer)
	if len(f.buffer) < most {
		f.buffer = make([]byte, most)
	}
	own := f.buffer[:most]
	type part struct {
		n   int
		err error
	}
	done := make(chan part, 1)
	if err := f.call(func() error { got, rerr := read(own); done <- part{got, rerr}; return nil }); err != nil {
		f.buffer = nil
		return 0, err
	}
	got := <-done
	return copy(p, own[:got.n]), got.err
}

var _ io.ReaderAt = (*File)(nil)

// Stamp tells the state of the open file.
func (f *File) Stamp() (scan.Stamp, error) {
	now := make(chan scan.Stamp, 1)
	err := f.call(func() error {
		info, err := f.f.Stat()
		if err == nil {
			now <- scan.StampOf(info)
		}
		return err
	})
	if err != nil {
		return scan.Stamp{}, err
	}
	return <-now, nil
}

// Rights are who may read and write the open file.
func (f *File) Rights() (fs.FileMode, error) {
	now := make(chan fs.FileMode, 1)
	err := f.call(func() error {
		info, err := f.f.Stat()
		if err == nil {
			now <- info.Mode().Perm()
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	return <-now, nil
}

// Unchanged sees that the open file is as it was found: not only its size and
// time, which can be put back.
func (f *File) Unchanged(ctx context.Context, it records.Item) error {
	now, err := f.Stamp()
	if err != nil {
		if context.Cause(ctx) != nil {
			return context.Cause(ctx)
		}
		return Unreadable("looked at", err)
	}
	if !Same(now, it) {
		return Error{queue.Changed, "The file changed since it was found; it is looked at again."}
	}
	return nil
}

// Same tells whether a file that looks so now is the one that was found.
func Same(now scan.Stamp, it records.Item) bool {
	return now.Size == it.Size && now.MTime == it.MTime && now.Inode == it.Inode &&
		(it.CTime == 0 || now.CTime == it.CTime)
}

// IsStill tells whether a path leads to the open file.
func (f *File) IsStill(ctx context.Context, path string) (same bool, err error) {
	still := make(chan bool, 1)
	err = f.call(func() error {
		here, err := f.f.Stat()
		if err != nil {
			return err
		}
		there, err := os.Lstat(path)
		still <- err == nil && os.SameFile(here, there)
		return nil
	})
	if err != nil {
		if context.Cause(ctx) != nil {
			return false, context.Cause(ctx)
		}
		return false, Unreadable("looked at", err)
	}
	return <-still, nil
}

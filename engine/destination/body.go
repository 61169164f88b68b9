package destination

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"

	"yardtide/core/queue"
)

// Body is what a driver reads in Put. It keeps the body's own errors apart
// from those of the storage, ends with the context, and is not read any more
// once it is stopped, whatever a library does in the background.
type Body struct {
	ctx context.Context

	mu  sync.Mutex
	r   io.Reader // nil once stopped
	n   int64
	err error
}

// NewBody reads at most size bytes of r.
func NewBody(ctx context.Context, r io.Reader, size int64) *Body {
	return &Body{ctx: ctx, r: io.LimitReader(r, size)}
}

// Read implements io.Reader.
func (b *Body) Read(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.r == nil {
		return 0, io.ErrClosedPipe
	}
	if b.ctx.Err() != nil {
		b.err = context.Cause(b.ctx)
		return 0, b.err
	}
	n, err := b.r.Read(p)
	b.n += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		b.err = err
	}
	return n, err
}

// Taken tells how many bytes were read so far.
func (b *Body) Taken() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.n
}

// Stop ends the reading and tells how many bytes were taken, and the body's
// own error, if that is what ended it.
func (b *Body) Stop() (n int64, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.r = nil
	return b.n, b.err
}

// CheckTemp refuses what Temp did not make, so that a driver can only ever
// write over or remove temporary files.
func CheckTemp(temp string) error {
	if path.Dir(path.Clean(temp)) != TempDir {
		return &Error{Cause: queue.Bug, Says: fmt.Sprintf("%q is not a temporary name", temp)}
	}
	return nil
}

// ReadBack is a file being read from a storage, whose errors are made the
// driver's own.
func ReadBack(r io.ReadCloser, failure func(error) error) io.ReadCloser { return readBack{r, failure} }

type readBack struct {
	io.ReadCloser
	failure func(error) error
}

func (r readBack) Read(p []byte) (int, error) {
	n, err := r.ReadCloser.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = r.failure(err)
	}
	return n, err
}

func (r readBack) Close() error {
	if err := r.ReadCloser.Close(); err != nil {
		return r.failure(err)
	}
	return nil
}

package inbox

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// WriterAt takes a file in whose pieces come in any order. Its hash is taken once all is there. It is safe for concurrent
// use.
type WriterAt struct {
	w *Writer

	mu   sync.Mutex
	sent int64 // bytes that were written, whatever lies between
}

// CreateAt begins to take such a file in. The error is NoRoom where it cannot be taken.
func (b *Inbox) CreateAt() (*WriterAt, error) {
	w, err := b.Create(-1)
	if err != nil {
		return nil, err
	}
	return &WriterAt{w: w}, nil
}

// WriteAt implements io.WriterAt. The error is NoRoom.
func (a *WriterAt) WriteAt(p []byte, offset int64) (int, error) {
	if offset < 0 {
		return 0, errors.New("no file begins before its beginning")
	}
	a.mu.Lock()
	end := offset + int64(len(p))
	if err := a.w.take(end, roomStep); err != nil {
		a.mu.Unlock()
		return 0, err
	}
	a.w.size = max(a.w.size, end)
	a.sent += int64(len(p))
	a.mu.Unlock()
	n, err := a.w.f.WriteAt(p, offset)
	return n, asRoom(err)
}

// Size is where the file ends.
func (a *WriterAt) Size() int64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.w.size
}

// Drop gives up the file.
func (a *WriterAt) Drop() error { return a.w.Drop() }

// Take brings the file to disk under its name, as Writer.Take does. What has a hole was not sent whole.
func (a *WriterAt) Take(ctx context.Context, way Way, name string, over bool) (Taken, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sent < a.w.size {
		return Taken{}, errors.Join(Different{fmt.Sprintf("%d of %d bytes came", a.sent, a.w.size)}, a.w.Drop())
	}
	if _, err := a.w.f.Seek(0, 0); err != nil {
		return Taken{}, errors.Join(fmt.Errorf("reading a file of an inbox: %w", err), a.w.Drop())
	}
	sum, err := hashed(ctx, a.w.f)
	if err != nil {
		return Taken{}, errors.Join(err, a.w.Drop())
	}
	a.w.sum = sum
	return a.w.Take(ctx, way, name, time.Time{}, over)
}

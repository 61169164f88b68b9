package carry

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"sync/atomic"

	"golang.org/x/time/rate"

	"yardtide/core/allowance"
	"yardtide/core/queue"
	"yardtide/engine/source"
)

// This file reads what is sent: hashed, counted, and no faster than it may go.

// meter counts what a send took from its file, for the allowance and for the
// progress that is shown.
type meter struct {
	n     atomic.Int64
	from  atomic.Int64 // what was there already and is not counted in n
	read  atomic.Int64 // what was read back, to go on from it
	began atomic.Bool  // requests may have left
}

// spent is what may have gone over the network, never more than was reserved.
func (m *meter) spent() int64 {
	if !m.began.Load() {
		return 0
	}
	return allowance.Cost(m.n.Load() + m.read.Load())
}

// sendReader is the body of a send: it reads, hashes and counts, as fast as the
// device may send.
type sendReader struct {
	ctx     context.Context
	f       io.Reader
	meter   *meter
	hash    *digest
	pace    *rate.Limiter
	note    func() error // keeps how much was sent
	noted   int64        // of the meter's count
	n       int64        // how far it has read, with what was skipped
	failure error
}

// skip reads what is at the storage already, for the hash only.
func (r *sendReader) skip(n int64) error {
	if n == 0 {
		return nil
	}
	buffer := make([]byte, 256<<10)
	for r.n < n {
		got, err := r.take(buffer[:min(int64(len(buffer)), n-r.n)])
		if err != nil && got == 0 {
			if errors.Is(err, io.EOF) {
				return source.Error{Cause: queue.Changed, Says: "The file became shorter while it was sent."}
			}
			return err
		}
	}
	return nil
}

func (r *sendReader) take(p []byte) (int, error) {
	if r.ctx.Err() != nil {
		return 0, context.Cause(r.ctx)
	}
	n, err := r.f.Read(p)
	r.n += int64(n)
	if r.hash != nil { // else it is known
		r.hash.write(p[:n])
	}
	if err != nil && !errors.Is(err, io.EOF) {
		r.failure = source.Unreadable("read to its end", err)
		return n, r.failure
	}
	return n, err
}

// Read implements io.Reader.
func (r *sendReader) Read(p []byte) (int, error) {
	limited := r.pace.Limit() != rate.Inf
	if limited {
		p = p[:min(len(p), PaceStep)]
	}
	n, err := r.take(p)
	if sent := r.meter.n.Add(int64(n)); sent-r.noted >= noteEvery {
		r.noted = sent
		if nerr := r.note(); nerr != nil {
			r.failure = nerr
			return n, nerr
		}
	}
	if limited && n > 0 {
		if perr := r.pace.WaitN(r.ctx, n); perr != nil && r.ctx.Err() != nil {
			return 0, context.Cause(r.ctx)
		}
	}
	return n, err
}

// noteEvery is after how many bytes it is kept how much was sent.
const noteEvery = 16 << 20

// PaceStep is how much may go at once under a limit: little enough that no
// sender looks stalled at the lowest limit that a plan takes.
const PaceStep = 64 << 10

// digest hashes beside the sending when a file is large, so that a core that
// is free is used.
type digest struct {
	h      hash.Hash
	chunks chan []byte
	free   chan []byte
	done   chan struct{}
}

const (
	largeFile  = 16 << 20
	chunkSize  = 64 << 10
	chunkCount = 64
)

func newDigest(size int64) *digest {
	d := &digest{h: sha256.New()}
	if size < largeFile {
		return d
	}
	d.chunks, d.free, d.done = make(chan []byte, chunkCount), make(chan []byte, chunkCount), make(chan struct{})
	for range chunkCount {
		d.free <- make([]byte, chunkSize)
	}
	go func() {
		defer close(d.done)
		for c := range d.chunks {
			d.h.Write(c)
			d.free <- c[:chunkSize]
		}
	}()
	return d
}

func (d *digest) write(p []byte) {
	if d.chunks == nil {
		d.h.Write(p)
		return
	}
	for len(p) > 0 {
		c := <-d.free
		n := copy(c[:chunkSize], p)
		d.chunks <- c[:n]
		p = p[n:]
	}
}

// sum ends the hashing; nothing may be written after it.
func (d *digest) sum() string {
	if d.chunks != nil {
		close(d.chunks)
		<-d.done
	}
	return hex.EncodeToString(d.h.Sum(nil))
}

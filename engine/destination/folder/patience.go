package folder

import (
	"context"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// This file bounds the calls into a folder's file system: a share that went, or a disk that
// fails, may keep a call for ever, and no call can be taken back. Such a call is left behind
// in a goroutine of its own; until it ends all other calls of the folder fail at once, so that
// a folder that hangs keeps one goroutine a call that was under way, and nobody else.

// illness counts the calls that a folder has not answered.
type illness struct{ unanswered atomic.Int64 }

const (
	callTime = time.Minute // that a folder has to answer a call
	mebibyte = time.Second // more, for each that is brought to the disk at once
)

func (d Driver) silent() error {
	return &destination.Error{Cause: queue.Unreachable, Says: fmt.Sprintf("the folder %s does not answer", d.Root)}
}

// watch is since when a call waits for the file system, in Unix nanoseconds; 0 while it waits
// for something else.
type watch struct{ since atomic.Int64 }

func (w *watch) begin(more time.Duration) { w.since.Store(time.Now().Add(more).UnixNano()) }
func (w *watch) rest()                    { w.since.Store(0) }

// resting is a body for whose bytes the file system is not to blame.
type resting struct {
	io.Reader
	*watch
}

func (r resting) Read(p []byte) (int, error) {
	r.rest()
	defer r.begin(0)
	return r.Reader.Read(p)
}

// bounded makes a call into the file system, and leaves it behind when it takes longer than it
// may, or the context ends. What a call that was left behind returns is dropped.
func bounded[T any](ctx context.Context, d Driver, call func(w *watch) (T, error)) (is T, err error) {
	w := &watch{}
	w.begin(0)
	if d.shared == nil {
		return call(w)
	}
	if d.shared.unanswered.Load() > 0 {
		return is, d.silent()
	}
	var mu sync.Mutex
	var ended, left bool
	type answer struct {
		is  T
		err error
	}
	answered := make(chan answer, 1)
	go func() {
		var a answer
		a.is, a.err = call(w)
		answered <- a
		mu.Lock()
		defer mu.Unlock()
		if ended = true; left {
			d.shared.unanswered.Add(-1)
		}
	}()
	timer := time.NewTimer(callTime)
	defer timer.Stop()
	for err == nil {
		select {
		case a := <-answered:
			return a.is, a.err
		case <-ctx.Done():
			err = context.Cause(ctx)
		case <-timer.C:
			waits := time.Duration(0)
			if since := w.since.Load(); since != 0 {
				waits = time.Since(time.Unix(0, since))
			}
			if waits >= callTime {
				err = d.silent()
				break
			}
			timer.Reset(callTime - max(0, waits))
		}
	}
	// A call that is cut may end in a moment: it is given one before others fail by it.
	select {
	case <-answered:
		return is, err
	case <-time.After(cutTime):
	}
	mu.Lock()
	defer mu.Unlock()
	if !ended {
		left = true
		d.shared.unanswered.Add(1)
	}
	return is, err
}

// cutTime is how long a call that was cut has to end.
const cutTime = 200 * time.Millisecond

package face

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardtide/core/media"
	"yardtide/engine/cachedir"
	"yardtide/engine/work"
)

// Cache keeps faces as files, of so many bytes at most: the ones that were not
// asked for the longest go first. What it has lost is made again, one of a kind at a
// time and beside whoever asks, so that nothing else is slowed by it. With a Dir and
// no Most it keeps 64 MiB. Close ends what is being made.
type Cache struct {
	Dir  string
	Most int64 // bytes

	mu     sync.Mutex
	making map[media.Kind]*work.Crew // one of a kind is made at a time: no picture waits for a clip
	asked  map[string]*job           // what is being made, or waits for its turn
	ctx    context.Context           // of all that is made; nil before anything was
	end    context.CancelFunc
	closed bool
	known  bool
	bytes  int64
}

// job is a face that is being made.
type job struct {
	done    chan struct{}
	content []byte
	err     error
}

// ErrBusy tells that a face is not made yet: ask again in a moment.
var ErrBusy = errors.New("the small picture is being made")

const (
	mostWaiting = 100                    // of a kind wait for their turn
	patience    = 250 * time.Millisecond // how long who asks waits: a browser has few connections
)

// Of is the face of a key, as JPEG: the one that is kept, or what makes makes. The
// error is ErrNone when there is none to make, which is kept too, or ErrBusy when it
// takes longer; it is made all the same.
func (c *Cache) Of(ctx context.Context, key string, kind media.Kind,
	makes func(context.Context) ([]byte, error)) ([]byte, error) {
	if content, ok := c.get(key, time.Now()); ok {
		return orNone(content)
	}
	j := c.begin(key, kind, makes)
	if j == nil {
		return nil, ErrBusy
	}
	wait := time.NewTimer(patience)
	defer wait.Stop()
	select {
	case <-j.done:
		if j.err != nil {
			return nil, j.err
		}
		return orNone(j.content)
	case <-wait.C:
		return nil, ErrBusy
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// begin has a face made, unless it is already; nil when too many wait.
func (c *Cache) begin(key string, kind media.Kind, makes func(context.Context) ([]byte, error)) *job {
	c.mu.Lock()
	defer c.mu.Unlock()
	if j := c.asked[key]; j != nil {
		return j
	}
	if c.closed {
		return nil
	}
	if c.ctx == nil {
		c.ctx, c.end = context.WithCancel(context.Background())
		c.asked, c.making = map[string]*job{}, map[media.Kind]*work.Crew{}
	}
	if c.making[kind] == nil {
		c.making[kind] = &work.Crew{Hands: 1, Line: mostWaiting}
	}
	j, ctx := &job{done: make(chan struct{})}, c.ctx
	began := c.making[kind].Begin(j, func() {
		defer func() {
			c.mu.Lock()
			delete(c.asked, key)
			c.mu.Unlock()
			close(j.done)
		}()
		if j.err = ctx.Err(); j.err != nil {
			return
		}
		if content, ok := c.get(key, time.Now()); ok { // made between the look and its turn
			j.content = content
			return
		}
		if j.content, j.err = makes(ctx); errors.Is(j.err, ErrNone) {
			j.content, j.err = nil, nil
		}
		if j.err == nil {
			j.err = c.put(key, j.content)
		}
	})
	if !began {
		return nil
	}
	c.asked[key] = j
	return j
}

// Close ends what is being made, and waits for it.
func (c *Cache) Close() {
	c.mu.Lock()
	c.closed = true
	if c.end != nil {
		c.end()
	}
	crews := slices.Collect(maps.Values(c.making))
	c.mu.Unlock()
	for _, crew := range crews {
		crew.End(work.Forever)
	}
}

func orNone(content []byte) ([]byte, error) {
	if len(content) == 0 {
		return nil, ErrNone
	}
	return content, nil
}

const mostKept = 64 << 20

func (c *Cache) most() int64 { return cmp.Or(c.Most, mostKept) }

func (c *Cache) file(key string) string { return filepath.Join(c.Dir, key+".jpg") }

// get reads the face of a key; ok is false when it is not kept. An empty one tells
// that there is none to make.
func (c *Cache) get(key string, now time.Time) (content []byte, ok bool) {
	content, err := os.ReadFile(c.file(key))
	if err != nil {
		return nil, false
	}
	_ = os.Chtimes(c.file(key), time.Time{}, now) // when it was asked for last; without, it goes sooner
	return content, true
}

// put keeps a face.
func (c *Cache) put(key string, content []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return fmt.Errorf("making the folder of small pictures: %w", err)
	}
	if err := c.write(key, content); err != nil {
		return fmt.Errorf("keeping a small picture: %w", err)
	}
	c.bytes += int64(len(content)) + cachedir.PerFile
	if c.known && c.bytes <= c.most() {
		return nil
	}
	var err error
	c.bytes, err = cachedir.Trim(c.Dir, c.most(), c.most()/10*9, nil)
	c.known = err == nil
	return err
}

// write puts a file in place in one step.
func (c *Cache) write(key string, content []byte) error {
	f, err := os.CreateTemp(c.Dir, "new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), c.file(key))
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

package face

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Cache keeps faces as files, of so many bytes at most: the ones that were not
// asked for the longest go first. What it has lost is made again, one at a time, so
// that nothing else on the machine is slowed by it. With a Dir and no Most it keeps
// 64 MiB.
type Cache struct {
	Dir  string
	Most int64 // bytes

	making  sync.Mutex // one is made at a time
	waiting atomic.Int32

	mu    sync.Mutex
	known bool
	bytes int64
}

// ErrBusy tells that too many faces wait to be made: ask again later.
var ErrBusy = errors.New("too many small pictures wait to be made")

const mostWaiting = 200

// Of is the face of a key, as JPEG: the one that is kept, or what makes makes. The
// error is ErrNone when there is none to make, which is kept too, or ErrBusy.
func (c *Cache) Of(ctx context.Context, key string, makes func(context.Context) ([]byte, error)) ([]byte, error) {
	if content, ok := c.get(key, time.Now()); ok {
		return orNone(content)
	}
	if c.waiting.Add(1) > mostWaiting {
		c.waiting.Add(-1)
		return nil, ErrBusy
	}
	defer c.waiting.Add(-1)
	c.making.Lock()
	defer c.making.Unlock()
	if err := context.Cause(ctx); err != nil {
		return nil, err // who asked has gone
	}
	if content, ok := c.get(key, time.Now()); ok {
		return orNone(content)
	}
	content, err := makes(ctx)
	if errors.Is(err, ErrNone) {
		content, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := c.put(key, content); err != nil {
		return nil, err
	}
	return orNone(content)
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
	c.bytes += int64(len(content)) + perFile
	if c.known && c.bytes <= c.most() {
		return nil
	}
	return c.trim()
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

// perFile is what a file takes beside its content, so that empty ones count.
const perFile = 512

// trim removes the oldest until nine tenths of the bound are left.
func (c *Cache) trim() error {
	type kept struct {
		name string
		size int64
		at   time.Time
	}
	var all []kept
	entries, err := os.ReadDir(c.Dir)
	if err != nil {
		return fmt.Errorf("listing the small pictures: %w", err)
	}
	c.bytes, c.known = 0, true
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			continue // gone meanwhile
		}
		all = append(all, kept{e.Name(), info.Size() + perFile, info.ModTime()})
		c.bytes += info.Size() + perFile
	}
	if c.bytes <= c.most() {
		return nil
	}
	slices.SortFunc(all, func(a, b kept) int { return a.at.Compare(b.at) })
	for _, k := range all {
		if c.bytes <= c.most()/10*9 {
			break
		}
		if err := os.Remove(filepath.Join(c.Dir, k.name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing a small picture: %w", err)
		}
		c.bytes -= k.size
	}
	return nil
}

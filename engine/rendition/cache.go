package rendition

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yardtide/core/plan"
	"yardtide/engine/cachedir"
)

// Cache keeps what was made until it was sent, with a bound on its size: what goes too
// early is made again. It is safe for concurrent use.
type Cache struct {
	Dir  string
	Most int64 // bytes; mostKept when 0

	mu     sync.Mutex
	making map[string]chan struct{} // closed when it is made, or is not
}

const mostKept = 512 << 20

var endings = map[string]string{"image/jpeg": ".jpg", "image/png": ".png", "image/heic": ".heic",
	"image/heif": ".heif", "image/avif": ".avif", "video/mp4": ".mp4"}

// Get is a file with the form of a picture that a key stands for: one that was made before,
// or that is made now. The error is AsShot where there is none that is smaller. open opens
// the picture; how says what was made, "" when it was there.
func (c *Cache) Get(ctx context.Context, key string, r plan.Rendition,
	open func() (Source, func(), error)) (file string, made Made, err error) {
	for {
		c.mu.Lock()
		if c.making == nil {
			c.making = map[string]chan struct{}{}
		}
		done, busy := c.making[key]
		if !busy {
			done = make(chan struct{})
			c.making[key] = done
			c.mu.Unlock()
			defer func() {
				c.mu.Lock()
				delete(c.making, key)
				c.mu.Unlock()
				close(done)
			}()
			break
		}
		c.mu.Unlock()
		select {
		case <-done:
		case <-ctx.Done():
			return "", made, context.Cause(ctx)
		}
	}
	if file, made, err := c.kept(key); err != nil || file != "" {
		return file, made, err
	}
	return c.make(ctx, key, r, open)
}

// kept is what was made before, "" when there is none. Its name has its hash: what is not
// what was made goes.
func (c *Cache) kept(key string) (file string, made Made, err error) {
	files, err := filepath.Glob(filepath.Join(c.Dir, key+"-*"))
	if err != nil {
		return "", made, fmt.Errorf("looking for a rendition: %w", err)
	}
	for _, file := range files {
		sum, n, err := hashOf(file)
		stem, ending := strings.TrimSuffix(file, filepath.Ext(file)), filepath.Ext(file)
		if err == nil && strings.HasSuffix(stem, "-"+sum) {
			now := time.Now()
			_ = os.Chtimes(file, now, now) // it was wanted; a failure only has it go earlier
			return file, Made{ContentType: typeOf(ending), Bytes: n}, nil
		}
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", made, fmt.Errorf("removing a damaged rendition: %w", err)
		}
	}
	return "", made, nil
}

func hashOf(file string) (sum string, n int64, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

func typeOf(ending string) string {
	for contentType, e := range endings {
		if e == ending {
			return contentType
		}
	}
	return ""
}

func (c *Cache) make(ctx context.Context, key string, r plan.Rendition,
	open func() (Source, func(), error)) (file string, made Made, err error) {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return "", made, fmt.Errorf("making the folder of renditions: %w", err)
	}
	src, shut, err := open()
	if err != nil {
		return "", made, err
	}
	defer shut()
	src.Scratch = c.Dir
	out, err := os.CreateTemp(c.Dir, unfinished+"*")
	if err != nil {
		return "", made, fmt.Errorf("making a rendition: %w", err)
	}
	h := sha256.New()
	made, err = Reduce(ctx, src, r, io.MultiWriter(out, h))
	if err == nil {
		err = out.Sync()
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		file = filepath.Join(c.Dir, key+"-"+hex.EncodeToString(h.Sum(nil))+endings[made.ContentType])
		err = os.Rename(out.Name(), file)
	}
	if err != nil {
		var as AsShot
		rerr := os.Remove(out.Name())
		if errors.As(err, &as) {
			return "", Made{}, errors.Join(as, rerr)
		}
		return "", Made{}, errors.Join(err, rerr)
	}
	most, stays := cmp.Or(c.Most, mostKept), filepath.Base(file)
	// A failure only has the cache be larger until the next is made.
	_, _ = cachedir.Trim(c.Dir, most, most, func(name string) bool {
		return name == stays || strings.HasPrefix(name, unfinished)
	})
	return file, made, nil
}

// unfinished begins the names of files that are not whole.
const unfinished = "making-"

// Drop removes what was made for a key: it was sent.
func (c *Cache) Drop(key string) error { return c.remove(key + "-*") }

// Clean removes what a kill left unfinished.
func (c *Cache) Clean() error { return c.remove(unfinished + "*") }

// remove removes the files whose names are of a pattern.
func (c *Cache) remove(pattern string) error {
	files, err := filepath.Glob(filepath.Join(c.Dir, pattern))
	if err != nil {
		return fmt.Errorf("looking for renditions that are of no more use: %w", err)
	}
	for _, file := range files {
		if err := os.RemoveAll(file); err != nil { // a folder of frames, too
			return fmt.Errorf("removing a rendition that is of no more use: %w", err)
		}
	}
	return nil
}

package destinationtest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strconv"
	"strings"
	"sync"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Disk is a storage in memory. The zero value is empty.
type Disk struct {
	mu    sync.Mutex
	files map[string]inMemory
}

type inMemory struct {
	content []byte
	stamp   string
}

// Copy is the disk block for block: its files have the same stamps.
func (k *Disk) Copy() *Disk {
	k.mu.Lock()
	defer k.mu.Unlock()
	return &Disk{files: maps.Clone(k.files)}
}

// Files are the contents by path, without temporary ones.
func (k *Disk) Files() map[string]string {
	k.mu.Lock()
	defer k.mu.Unlock()
	all := map[string]string{}
	for path, f := range k.files {
		if !strings.HasPrefix(path, destination.TempDir+"/") {
			all[path] = string(f.content)
		}
	}
	return all
}

// write puts a file in place of what lies there. The caller has the lock.
func (k *Disk) write(path string, content []byte) {
	if k.files == nil {
		k.files = map[string]inMemory{}
	}
	k.files[path] = inMemory{content, destination.NewIdentity()}
}

// Memory is a driver of whichever disk At returns at the moment of a call. Tied (see
// destination.Anchorer), it fails at any disk but the one of the place: see Counts. A Memory alone
// is as a storage across a network, that is not tied.
type Memory struct {
	At func() *Disk
	// Before is called before each call with its name; its error is the call's.
	Before func(call string) error
}

func (m Memory) call(ctx context.Context, name string) (*Disk, error) {
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if m.Before != nil {
		if err := m.Before(name); err != nil {
			return nil, err
		}
	}
	return m.At(), nil
}

// Put implements destination.Driver.
func (m Memory) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	k, err := m.call(ctx, "put")
	if err != nil {
		return err
	}
	content, err := io.ReadAll(io.LimitReader(body, size-from))
	switch {
	case err != nil:
		return err
	case int64(len(content)) != size-from:
		return io.ErrUnexpectedEOF
	case ctx.Err() != nil:
		return context.Cause(ctx)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.write(temp, content)
	return nil
}

// Publish implements destination.Driver.
func (m Memory) Publish(ctx context.Context, temp, path string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return m.move(ctx, "publish", temp, path)
}

// Withdraw implements destination.Driver.
func (m Memory) Withdraw(ctx context.Context, path, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	return m.move(ctx, "withdraw", path, temp)
}

func (m Memory) move(ctx context.Context, call, from, to string) error {
	k, err := m.call(ctx, call)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	f, there := k.files[from]
	if !there {
		return destination.ErrNotFound
	}
	if _, taken := k.files[to]; taken {
		return destination.ErrExists
	}
	delete(k.files, from)
	k.files[to] = f
	return nil
}

// Size implements destination.Driver.
func (m Memory) Size(ctx context.Context, path string) (int64, error) {
	k, err := m.call(ctx, "size")
	if err != nil {
		return 0, err
	}
	f, err := k.read(path)
	return int64(len(f.content)), err
}

// Open implements destination.Driver.
func (m Memory) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	k, err := m.call(ctx, "open")
	if err != nil {
		return nil, err
	}
	f, err := k.read(path)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(bytes.NewReader(f.content)), nil
}

func (k *Disk) read(path string) (inMemory, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f, there := k.files[path]
	if !there {
		return f, destination.ErrNotFound
	}
	return f, nil
}

// Remove implements destination.Driver.
func (m Memory) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	k, err := m.call(ctx, "remove")
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.files, temp)
	return nil
}

// Close implements destination.Driver.
func (Memory) Close() error { return nil }

// Places is a Memory that takes a file under its own name, as object storage does.
type Places struct{ Memory }

// Place implements destination.Placer.
func (p Places) Place(ctx context.Context, path string, content []byte, _ string) error {
	k, err := p.call(ctx, "place")
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, taken := k.files[path]; taken {
		return destination.ErrExists
	}
	k.write(path, bytes.Clone(content))
	return nil
}

// Counts is a Memory that counts what is put there, and that can be tied to a place, as a folder
// is.
type Counts struct{ Memory }

// Anchor implements destination.Anchorer.
func (c Counts) Anchor(at destination.Anchor) destination.Driver {
	before, is := c.Before, c.At
	c.Before = func(call string) error {
		if before != nil {
			if err := before(call); err != nil {
				return err
			}
		}
		return here(is(), at)
	}
	return c
}

// here tells whether a disk is the one of a place.
func here(k *Disk, at destination.Anchor) error {
	marker, err := k.read(destination.MarkerName)
	if err != nil && !errors.Is(err, destination.ErrNotFound) {
		return err
	}
	n, _ := k.count(at.Put)
	if strings.TrimSpace(string(marker.content)) != at.ID || at.Stamp != "" && marker.stamp != at.Stamp || n < at.Least {
		return &destination.Error{Cause: queue.Elsewhere, Says: "what lies there is not the place " + at.ID}
	}
	return nil
}

func (k *Disk) count(path string) (int64, error) {
	f, err := k.read(path)
	if err != nil {
		return 0, nil // without a counter nothing was put there
	}
	n, err := strconv.ParseInt(string(f.content), 10, 64)
	if err != nil {
		return 0, fmt.Errorf("reading the counter %s: %w", path, err)
	}
	return n, nil
}

// Count implements destination.Counter.
func (c Counts) Count(ctx context.Context, path string) (int64, error) {
	k, err := c.call(ctx, "count")
	if err != nil {
		return 0, err
	}
	return k.count(path)
}

// SetCount implements destination.Counter.
func (c Counts) SetCount(ctx context.Context, path string, n int64) error {
	k, err := c.call(ctx, "set count")
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.write(path, []byte(strconv.FormatInt(n, 10)))
	return nil
}

// Stamp implements destination.Stamper.
func (c Counts) Stamp(ctx context.Context, path string) (string, error) {
	k, err := c.call(ctx, "stamp")
	if err != nil {
		return "", err
	}
	f, err := k.read(path)
	return f.stamp, err
}

package device_test

import (
	"context"
	"io"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/wire"
)

// hostile is a folder that answers as a storage that means ill, or is broken.
type hostile struct {
	folder.Driver
	endless, within atomic.Bool
	read            atomic.Int64
}

type endless struct{ of *hostile }

func (e endless) Read(p []byte) (int, error) { e.of.read.Add(int64(len(p))); return len(p), nil }
func (endless) Close() error                 { return nil }

// Anchor stays what it is: it means ill wherever it is tied.
func (h *hostile) Anchor(destination.Anchor) destination.Driver { return h }

func (h *hostile) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	if h.endless.Load() && path != destination.MarkerName {
		return endless{h}, nil
	}
	return h.Driver.Open(ctx, path)
}

func (h *hostile) List(ctx context.Context, dir string) ([]destination.Entry, error) {
	if h.within.Load() { // a folder that shows itself within itself
		return []destination.Entry{{Name: "again", Folder: true}, {Name: "a.jpg", Size: 9}}, nil
	}
	return h.Driver.List(ctx, dir)
}

func TestAStorageThatNeverEndsIsNotReadForEver(t *testing.T) {
	t.Parallel()
	h := &hostile{Driver: folder.New(t.TempDir())}
	y := newHouse(t, "folder", "", "", func() destination.Driver { return h }, "phone")
	y.until("phone", "its place is known", func(wire.Device) bool {
		text, err := y.devices["phone"].Records.Facts.Fact(t.Context(), "place locker")
		return err == nil && text != ""
	})
	h.endless.Store(true)
	y.file("phone", "a.jpg", long(t, 100_000))
	y.until("phone", "found out", func(s wire.Device) bool { return s.States[queue.Stuck].N == 1 })
	assert.Less(t, h.read.Load(), int64(50<<20), "no more than the file has, each time")
	h.endless.Store(false)
	h.within.Store(true)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	a, err := y.devices["phone"].Orders.Adopt(ctx, "locker", func(wire.Adopted) {})
	require.NoError(t, err)
	assert.LessOrEqual(t, a.Files, int64(100), "it is not followed for ever")
}

func TestNamesThatLeadElsewhereAreNone(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"", ".", "..", "a/b", "/", "../a", "a\x00b"} {
		assert.False(t, destination.Plain(name), "%q", name)
	}
	for _, name := range []string{"a", "...", "..a", ".a", "ä b", "a\\b"} {
		assert.True(t, destination.Plain(name), "%q", name)
	}
}

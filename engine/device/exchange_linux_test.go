package device_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	imagejpeg "image/jpeg"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/wire"
)

// disk is a file system of its own, that can be mounted in place of another.
type disk func(t *testing.T, at string)

// disks are the kinds of disks that are exchanged. Two of a kind that begin alike have the
// same number of their root.
var disks = map[string]func(t *testing.T) disk{
	"tmpfs": func(*testing.T) disk { return mounts("-t", "tmpfs", "none") },
	"ext4":  func(t *testing.T) disk { return mounts("-o", "loop", diskImage(t, "mkfs.ext4", "-q", "-F")) },
	"xfs":   func(t *testing.T) disk { return mounts("-o", "loop,nouuid", diskImage(t, "mkfs.xfs", "-q")) },
	"a bind mount": func(t *testing.T) disk {
		return mounts("--bind", t.TempDir())
	},
}

func diskImage(t *testing.T, make string, arguments ...string) string {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 320<<20)) // the least that xfs takes; it is sparse
	out, err := exec.Command(make, append(arguments, path)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return path
}

func mounts(arguments ...string) disk {
	return func(t *testing.T, at string) {
		out, err := exec.Command("mount", append(arguments, at)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
}

func unmount(t *testing.T, at string) {
	require.NoError(t, unix.Unmount(at, unix.MNT_DETACH))
}

func needsMounts(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may mount")
	}
}

// exchanging has something happen before one call of a driver, counted from the start.
type exchanging struct {
	destination.Driver
	*instant
}

type instant struct {
	calls atomic.Int64
	at    int64
	do    func()

	mu   sync.Mutex
	past bool // it happens no more
}

func (i *instant) now() {
	if i.calls.Add(1) != i.at {
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if !i.past {
		i.do()
	}
}

// end has it happen no more: a device that rests looks at its places, too.
func (i *instant) end() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.past = true
}

func (e exchanging) Anchor(at destination.Anchor) destination.Driver {
	e.Driver = destination.AnchorTo(e.Driver, at)
	return e
}

func (e exchanging) Count(ctx context.Context, path string) (int64, error) {
	e.now()
	return e.Driver.(destination.Counter).Count(ctx, path)
}

func (e exchanging) SetCount(ctx context.Context, path string, n int64) error {
	e.now()
	return e.Driver.(destination.Counter).SetCount(ctx, path, n)
}

func (e exchanging) Connection() uint64 {
	e.now()
	return destination.ConnectionOf(e.Driver)
}

func (e exchanging) Stamp(ctx context.Context, path string) (string, error) {
	e.now()
	return e.Driver.(destination.Stamper).Stamp(ctx, path)
}

// reading exchanges in the middle of what is read of a body.
type reading struct {
	io.Reader
	now func()
}

func (r reading) Read(p []byte) (int, error) {
	r.now()
	return r.Reader.Read(p[:min(len(p), 4096)])
}

func (e exchanging) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	e.now()
	return e.Driver.Put(ctx, temp, reading{body, e.now}, from, size)
}

func (e exchanging) Publish(ctx context.Context, temp, path string) error {
	e.now()
	defer e.now()
	return e.Driver.Publish(ctx, temp, path)
}

func (e exchanging) Size(ctx context.Context, path string) (int64, error) {
	e.now()
	return e.Driver.Size(ctx, path)
}

func (e exchanging) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	e.now()
	defer e.now()
	return e.Driver.Open(ctx, path)
}

func TestADiskIsExchangedAtEveryInstantOfASend(t *testing.T) {
	t.Parallel()
	needsMounts(t)
	for kind, anew := range disks {
		t.Run(kind, func(t *testing.T) {
			own, stranger := anew(t), anew(t)
			// engine/place meets every instant; here some of them, others each time: make soak meets all.
			step := int64(8)
			switch {
			case os.Getenv("YARDTIDE_EXCHANGES") != "":
				step = 1
			case kind == "tmpfs":
				step = 3
			}
			for at := 1 + rand.Int64N(step); exchanged(t, own, stranger, at); at += step {
				require.Less(t, at, int64(500))
			}
		})
	}
}

// exchanged has a disk exchanged for a stranger before one call of a send, and put back
// later. It tells whether the send came so far.
func exchanged(t *testing.T, own, stranger disk, at int64) (reached bool) {
	b := quietBerth(t, "mount")
	require.NoError(t, os.WriteFile(b.path+"/under the mount", nil, 0o600))
	own(t, b.path)
	var mounted atomic.Int64
	mounted.Store(1)
	defer func() {
		b.stop()
		for range mounted.Load() {
			unmount(t, b.path)
		}
	}()
	b.start()
	b.picture("1.jpg")
	b.picture("2.jpg")
	b.until("safe", counts(queue.Safe, 2))
	b.stop()
	when := &instant{at: at, do: func() { stranger(t, b.path); mounted.Add(1) }}
	b.wrap = func(d destination.Driver) destination.Driver { return exchanging{d, when} }
	b.start()
	b.picture("3.jpg")
	b.until(fmt.Sprintf("settled at %d", at), func(s wire.Device) bool {
		return s.States[queue.Safe].N == 3 && when.calls.Load() < at || mounted.Load() == 2 && s.States[queue.Safe].N == 0
	})
	when.end()
	if reached = mounted.Load() == 2; reached {
		b.until("the stranger has none of them", counts(queue.Safe, 0))
		entries, err := os.ReadDir(b.path)
		require.NoError(t, err)
		for _, e := range entries {
			assert.Equal(t, "lost+found", e.Name(), "before call %d: written to the stranger's disk", at)
		}
		unmount(t, b.path)
		mounted.Add(-1)
		b.until("safe on the first disk", counts(queue.Safe, 3))
	}
	b.nothingIsCalledSafeThatIsNot(fmt.Sprintf("before call %d", at))
	assert.Len(t, b.files("mount"), 3, "before call %d: none twice", at)
	return reached
}

func TestADiskIsUnmountedInTheMiddle(t *testing.T) {
	t.Parallel()
	needsMounts(t)
	step := int64(2)
	if os.Getenv("YARDTIDE_EXCHANGES") != "" {
		step = 1
	}
	for at := 1 + rand.Int64N(step); ; at += step {
		b := quietBerth(t, "mount")
		mounts("-t", "tmpfs", "none")(t, b.path)
		b.start()
		b.picture("1.jpg")
		b.until("safe", counts(queue.Safe, 1))
		b.stop()
		var gone atomic.Bool
		when := &instant{at: at, do: func() { unmount(t, b.path); gone.Store(true) }}
		b.wrap = func(d destination.Driver) destination.Driver { return exchanging{d, when} }
		b.start()
		b.picture("2.jpg")
		b.until("settled", func(s wire.Device) bool {
			return s.States[queue.Safe].N == 2 && when.calls.Load() < at || gone.Load() && s.States[queue.Safe].N == 0
		})
		when.end()
		reached := gone.Load()
		if reached {
			b.until("the place is away", counts(queue.Safe, 0))
			entries, err := os.ReadDir(b.path)
			require.NoError(t, err)
			assert.Empty(t, entries, "before call %d: written under the bare mount point", at)
		}
		b.stop()
		if !reached {
			unmount(t, b.path)
			require.Greater(t, at, int64(8))
			return
		}
	}
}

// behind is a storage across a network: nobody sees which disk its server has. It is
// exchanged before one call.
type behind struct {
	*instant
	now *atomic.Pointer[string]
}

func (b behind) disk() folder.Driver {
	b.instant.now()
	return folder.Driver{Root: *b.now.Load()}
}

func (b behind) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	defer b.instant.now()
	return b.disk().Put(ctx, temp, body, from, size)
}
func (b behind) Publish(ctx context.Context, temp, path string) error {
	return b.disk().Publish(ctx, temp, path)
}
func (b behind) Size(ctx context.Context, path string) (int64, error) {
	return b.disk().Size(ctx, path)
}
func (b behind) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	return b.disk().Open(ctx, path)
}
func (b behind) Remove(ctx context.Context, temp string) error { return b.disk().Remove(ctx, temp) }
func (b behind) Withdraw(ctx context.Context, path, temp string) error {
	return b.disk().Withdraw(ctx, path, temp)
}
func (b behind) Close() error { return nil }

func TestTheDiskBehindAServerIsExchanged(t *testing.T) {
	t.Parallel()
	for at := int64(1); ; at++ {
		b := quietBerth(t, "first")
		second := b.place("second")
		require.NoError(t, os.MkdirAll(second, 0o755))
		now, when := new(atomic.Pointer[string]), &instant{at: -1}
		now.Store(&b.path)
		var exchanged atomic.Bool
		when.do = func() { now.Store(&second); exchanged.Store(true) }
		b.wrap = func(destination.Driver) destination.Driver { return behind{when, now} }
		b.start()
		b.picture("1.jpg")
		b.until("safe", counts(queue.Safe, 1))
		b.stop()
		when.calls.Store(0)
		when.at = at
		b.start()
		b.picture("2.jpg")
		b.until(fmt.Sprintf("settled at %d", at), func(s wire.Device) bool {
			return s.States[queue.Safe].N == 2 && when.calls.Load() < at || exchanged.Load() && s.States[queue.Safe].N == 0
		})
		when.end()
		reached := exchanged.Load()
		now.Store(&b.path)
		b.until("safe at the first", counts(queue.Safe, 2))
		b.nothingIsCalledSafeThatIsNot(fmt.Sprintf("before call %d", at))
		b.stop()
		if !reached {
			require.Greater(t, at, int64(5))
			return
		}
	}
}

// TestAnOlderCopyOfADiskIsNoPlace clones a disk block for block, puts more on the first, and
// then mounts the clone in its place: marker, inodes and times are the same.
func TestAnOlderCopyOfADiskIsNoPlace(t *testing.T) {
	t.Parallel()
	needsMounts(t)
	for _, answer := range []string{"back", "moved"} {
		t.Run(answer, func(t *testing.T) {
			first := diskImage(t, "mkfs.ext4", "-q", "-F")
			clone := first + ".clone"
			b := quietBerth(t, "mount")
			mounts("-o", "loop", first)(t, b.path)
			defer func() { unmount(t, b.path) }()
			defer func() { b.stop() }()
			b.start()
			b.picture("1.jpg")
			b.until("safe", counts(queue.Safe, 1))
			b.stop()
			unmount(t, b.path)
			require.NoError(t, exec.Command("cp", "--sparse=always", first, clone).Run())
			mounts("-o", "loop", first)(t, b.path)
			b.start()
			b.picture("2.jpg")
			b.until("safe on the first", counts(queue.Safe, 2))

			b.stop() // or the disk is in use
			unmount(t, b.path)
			mounts("-o", "loop", clone)(t, b.path)
			b.start()
			b.picture("3.jpg")
			b.until("asked", func(s wire.Device) bool { return s.States[queue.Safe].N == 0 && heldBy(gate.Place, 2)(s) })
			assert.Len(t, b.files("mount"), 1, "nothing is sent to it")
			says, _ := b.device.Told.PlaceProblem("locker")
			assert.Contains(t, says, "it is an older copy of it, without what was put there last")
			if answer == "moved" {
				_, err := b.device.Orders.SettlePlace(t.Context(), "locker", true)
				require.NoError(t, err)
			} else {
				b.stop()
				unmount(t, b.path)
				mounts("-o", "loop", first)(t, b.path)
				b.start()
			}
			b.until("safe", counts(queue.Safe, 3))
			b.nothingIsCalledSafeThatIsNot("after the answer")
			assert.Len(t, b.files("mount"), 3)
		})
	}
}

// TestTimesBeyondSixtyFourBitsDoNotWrap has files of the years 2300 and 1600.
func TestTimesBeyondSixtyFourBitsDoNotWrap(t *testing.T) {
	t.Parallel()
	needsMounts(t)
	b := quietBerth(t, "loft")
	mounts("-t", "tmpfs", "none")(t, b.dir+"/phone") // not every disk has such times
	defer func() { b.stop(); unmount(t, b.dir+"/phone") }()
	require.NoError(t, os.Mkdir(b.dir+"/phone/DCIM", 0o755))
	b.start()
	for name, at := range map[string]time.Time{"later.jpg": time.Date(2300, 5, 1, 0, 0, 0, 0, time.UTC),
		"2040.jpg": time.Date(2040, 5, 1, 0, 0, 0, 0, time.UTC)} {
		file := b.dir + "/phone/" + name
		var plain bytes.Buffer // which tells no time itself
		require.NoError(t, imagejpeg.Encode(&plain, image.NewGray(image.Rect(0, 0, 8+len(name), 8)), nil))
		require.NoError(t, os.WriteFile(file, plain.Bytes(), 0o600))
		stamp := unix.Timespec{Sec: at.Unix()} // os.Chtimes goes by nanoseconds, which wrap
		require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, file, []unix.Timespec{stamp, stamp}, 0))
		require.NoError(t, os.Rename(file, b.dir+"/phone/DCIM/"+name))
	}
	b.until("safe", counts(queue.Safe, 2))
	for _, c := range b.safe() {
		assert.Regexp(t, map[string]string{"later.jpg": "^2300/05/", "2040.jpg": "^2040/05/"}[c.Name], c.Remote)
	}
}

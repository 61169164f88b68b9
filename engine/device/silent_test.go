package device_test

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/wire"
)

// silentFolder is a folder that answers nothing for as long as it likes, as a network mount whose
// server went.
type silentFolder struct {
	fs.Inode
	hangs   atomic.Bool
	asked   atomic.Int64
	release chan struct{}
}

func (f *silentFolder) wait() {
	if f.hangs.Load() {
		f.asked.Add(1)
		<-f.release
	}
}

func (f *silentFolder) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	f.wait()
	out.Mode = fuse.S_IFDIR | 0o755
	return 0
}

func (f *silentFolder) Lookup(context.Context, string, *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	f.wait()
	return nil, syscall.ENOENT
}

func (f *silentFolder) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	f.wait()
	return fs.NewListDirStream(nil), 0
}

func mountSilent(t *testing.T, at string) *silentFolder {
	if os.Geteuid() != 0 {
		t.Skip("mounting a file system needs root")
	}
	require.NoError(t, os.MkdirAll(at, 0o755))
	f := &silentFolder{release: make(chan struct{})}
	server, err := fs.Mount(at, f, &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true}})
	require.NoError(t, err)
	f.hangs.Store(true)
	t.Cleanup(func() {
		f.hangs.Store(false)
		close(f.release)
		// A call that was left behind may hold the folder open for a while, beside much else.
		assert.Eventually(t, func() bool { return server.Unmount() == nil }, time.Minute, 50*time.Millisecond)
	})
	return f
}

// TestASourceThatHangsKeepsOnlyItself has one source hang from the start, or once it was walked: the others go on, a
// plan change goes through, and the page says which one does not answer.
func TestASourceThatHangsKeepsOnlyItself(t *testing.T) {
	t.Parallel()
	for _, walked := range []bool{false, true} {
		t.Run(fmt.Sprintf("walked before: %v", walked), func(t *testing.T) {
			t.Parallel()
			y := setup(t, home)
			f := mountSilent(t, y.dir+"/phone/Share")
			f.hangs.Store(!walked)
			with := func(more string) {
				p, err := plantext.Parse("plan", []byte(strings.Replace(strings.Replace(yardPlan, "    sources:\n",
					"    sources:\n      - {folder: Share, rule: everyday}\n", 1), "    take: [photo, video]\n",
					"    take: [photo, video]\n    order: "+more+"\n", 1)))
				require.NoError(t, err)
				y.device.SetPlan(p)
			}
			with("newest")
			y.until("it is walked, where it answers", func(s wire.Device) bool {
				return !walked || slices.ContainsFunc(s.Sources, func(one wire.Source) bool {
					return one.Folder == "Share" && !one.Scanned.IsZero()
				})
			})
			f.hangs.Store(true)
			y.picture("a.jpg", 1)
			y.until("what lies beside it goes", counts(queue.Safe, 1))
			require.Eventually(t, func() bool { return f.asked.Load() > 0 }, time.Minute, 5*time.Millisecond)
			for _, more := range []string{"oldest", "smallest", "newest"} {
				with(more)
			}
			y.picture("b.jpg", 2)
			y.until("a plan change went through", counts(queue.Safe, 2))
			y.until("the page says so", func(s wire.Device) bool {
				for _, source := range s.Sources {
					for _, p := range source.Problems {
						if source.Folder == "Share" && p.Says == "The folder does not answer." {
							return true
						}
					}
				}
				return false
			})
			began := time.Now()
			y.stop()
			assert.Less(t, time.Since(began), 8*time.Second, "nor does it keep the stop")
		})
	}
}

// TestAPlaceThatHangsFailsByItself has a folder not answer any more: its calls end, those that
// follow fail at once, and it works again when it answers.
func TestAPlaceThatHangsFailsByItself(t *testing.T) {
	t.Parallel()
	at := t.TempDir() + "/share"
	f := mountSilent(t, at)
	d := folder.New(at)
	limited, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err := d.Size(limited, "a.jpg")
	require.Error(t, err)
	began := time.Now()
	for range 100 {
		_, err = d.Size(t.Context(), "a.jpg")
		assert.Equal(t, queue.Unreachable, destination.CauseOf(err), "%v", err)
	}
	assert.Less(t, time.Since(began), time.Second)
	assert.LessOrEqual(t, f.asked.Load(), int64(3), "it is not asked again and again")
	_, err = d.Space(t.Context())
	assert.Equal(t, queue.Unreachable, destination.CauseOf(err))
	f.hangs.Store(false)
	f.release <- struct{}{}
	require.Eventually(t, func() bool {
		_, err = d.Size(t.Context(), "a.jpg")
		return assert.ObjectsAreEqual(true, err != nil && destination.CauseOf(err) != queue.Unreachable)
	}, time.Minute, 10*time.Millisecond)
	assert.ErrorIs(t, err, destination.ErrNotFound)
}

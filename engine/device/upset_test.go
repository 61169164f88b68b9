package device_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
)

// The plan changes at every moment of a send: a destination leaves its rule, a
// rule or a source goes, and they come back. Nothing goes on that the plan does
// not ask for, nothing ends in a fault, and in the end all of it is safe.
func TestThePlanChangesAtEveryMomentOfASend(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	const head = "yard: T\ntimezone: UTC\ndestinations:\n  locker: {kind: webdav, url: 'http://127.0.0.1/dav/'}\n  " +
		"other: {kind: webdav, url: 'http://127.0.0.1/dav/'}\ndevices:\n  phone:\n    sources: [%s]\nrules:\n  " +
		"everyday: {take: [%s], to: [%s], lanes: [{over: wifi}]}\n  spare: {take: [photo], to: [%s], lanes: [{over: wifi}]}\n"
	parse := func(sources, take, to, spare string) *plan.Plan {
		p, err := plantext.Parse("plan", []byte(fmt.Sprintf(head, sources, take, to, spare)))
		require.NoError(t, err)
		return p
	}
	full := parse("{folder: DCIM, rule: everyday}", "photo, video", "locker", "locker")
	plans := []*plan.Plan{
		full,
		parse("{folder: DCIM, rule: everyday}", "photo", "other", "locker"),  // its destination left the rule
		parse("{folder: DCIM, rule: everyday}", "video", "locker", "locker"), // its kind did
		parse("{folder: Elsewhere, rule: everyday}", "photo", "locker", "locker"),
		parse("{folder: DCIM, rule: spare}", "photo", "other", "locker"), // another rule has it
	}
	require.NoError(t, os.MkdirAll(y.dir+"/phone/Elsewhere", 0o755))
	r := rand.New(rand.NewPCG(7, 7))
	for i := range 60 {
		if i%2 == 0 {
			y.picture(fmt.Sprintf("%03d.jpg", i), i)
		}
		y.device.SetPlan(plans[r.IntN(len(plans))])
		time.Sleep(time.Duration(r.IntN(25)) * time.Millisecond)
		assert.Empty(t, y.status().Problem)
		if i%10 != 9 {
			continue
		}
		// What is not asked for is not sent: whatever is on its way then ends.
		y.device.SetPlan(plans[3])
		y.until("nothing is on its way", func(s wire.Device) bool { return len(s.Sends) == 0 })
		before := len(y.stored())
		time.Sleep(50 * time.Millisecond)
		assert.Len(t, y.stored(), before, "and nothing follows")
	}
	y.device.SetPlan(full)
	y.until("all safe", func(s wire.Device) bool {
		_, err := y.device.Orders.Retry(t.Context(), nil)
		require.NoError(t, err)
		at := 0
		for _, c := range copiesIn(t, y.records, queue.Safe) {
			if c.Destination == "locker" && c.GoneMS == 0 {
				at++
			}
		}
		return at == 30 && s.States[queue.Waiting].N+s.States[queue.Proving].N+s.States[queue.Stuck].N == 0
	})
	assert.Empty(t, y.status().Problem)
	for _, c := range copiesIn(t, y.records, queue.Stuck) {
		assert.Fail(t, "stuck", "%s: %s", c.Name, c.Says)
	}
	y.whole()
}

// hung is a file system that lets files be looked at, and keeps who reads them for
// as long as it likes.
type hung struct {
	fs.Inode
	release chan struct{}
	hangs   atomic.Bool
	kept    atomic.Int64 // who reads it now
	content []byte
}

type hungFile struct {
	fs.Inode
	of *hung
}

func (f *hungFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode, out.Size, out.Mtime, out.Ctime = fuse.S_IFREG|0o644, uint64(len(f.of.content)), 1_700_000_000, 1_700_000_000
	return 0
}

func (f *hungFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_DIRECT_IO, 0
}

func (f *hungFile) Read(_ context.Context, _ fs.FileHandle, p []byte, at int64) (fuse.ReadResult, syscall.Errno) {
	if f.of.hangs.Load() {
		f.of.kept.Add(1)
		<-f.of.release
	}
	return fuse.ReadResultData(f.of.content[min(at, int64(len(f.of.content))):min(at+int64(len(p)),
		int64(len(f.of.content)))]), 0
}

func TestAFileSystemThatHangsKeepsNeitherASendNorTheStop(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("mounting a file system needs root")
	}
	for _, when := range []string{"while it is found", "while it is sent"} {
		t.Run(when, func(t *testing.T) {
			y := setup(t, none)
			at := y.dir + "/phone/DCIM/share"
			require.NoError(t, os.Mkdir(at, 0o755))
			h := &hung{release: make(chan struct{}), content: append(jpeg(t), make([]byte, 1<<20)...)}
			h.hangs.Store(when == "while it is found")
			server, err := fs.Mount(at, h, &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true},
				OnAdd: func(ctx context.Context) {
					h.AddChild("kept.jpg", h.NewPersistentInode(ctx, &hungFile{of: h}, fs.StableAttr{Mode: fuse.S_IFREG}), true)
				}})
			require.NoError(t, err)
			released := false
			t.Cleanup(func() {
				if !released {
					close(h.release)
				}
				assert.Eventually(t, func() bool { return server.Unmount() == nil }, time.Minute, 50*time.Millisecond)
			})
			y.picture("beside.jpg", 1)
			if when == "while it is sent" {
				y.until("both found", heldBy(gate.Network, 2))
				h.hangs.Store(true)
			}
			y.sensor.Put(home)
			require.Eventually(t, func() bool { return h.kept.Load() > 0 }, time.Minute, 5*time.Millisecond)
			if when == "while it is sent" {
				y.until("what lies beside it goes on", func(s wire.Device) bool { return s.States[queue.Safe].N == 1 })
			}
			began := time.Now()
			y.stop()
			assert.Less(t, time.Since(began), 5*time.Second, "a stop does not wait for it")
			released = true
			close(h.release)
		})
	}
}

func TestAPipeInAFilesPlaceIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	file := y.picture("a.jpg", 1)
	y.until("found", heldBy(gate.Network, 1))
	// Between finding and sending it became a pipe, and the scan has not seen it.
	require.NoError(t, os.Remove(file))
	require.NoError(t, syscall.Mkfifo(file, 0o644))
	y.sensor.Put(home)
	y.until("left", func(s wire.Device) bool {
		return len(s.Sends) == 0 && s.States[queue.Safe].N == 0 && s.States[queue.Sending].N == 0
	})
	y.picture("b.jpg", 2)
	y.until("others go on", counts(queue.Safe, 1))
	began := time.Now()
	y.stop()
	assert.Less(t, time.Since(began), 5*time.Second)
}

// A file is written over in place while it is sent, at the same length and with its
// time put back; and again after it was sent.
func TestAFileWrittenOverWithItsTimePutBackIsSentAgain(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	content := append(jpeg(t), make([]byte, 6<<20)...)
	file := y.file("a.jpg", content)
	info, err := os.Stat(file)
	require.NoError(t, err)
	over := func(b byte) {
		f, err := os.OpenFile(file, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte{b, b, b, b}, int64(len(content)-5000))
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	}
	y.until("on its way", func(s wire.Device) bool { return len(s.Sends) > 0 || s.States[queue.Safe].N > 0 })
	over(1)
	now := func() string {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		return hash(content)
	}
	for _, b := range []byte{1, 2} {
		want := now()
		y.until("what is there now is safe", func(wire.Device) bool {
			for _, c := range copiesIn(t, y.records, queue.Safe) {
				if c.SHA256 == want {
					there, err := os.ReadFile(filepath.Join(y.dir, "locker", c.Remote))
					require.NoError(t, err)
					return hash(there) == want
				}
			}
			return false
		})
		if b == 1 {
			over(2)
		}
	}
}

// With store-each, equal names and sizes, and a kill between the word that a name
// is to be taken and the taking: nobody's file is taken for another's.
func TestANameThatWasOnlyMeantIsNotItsOwn(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	p, err := plantext.Parse("plan", []byte(strings.Replace(yardPlan, "take: [photo, video]",
		"store-each: true\n    take: [photo, video]", 1)))
	require.NoError(t, err)
	y.device.SetPlan(p)
	one, two := jpeg(t), append(jpeg(t)[:len(jpeg(t))-1:len(jpeg(t))-1], 'x')
	y.file("A/same.jpg", one)
	y.until("found", heldBy(gate.Network, 1))
	first := y.copy("same.jpg")
	y.file("B/same.jpg", two) // of the same name, size and month
	y.until("both found", heldBy(gate.Network, 2))
	for i := range 3 { // killed at that point, three times
		require.NoError(t, y.records.Queue.Note(t.Context(), first.ID, "", "2026/05/same.jpg", hash(one)))
		if i == 0 { // the other's is in its place meanwhile
			require.NoError(t, os.MkdirAll(y.dir+"/locker/2026/05", 0o755))
			require.NoError(t, os.WriteFile(y.dir+"/locker/2026/05/same.jpg", two, 0o644))
		}
	}
	y.sensor.Put(home)
	y.until("both safe", counts(queue.Safe, 2))
	assert.NotContains(t, y.story("same.jpg"), "is not what was sent", "a clash is no damage")
	y.safeIsWhole()
}

// Records are damaged: they are put aside, begun anew, and nothing is sent that is
// proven at the storage already.
func TestRebuiltRecordsSendNothingThatIsThere(t *testing.T) {
	t.Parallel()
	for _, recorded := range []bool{true, false} {
		t.Run(fmt.Sprintf("in the open record %v", recorded), func(t *testing.T) {
			y := setup(t, home)
			for i := range 12 {
				y.picture(fmt.Sprintf("%d.jpg", i), i)
			}
			y.until("safe", counts(queue.Safe, 12))
			if recorded {
				require.Eventually(t, func() bool {
					parts, err := filepath.Glob(y.dir + "/locker/records/*/SHA256SUMS-*")
					return err == nil && len(parts) > 0
				}, time.Minute, 10*time.Millisecond)
			}
			y.stop()
			before := y.stored()
			file := y.dir + "/data/records.db"
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			for i := 4096; i < len(content); i += 4096 { // the first page is whole, and leads nowhere
				copy(content[i:], []byte("\x1b[31mgarbage\x07"))
			}
			require.NoError(t, os.WriteFile(file, content, 0o600))
			_, err = records.Open(t.Context(), file)
			require.True(t, records.IsDamage(err), "%v", err)
			assert.ErrorContains(t, err, "yardtide rebuild")
			assert.NotContains(t, err.Error(), "\x1b")

			aside, lost, err := records.Rebuild(t.Context(), file, time.Now())
			require.NoError(t, err)
			assert.FileExists(t, filepath.Join(aside, "records.db"), "the damaged file is kept")
			assert.NotEmpty(t, lost, "what could not be read is told")
			y.picture("new.jpg", 50)
			y.start()
			y.until("all safe", counts(queue.Safe, 13))
			after := y.stored()
			assert.Len(t, after, 13)
			for sum, where := range before {
				assert.Equal(t, where, after[sum])
			}
			for i := range 12 {
				c := y.copy(fmt.Sprintf("%d.jpg", i))
				assert.Zero(t, c.Sent, "%s was sent again", c.Name)
			}
			y.sensor.Put(away)
			a, err := y.records.Ledger.Account(t.Context(), plan.Cellular, time.Time{}, false)
			require.NoError(t, err)
			assert.Positive(t, a.Spent, "what was spent is not known: no allowance is passed")
		})
	}
}

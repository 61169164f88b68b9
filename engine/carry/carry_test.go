package carry_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/carry"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/rendition"
)

// These tests carry one copy over a storage in memory, and do something to it before each call
// that it makes there.

// berth is one device with one file, and the records and the disk that it has.
type berth struct {
	t       *testing.T
	folder  string // where the file lies
	file    string // of the records
	kind    string // of the destination
	records *records.Records
	disk    *destinationtest.Disk
	calls   int
	at      int                     // before the call of this number
	do      func(call string) error // that is done; its error is the call's
}

const (
	content  = "the hull, planked and caulked, in enough words to be no part of anything else"
	fileName = "hull.jpg"
	lies     = "2026/02/hull.jpg"
)

// newBerth makes a berth with one file that waits.
func newBerth(t *testing.T, kind string) *berth {
	t.Helper()
	b := &berth{t: t, folder: t.TempDir(), kind: kind, disk: &destinationtest.Disk{}}
	require.NoError(t, os.WriteFile(filepath.Join(b.folder, fileName), []byte(content), 0o644))
	b.open(filepath.Join(t.TempDir(), "records.db"))
	p := b.plan()
	require.NoError(t, b.records.Catalogue.Apply(t.Context(), p, "phone", time.Now()))
	info, err := os.Stat(filepath.Join(b.folder, fileName))
	require.NoError(t, err)
	is := info.Sys().(*syscall.Stat_t)
	require.NoError(t, b.records.Catalogue.Admit(t.Context(), []records.Item{{
		Source: "DCIM", Dir: ".", Name: fileName, Size: info.Size(), MTime: info.ModTime().UnixNano(), Inode: int64(is.Ino),
		CTime: is.Ctim.Nano(),
		Kind:  media.Photo, ContentType: "image/jpeg", Rule: "all", Look: "look", TakenMS: time.Date(2026, 2, 3, 0, 0, 0, 0,
			time.UTC).UnixMilli(),
	}}, p, time.Now()))
	return b
}

// another is a berth like this one, with records and a disk of its own.
func (b *berth) another() *berth {
	other := &berth{t: b.t, folder: b.folder, kind: b.kind, disk: b.disk.Copy()}
	other.open(b.kill().file)
	return other
}

func (b *berth) open(file string) {
	b.t.Helper()
	r, err := recordstest.Open(context.Background(), file)
	require.NoError(b.t, err)
	b.t.Cleanup(func() { assert.NoError(b.t, r.Close()) })
	b.records, b.file = r, file
}

func (b *berth) plan() *plan.Plan {
	b.t.Helper()
	where := map[string]string{"folder": "kind: folder, path: /mnt/locker",
		"webdav": `kind: webdav, url: "http://a.example/"`,
		"s3":     `kind: s3, url: "http://a.example", bucket: locker, user: u, password-from: env:P`}[b.kind]
	p, err := plantext.Parse("plan", []byte("yard: Test\ntimezone: UTC\ndestinations: {locker: {"+where+
		", layout: \"{year}/{month}/{name}\"}}\ndevices: {phone: {sources: [{folder: DCIM, rule: all}]}}\nrules: {all: "+
		"{take: [photo], to: [locker], lanes: [{over: wifi}]}}\n"))
	require.NoError(b.t, err)
	return p
}

// killed is what the records and the disk were at an instant, as a kill leaves them.
type killed struct {
	file string
	disk *destinationtest.Disk
}

// kill copies what a kill in this moment would leave.
func (b *berth) kill() killed {
	to := filepath.Join(b.t.TempDir(), "records.db")
	for _, end := range []string{"", "-wal"} {
		from, err := os.Open(b.file + end)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		require.NoError(b.t, err)
		into, err := os.Create(to + end)
		require.NoError(b.t, err)
		_, err = io.Copy(into, from)
		require.NoError(b.t, errors.Join(err, from.Close(), into.Close()))
	}
	return killed{to, b.disk.Copy()}
}

func (b *berth) before(call string) error {
	b.calls++
	if b.calls == b.at {
		return b.do(call)
	}
	return nil
}

// carry takes the copy as far as it goes, in one try. Cut may be called while it goes.
func (b *berth) carry(cut func(stop context.CancelCauseFunc)) {
	b.t.Helper()
	memory := destinationtest.Memory{At: func() *destinationtest.Disk { return b.disk }, Before: b.before}
	var driver destination.Driver = &memory
	switch b.kind {
	case "folder":
		driver = &destinationtest.Counts{Memory: memory}
	case "s3":
		driver = &destinationtest.Places{Memory: memory}
	}
	p, log := b.plan(), slog.New(slog.DiscardHandler)
	nothing, jitter, none := func() {}, func() float64 { return 0.5 }, func(time.Duration) time.Duration { return 0 }
	places, err := place.New(context.Background(),
		place.Options{Device: "phone", Owner: "phone-1", Records: place.LedgerOf(b.records),
			Driver: func(string) (destination.Driver, error) { return driver, nil }, Changed: nothing, Tell: nothing, Log: log,
			Jitter: jitter, Wait: none})
	require.NoError(b.t, err)
	places.SetPlan(p)
	var others fleet.Fleet
	others.Join(fleet.Member{Name: "phone", Records: func() *records.Records { return b.records }, Counts: places.Counts,
		Wake: nothing, Tell: nothing})
	carrier := carry.Carrier{Options: carry.Options{
		Device: "phone", Owner: "phone-1", Folder: func(string) string { return b.folder }, Records: b.records,
		Places: places, Others: &others, Plan: func() *plan.Plan { return p },
		Outside: func() gate.Situation {
			return gate.Situation{Device: "phone", Plan: p, Now: gate.Conditions{Network: plan.WiFi, Metered: gate.No,
				Roaming: gate.No}, Time: time.Now(), Zone: time.UTC}
		},
		Pace: rate.NewLimiter(rate.Inf, carry.PaceStep), Forms: &rendition.Cache{Dir: b.folder + "/forms"},
		Recorded: func(context.Context, string) error { return nil },
		Tell:     nothing, Freed: nothing, Broken: func(what string, err error) { assert.NoError(b.t, err, what) }, Log: log,
		Jitter: jitter, Wait: none,
	}}
	c := b.copy()
	ctx, stop := context.WithCancelCause(context.Background())
	defer stop(nil)
	if cut != nil {
		cut(stop)
	}
	send := carry.NewSend(c, records.Item{},
		carry.Way{Proving: c.State == queue.Proving, Where: p.Destinations["locker"].Where()}, stop)
	ok, err := carrier.Reserve(ctx, send)
	require.NoError(b.t, err)
	require.True(b.t, ok)
	carrier.Carry(ctx, send)
}

func (b *berth) copy() records.Copy {
	b.t.Helper()
	c, ok, err := b.records.Queue.Copy(context.Background(), 1)
	require.NoError(b.t, err)
	require.True(b.t, ok)
	return c
}

// holds sees what must hold at every moment: what is called safe lies there, whole, where the
// records say, and nothing of anybody is written over.
func (b *berth) holds(what string) {
	b.t.Helper()
	c, files := b.copy(), b.disk.Files()
	if c.State == queue.Safe {
		sum := sha256.Sum256([]byte(content))
		assert.Equal(b.t, content, files[c.Remote], "%s: it is called safe as %s", what, c.Remote)
		assert.Equal(b.t, hex.EncodeToString(sum[:]), c.SHA256, what)
	}
	n := 0
	for path, is := range files {
		if strings.HasPrefix(path, "2026/") && is == content {
			n++
		}
	}
	assert.LessOrEqual(b.t, n, 1, "%s: it lies there more than once: %v", what, files)
}

// ends carries until it is safe, within a few tries.
func (b *berth) ends(what string) {
	b.t.Helper()
	for try := 0; b.copy().State != queue.Safe; try++ {
		require.Less(b.t, try, 6, "%s: it never was safe: %+v", what, b.copy())
		b.carry(nil)
		b.holds(what)
	}
}

// at does something before each call of a send, each time to a new one.
func at(t *testing.T, do func(t *testing.T, b *berth, call int)) {
	for _, kind := range []string{"folder", "webdav", "s3"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			first := newBerth(t, kind)
			undisturbed := first.another()
			undisturbed.carry(nil)
			undisturbed.holds("undisturbed")
			require.Equal(t, queue.Safe, undisturbed.copy().State)
			require.Equal(t, lies, undisturbed.copy().Remote)
			require.GreaterOrEqual(t, undisturbed.calls, 6)
			for call := range undisturbed.calls + 1 {
				b := first.another()
				b.at = call + 1
				do(t, b, call+1)
			}
		})
	}
}

func TestAKillBeforeEachCallLosesNothing(t *testing.T) {
	at(t, func(t *testing.T, b *berth, call int) {
		what := fmt.Sprint("killed before call ", call)
		var left *killed
		b.do = func(string) error {
			is := b.kill()
			left = &is
			return nil
		}
		b.carry(nil)
		if left == nil { // the send was over before
			return
		}
		// What goes on is what was left: it knows nothing of what came after.
		b.at, b.disk = 0, left.disk
		b.open(left.file)
		b.holds(what)
		b.ends(what)
		assert.Equal(t, lies, b.copy().Remote, what)
	})
}

func TestAnErrorAtEachCallIsRetried(t *testing.T) {
	for _, cause := range []queue.Cause{queue.Unreachable, queue.Busy, queue.Full, queue.SignIn, queue.Different} {
		t.Run(string(cause), func(t *testing.T) {
			at(t, func(t *testing.T, b *berth, call int) {
				b.do = func(string) error { return &destination.Error{Cause: cause, Says: "it fails"} }
				b.carry(nil)
				what := fmt.Sprintf("%s at call %d", cause, call)
				b.holds(what)
				b.ends(what)
			})
		})
	}
}

func TestACutAtEachCallIsTakenUpAgain(t *testing.T) {
	at(t, func(t *testing.T, b *berth, call int) {
		for _, why := range []error{carry.ErrShut, carry.ErrStopping} {
			b.calls = 0
			b.carry(func(stop context.CancelCauseFunc) {
				b.do = func(string) error {
					stop(why)
					return nil
				}
			})
			b.holds(fmt.Sprintf("%v at call %d", why, call))
		}
		b.at = 0
		b.ends(fmt.Sprint("cut at call ", call))
	})
}

func TestWhatSomebodyPutsUnderItsNameStays(t *testing.T) {
	for name, theirs := range map[string]string{"something else": "a barge", "the same": content} {
		t.Run(name, func(t *testing.T) {
			at(t, func(t *testing.T, b *berth, call int) {
				somebody := destinationtest.Memory{At: func() *destinationtest.Disk { return b.disk }}
				put := false
				b.do = func(string) error {
					temp := destinationtest.Temp(9)
					require.NoError(t, somebody.Put(t.Context(), temp, strings.NewReader(theirs), 0, int64(len(theirs))))
					err := somebody.Publish(t.Context(), temp, lies)
					put = err == nil // else ours was first
					return somebody.Remove(t.Context(), temp)
				}
				b.carry(nil)
				what := fmt.Sprintf("%s before call %d", name, call)
				b.ends(what)
				if put {
					assert.Equal(t, theirs, b.disk.Files()[lies], what)
				}
			})
		})
	}
}

func TestWhatIsTakenAwayOrDamagedIsNotSafe(t *testing.T) {
	at(t, func(t *testing.T, b *berth, call int) {
		damaged := false
		b.do = func(string) error {
			files := b.disk.Files()
			if files[lies] == "" {
				return nil
			}
			// Another disk has the same marker and numbers, and not the file, or another one.
			other := b.disk.Copy()
			somebody := destinationtest.Memory{At: func() *destinationtest.Disk { return other }}
			require.NoError(t, somebody.Withdraw(t.Context(), lies, destinationtest.Temp(8)))
			damaged, b.disk = true, other
			return nil
		}
		b.carry(nil)
		if damaged && b.copy().State == queue.Safe {
			// The last look was over: whatever happens then is for a proof taken again.
			assert.GreaterOrEqual(t, call, b.calls, "it was taken away before call %d of %d, and is called safe", call, b.calls)
		}
	})
}

package device_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/device"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/wire"
)

// berth is a device whose one destination, a folder, can be made to stand for
// another.
type berth struct {
	t       *testing.T
	dir     string
	path    string
	device  *device.Device
	records *records.Records
	sensor  sensor.Set
	stop    func()

	pictures int
	wrap     func(destination.Driver) destination.Driver
	others   device.Others // nil knows all there are
}

func newBerth(t *testing.T, path string) *berth {
	b := quietBerth(t, path)
	b.start()
	t.Cleanup(func() { b.stop() })
	return b
}

// quietBerth is a berth that is not started.
func quietBerth(t *testing.T, path string) *berth {
	b := &berth{t: t, dir: t.TempDir()}
	require.NoError(t, os.MkdirAll(b.dir+"/phone/DCIM", 0o755))
	b.sensor.Put(home)
	b.path = b.place(path)
	require.NoError(t, os.MkdirAll(b.path, 0o755))
	return b
}

func (b *berth) place(name string) string { return filepath.Join(b.dir, "places", name) }

func (b *berth) plan() *plan.Plan {
	p, err := plantext.Parse("plan", []byte(fmt.Sprintf(`yard: Test
timezone: UTC
destinations: {locker: {kind: folder, path: %q}}
devices: {phone: {sources: [{folder: DCIM, rule: all}]}}
rules: {all: {take: [photo], to: [locker], lanes: [{over: wifi}]}}
`, b.path)))
	require.NoError(b.t, err)
	return p
}

func (b *berth) start() {
	var err error
	b.records, err = recordstest.Open(context.Background(), b.dir+"/data/records.db")
	require.NoError(b.t, err)
	var mu sync.Mutex
	now := b.plan()
	b.device, err = device.New(context.Background(), device.Options{
		Name: "phone", Root: b.dir + "/phone", Records: b.records, Sensor: &b.sensor, Others: b.others,
		Driver: func(string) (destination.Driver, error) {
			mu.Lock()
			defer mu.Unlock()
			if b.wrap != nil {
				return b.wrap(folder.New(b.path)), nil
			}
			return folder.New(b.path), nil
		},
		Changed: func() {}, Log: noFault(b.t), Grace: 200 * time.Millisecond,
		Scan:   scan.Options{Quiet: 50 * time.Millisecond, Poll: 200 * time.Millisecond},
		Jitter: func() float64 { return 0.5 }, Wait: func(d time.Duration) time.Duration { return d / 500 },
	})
	require.NoError(b.t, err)
	b.device.SetPlan(now)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- b.device.Run(ctx) }()
	b.stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(b.t, <-done)
		assert.NoError(b.t, b.records.Close())
	})
}

// standFor makes the destination's name stand for another folder.
func (b *berth) standFor(name string) {
	b.stop()
	b.path = b.place(name)
	b.start()
}

func (b *berth) picture(name string) {
	b.t.Helper()
	h := house{t: b.t, dir: b.dir}
	b.pictures++
	h.file("phone", name, long(b.t, 1000+b.pictures))
}

func (b *berth) until(what string, is func(wire.Device) bool) wire.Device {
	b.t.Helper()
	return (&yard{t: b.t, device: b.device}).until(what, is)
}

// safe lists the copies that are called safe now.
func (b *berth) safe() []records.Copy {
	b.t.Helper()
	items, err := b.device.Told.Items(context.Background(), wire.Filter{State: string(queue.Safe), Limit: 1000})
	require.NoError(b.t, err)
	called := map[string]bool{}
	for _, it := range items {
		called[it.Key] = true
	}
	copies := copiesIn(b.t, b.records, queue.Safe)
	return slices.DeleteFunc(copies, func(c records.Copy) bool { return !called[b.records.Catalogue.Key(c.Item)] })
}

// nothingIsCalledSafeThatIsNot holds every copy that is called safe against what
// lies at the place that the name stands for.
func (b *berth) nothingIsCalledSafeThatIsNot(what string) {
	b.t.Helper()
	if _, err := os.Stat(b.path); err != nil {
		return // the place is away, and what was proven is proven there
	}
	for _, c := range b.safe() {
		content, err := os.ReadFile(filepath.Join(b.path, c.Remote))
		require.NoError(b.t, err, "%s: %s is called safe", what, c.Name)
		require.Equal(b.t, c.SHA256, hash(content), "%s: %s", what, c.Name)
	}
}

func copied(t *testing.T, from, to string) {
	t.Helper()
	out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestAMovedPlaceOwesItsProofsAndGetsWhatIsMissing(t *testing.T) {
	t.Parallel()
	b := newBerth(t, "loft")
	for i := range 4 {
		b.picture(fmt.Sprintf("%d.jpg", i))
	}
	b.until("safe", counts(queue.Safe, 4))
	copied(t, b.place("loft"), b.place("attic")) // marker and all, but one
	gone := b.safe()[0]
	require.NoError(t, os.Remove(filepath.Join(b.place("attic"), gone.Remote)))
	require.NoError(t, os.Remove(b.dir+"/phone/DCIM/"+b.safe()[1].Name)) // which is there, and no longer on the device
	b.standFor("attic")
	b.nothingIsCalledSafeThatIsNot("before anything was looked at")
	b.until("proven again", counts(queue.Safe, 4))
	b.nothingIsCalledSafeThatIsNot("after it was proven again")
	story := (&yard{t: t, records: b.records}).story(gone.Name)
	assert.Contains(t, story, "Its place is at another address than before: the proof is taken again there.")
	assert.Contains(t, story, "is not at the storage", "and so it was sent again")
	assert.Len(t, b.files("attic"), 4)
}

func (b *berth) files(name string) []string {
	b.t.Helper()
	all, err := filepath.Glob(b.place(name) + "/2026/*/*.jpg")
	require.NoError(b.t, err)
	return all
}

func TestAnotherPlaceIsAskedAbout(t *testing.T) {
	t.Parallel()
	for _, answer := range []string{"moved", "new", "back"} {
		t.Run(answer, func(t *testing.T) {
			b := newBerth(t, "loft")
			b.picture("1.jpg")
			b.picture("2.jpg")
			b.until("safe", counts(queue.Safe, 2))
			require.NoError(t, os.MkdirAll(b.place("attic"), 0o755))
			// One of the two lies there already, under its name; and it is another's place.
			one := b.safe()[0]
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(b.place("attic"), one.Remote)), 0o755))
			copied(t, filepath.Join(b.place("loft"), one.Remote), filepath.Join(b.place("attic"), one.Remote))
			require.NoError(t, os.WriteFile(filepath.Join(b.place("attic"), destination.MarkerName),
				[]byte("fedcba9876543210\n"), 0o644))
			b.standFor("attic")
			b.picture("3.jpg")
			s := b.until("asked", func(s wire.Device) bool {
				return heldBy(gate.Trouble, 1)(s) && heldBy(gate.Place, 2)(s) &&
					strings.Contains(s.Holds[0].Says+s.Holds[1].Says, "fedcba9876543210")
			})
			assert.Zero(t, s.States[queue.Safe].N)
			b.nothingIsCalledSafeThatIsNot("while it is asked")
			says, todo := b.device.Told.PlaceProblem("locker")
			assert.Contains(t, says, "another place, fedcba9876543210")
			assert.Contains(t, todo, "yardtide destination place locker moved|new")
			before := len(b.files("attic"))
			time.Sleep(100 * time.Millisecond)
			assert.Len(t, b.files("attic"), before, "nothing is sent until it is answered")
			switch answer {
			case "back":
				b.standFor("loft")
				b.until("as it was", counts(queue.Safe, 3))
				assert.NotContains(t, (&yard{t: t, records: b.records}).story("1.jpg"), "taken again", "the old place owes nothing")
				return
			case "moved":
				n, err := b.device.Orders.SettlePlace(t.Context(), "locker", true)
				require.NoError(t, err)
				assert.EqualValues(t, 2, n)
			case "new":
				n, err := b.device.Orders.SettlePlace(t.Context(), "locker", false)
				require.NoError(t, err)
				assert.EqualValues(t, 2, n)
				left, _, err := b.records.Places.LeftBehind(t.Context(), "locker")
				require.NoError(t, err)
				assert.EqualValues(t, 2, left, "what is at the old place is listed")
			}
			b.until("safe there", counts(queue.Safe, 3))
			b.nothingIsCalledSafeThatIsNot("after the answer")
			assert.Len(t, b.files("attic"), 3, "what lay there is not put there twice")
			assert.Len(t, b.files("loft"), 2, "what is at the old place stays")
			_, err := b.device.Orders.SettlePlace(t.Context(), "locker", false)
			var none place.NoQuestion
			assert.ErrorAs(t, err, &none, "it is asked once")
		})
	}
}

func TestACopiedMarkerProvesNothing(t *testing.T) {
	t.Parallel()
	b := newBerth(t, "loft")
	for i := range 3 {
		b.picture(fmt.Sprintf("%d.jpg", i))
	}
	b.until("safe", counts(queue.Safe, 3))
	b.stop()
	time.Sleep(1100 * time.Millisecond) // file times are told apart by the second
	copied(t, b.place("loft"), b.place("new disk"))
	all, err := filepath.Glob(b.place("new disk") + "/2026/*/*.jpg")
	require.NoError(t, err)
	require.NoError(t, os.Remove(all[0]))
	require.NoError(t, os.WriteFile(all[1], []byte("other bytes"), 0o644))
	require.NoError(t, os.Rename(b.place("loft"), b.place("old disk")))
	require.NoError(t, os.Rename(b.place("new disk"), b.place("loft"))) // the disk was exchanged, its address is the same
	b.start()
	b.until("mended", func(s wire.Device) bool { return counts(queue.Safe, 3)(s) && len(b.files("loft")) == 4 })
	b.nothingIsCalledSafeThatIsNot("on the new disk")
}

func TestTwinsAndAdoptedFilesAreLookedAt(t *testing.T) {
	t.Parallel()
	b := newBerth(t, "loft")
	b.picture("1.jpg")
	b.until("safe", counts(queue.Safe, 1))
	content, err := os.ReadFile(b.dir + "/phone/DCIM/1.jpg")
	require.NoError(t, err)
	// What was proven is damaged, unseen; then the same picture comes again.
	remote := filepath.Join(b.path, b.safe()[0].Remote)
	require.NoError(t, os.WriteFile(remote, append(bytes.Clone(content[:len(content)-1]), 'x'), 0o644))
	(&house{t: t, dir: b.dir}).file("phone", "again.jpg", content)
	b.until("the first is no longer safe, the second is",
		func(s wire.Device) bool { return s.States[queue.Stuck].N == 1 && s.States[queue.Safe].N == 1 })
	b.nothingIsCalledSafeThatIsNot("after a twin was found damaged")

	// A file that was adopted and hashed is changed before its picture comes.
	found := long(t, 5000)
	require.NoError(t, os.MkdirAll(b.path+"/old", 0o755))
	require.NoError(t, os.WriteFile(b.path+"/old/a.jpg", found, 0o644))
	_, err = b.device.Orders.Adopt(t.Context(), "locker", func(wire.Adopted) {})
	require.NoError(t, err)
	require.NoError(t, b.records.Adopted.SetFound(t.Context(), "locker", "old/a.jpg", hash(found), time.Now()))
	require.NoError(t, os.WriteFile(b.path+"/old/a.jpg", append(found[:4999:4999], 'y'), 0o644))
	(&house{t: t, dir: b.dir}).file("phone", "adopted.jpg", found)
	b.until("sent", func(wire.Device) bool {
		c := b.safe()
		for _, one := range c {
			if one.Name == "adopted.jpg" {
				return true
			}
		}
		return false
	})
	b.nothingIsCalledSafeThatIsNot("after an adopted file was changed")
}

// Whatever is done to places and to the plan, in any order, nothing is called safe
// that does not lie where the name stands for.
func TestNothingIsCalledSafeThatIsNotWhateverBecomesOfPlaces(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 9))
			b := newBerth(t, "a")
			names, pictures := []string{"a", "b", "c"}, 0
			exists := func(name string) bool { _, err := os.Stat(b.place(name)); return err == nil }
			for step := range 14 {
				name, other := names[r.IntN(3)], names[r.IntN(3)]
				what := ""
				switch r.IntN(8) {
				case 0, 1:
					pictures++
					b.picture(fmt.Sprintf("%d-%d.jpg", step, pictures))
					what = "a picture"
				case 2:
					require.NoError(t, os.MkdirAll(b.place(other), 0o755))
					b.standFor(other)
					what = "stands for " + other
				case 3:
					if exists(name) && !exists(other) {
						copied(t, b.place(name), b.place(other))
						what = "copy of " + name + " to " + other
					}
				case 4:
					if exists(name) && !exists(other) {
						require.NoError(t, os.Rename(b.place(name), b.place(other)))
						what = "moved " + name + " to " + other
					}
				case 5:
					if all := b.files(name); len(all) > 0 && b.place(name) != b.path { // there, only a new proof tells
						require.NoError(t, os.Remove(all[r.IntN(len(all))]))
						what = "removed one of " + name
					}
				case 6:
					_, err := b.device.Orders.SettlePlace(t.Context(), "locker", r.IntN(2) == 0)
					what = fmt.Sprintf("answered: %v", err)
				case 7:
					b.stop()
					b.start()
					what = "a restart"
				}
				time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
				if strings.HasPrefix(what, "moved") || strings.HasPrefix(what, "copy") {
					// The disk that was there is exchanged: it is seen at the next connection.
					seen := fmt.Sprintf("%d-seen.jpg", step)
					b.picture(seen)
					b.until("seen", func(s wire.Device) bool {
						found, err := b.device.Told.Find(context.Background(), seen, 1)
						require.NoError(t, err)
						return len(found) == 1 && (found[0].State == string(queue.Safe) || len(s.Holds) > 0 &&
							!heldBy(gate.Trouble, 0)(s))
					})
				}
				b.nothingIsCalledSafeThatIsNot(fmt.Sprintf("step %d, %s", step, what))
			}
			// In the end all of it can be made safe.
			require.NoError(t, os.MkdirAll(b.path, 0o755))
			b.until("settled", func(wire.Device) bool {
				_, err := b.device.Orders.SettlePlace(t.Context(), "locker", true)
				var none place.NoQuestion
				return err == nil || assert.ErrorAs(t, err, &none)
			})
			b.until("all safe", func(s wire.Device) bool {
				_, err := b.device.Orders.Retry(t.Context(), nil)
				require.NoError(t, err)
				return s.States[queue.Safe].N > 0 && s.States[queue.Waiting].N+s.States[queue.Stuck].N+s.States[queue.Proving].N+
					s.States[queue.Sending].N == 0
			})
			b.nothingIsCalledSafeThatIsNot("in the end")
		})
	}
}

// TestCopiesHaveNoMoreRightsThanTheirFiles sends files that only their owner may read.
func TestCopiesHaveNoMoreRightsThanTheirFiles(t *testing.T) {
	t.Parallel()
	b := newBerth(t, "loft")
	for name, rights := range map[string]os.FileMode{"private.jpg": 0o600, "shared.jpg": 0o644, "group.jpg": 0o640} {
		b.picture(name)
		require.NoError(t, os.Chmod(b.dir+"/phone/DCIM/"+name, rights))
	}
	b.until("safe", counts(queue.Safe, 3))
	seen := map[string]os.FileMode{}
	for _, c := range b.safe() {
		info, err := os.Stat(filepath.Join(b.path, c.Remote))
		require.NoError(t, err)
		seen[c.Name] = info.Mode().Perm()
	}
	assert.Equal(t, os.FileMode(0o600), seen["private.jpg"]&0o077|seen["private.jpg"])
	for name, rights := range seen {
		from, err := os.Stat(b.dir + "/phone/DCIM/" + name)
		require.NoError(t, err)
		assert.Zero(t, rights&^from.Mode().Perm(), name)
	}
	// A folder that is made for a file lets nobody in who may not read the file.
	alone := newBerth(t, "attic")
	file := alone.dir + "/phone/DCIM/private.jpg"
	require.NoError(t, os.WriteFile(file+".part", long(t, 2000), 0o600))
	require.NoError(t, os.Rename(file+".part", file))
	alone.until("safe", counts(queue.Safe, 1))
	info, err := os.Stat(filepath.Join(alone.path, "2026"))
	if os.IsNotExist(err) { // by its own time
		years, gerr := filepath.Glob(alone.path + "/2*")
		require.NoError(t, gerr)
		require.NotEmpty(t, years)
		info, err = os.Stat(years[0])
	}
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

// alone is what a device knows of the others while its service does not answer.
type alone struct{ fleet.Fleet }

func (*alone) Alone() bool { return true }

func (a *alone) Name(ctx context.Context, destination, path string) (func(), bool, error) {
	end, _, err := a.Fleet.Name(ctx, destination, path)
	return end, false, err
}

// TestWhatAnotherRecordedIsNotSentAgain has two devices with the same pictures send to one place,
// each without a word of the other: one after the other, and then both at once.
func TestWhatAnotherRecordedIsNotSentAgain(t *testing.T) {
	t.Parallel()
	one, two := quietBerth(t, "loft"), quietBerth(t, "loft")
	two.path = one.path
	for _, b := range []*berth{one, two} {
		b.others = &alone{}
		b.start()
		defer func() { b.stop() }()
	}
	same := func(b *berth, n int) {
		h := house{t: t, dir: b.dir}
		h.file("phone", fmt.Sprintf("%d.jpg", n), long(t, 5000+n))
	}
	for n := range 4 {
		same(one, n)
	}
	one.until("safe", counts(queue.Safe, 4))
	require.Eventually(t, func() bool {
		parts, err := filepath.Glob(one.path + "/records/*/index-*.jsonl")
		return err == nil && len(parts) > 0
	}, time.Minute, 10*time.Millisecond)
	for n := range 4 {
		same(two, n)
	}
	two.until("safe", counts(queue.Safe, 4))
	assert.Len(t, one.files("loft"), 4, "each is there once")
	for _, c := range two.safe() {
		assert.Zero(t, c.Sent, "%s was sent again", c.Name)
	}

	// A device that lost its records meets what it sent under other names, too.
	one.stop()
	require.NoError(t, os.RemoveAll(one.dir+"/data"))
	one.others = &alone{}
	one.start()
	one.until("known again", counts(queue.Safe, 4))
	assert.Len(t, one.files("loft"), 4, "none is sent under another name")

	// Both at once: nobody can know, and it is told once the records tell.
	one.sensor.Put(none)
	two.sensor.Put(none)
	for n := 10; n < 14; n++ {
		same(one, n)
		same(two, n)
	}
	one.until("found", func(s wire.Device) bool { return total(s.States) == 8 })
	two.until("found", func(s wire.Device) bool { return total(s.States) == 8 })
	one.sensor.Put(home)
	two.sensor.Put(home)
	one.until("safe", counts(queue.Safe, 8))
	two.until("safe", counts(queue.Safe, 8))
	if len(one.files("loft")) > 8 {
		told := func(s wire.Device) bool { return len(s.Doubles) > 0 && strings.Contains(s.Doubles[0].Says, "twice") }
		require.Eventually(t, func() bool {
			for _, b := range []*berth{one, two} {
				if s, err := b.device.Told.Status(t.Context()); err == nil && told(s) {
					return true
				}
			}
			return false
		}, time.Minute, 20*time.Millisecond, "where two lie, it is told")
	}
}

// failing is a storage on which one call fails, always for one cause.
type failing struct {
	destination.Driver
	call    string
	cause   queue.Cause
	picture int64 // bytes of the picture
	tries   *tries
}

// tries are the times at which the call was tried.
type tries struct {
	mu sync.Mutex
	at []time.Time
}

// within tells how many tries were made in a time since the first.
func (t *tries) within(d time.Duration) (n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, at := range t.at {
		if at.Sub(t.at[0]) <= d {
			n++
		}
	}
	return n
}

func (f failing) fail(call string) error {
	if call != f.call {
		return nil
	}
	f.tries.mu.Lock()
	defer f.tries.mu.Unlock()
	f.tries.at = append(f.tries.at, time.Now())
	return &destination.Error{Cause: f.cause, Says: "it fails"}
}

func (f failing) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	call := "put of the picture"
	if size != f.picture {
		call = "put of the marker"
	}
	if err := f.fail(call); err != nil {
		return err
	}
	return f.Driver.Put(ctx, temp, body, from, size)
}

func (f failing) Publish(ctx context.Context, temp, path string) error {
	if path != destination.MarkerName && !strings.HasPrefix(path, destination.RecordDir) {
		if err := f.fail("publish"); err != nil {
			return err
		}
	}
	return f.Driver.Publish(ctx, temp, path)
}

func (f failing) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	if path != destination.MarkerName && !strings.HasPrefix(path, destination.TempDir) &&
		!strings.HasPrefix(path, destination.RecordDir) {
		if err := f.fail("read back"); err != nil {
			return nil, err
		}
	}
	return f.Driver.Open(ctx, path)
}

// sixMinutes are about as many at the pace of a berth.
const sixMinutes = 700 * time.Millisecond

// TestWhatFailsTheSameWayWaitsLongerEachTime counts the tries, for every cause at every call. The
// time of a try is taken where it is made: a slow machine only makes fewer in six minutes.
func TestWhatFailsTheSameWayWaitsLongerEachTime(t *testing.T) {
	t.Parallel()
	causes := []queue.Cause{queue.Unreachable, queue.Busy, queue.Full, queue.SignIn, queue.Identity, queue.Misplaced,
		queue.Elsewhere, queue.Refused, queue.Taken, queue.Different, queue.Changed, queue.Unreadable, queue.Shut, queue.Bug}
	for call, most := range map[string]int{
		"put of the marker":  3 * 8, // three ask for it: the look at the place, the send, the open record
		"put of the picture": 9,
		"publish":            9,
		"read back":          9,
	} {
		for _, cause := range causes {
			t.Run(call+" "+string(cause), func(t *testing.T) {
				t.Parallel()
				b := quietBerth(t, "loft")
				b.picture("1.jpg")
				info, err := os.Stat(b.dir + "/phone/DCIM/1.jpg")
				require.NoError(t, err)
				var made tries
				b.wrap = func(d destination.Driver) destination.Driver {
					return failing{d, call, cause, info.Size(), &made}
				}
				b.start()
				defer func() { b.stop() }()
				require.Eventually(t, func() bool { return made.within(0) > 0 }, time.Minute, 5*time.Millisecond)
				time.Sleep(sixMinutes)
				assert.LessOrEqual(t, made.within(sixMinutes), most, "in about six minutes")
				assert.Empty(t, b.safe())
			})
		}
	}
}

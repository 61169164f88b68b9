package place_test

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/place"
	"yardtide/engine/records"
)

// ledger keeps facts in memory, and which files are called safe.
type ledger struct {
	facts map[string]string
	safe  map[string]string // contents by path
	full  bool              // nothing can be written
}

func (l *ledger) Facts(_ context.Context, prefix string) (map[string]string, error) {
	found := map[string]string{}
	for name, value := range l.facts {
		if rest, is := strings.CutPrefix(name, prefix); is {
			found[rest] = value
		}
	}
	return found, nil
}

func (l *ledger) Fact(_ context.Context, name string) (string, error) { return l.facts[name], nil }

func (l *ledger) SetFact(_ context.Context, name, value string) error {
	if l.full {
		return fmt.Errorf("the disk of the records is full")
	}
	l.facts[name] = value
	return nil
}

func (l *ledger) Owe(ctx context.Context, _, _ string, is records.NamedFact, _ time.Time) (int64, error) {
	if err := l.SetFact(ctx, is.Name, is.Value); err != nil {
		return 0, err
	}
	n := int64(len(l.safe))
	l.safe = map[string]string{}
	return n, nil
}

func (l *ledger) Abandon(ctx context.Context, destination, _, says string, is records.NamedFact,
	at time.Time) (int64, error) {
	return l.Owe(ctx, destination, says, is, at)
}

// yard is one device with one destination, whose disk is exchanged.
type yard struct {
	t       *rapid.T
	ledger  *ledger
	disks   []*destinationtest.Disk
	in      int // the disk that answers
	driver  destination.Driver
	plan    *plan.Plan
	places  *place.Places
	files   int
	calls   int
	at, to  int // before the call of this number another disk answers
	failing int // so many calls fail
	tied    bool
}

const name = "locker"

func newYard(t *rapid.T, tied bool) *yard {
	y := &yard{t: t, tied: tied, ledger: &ledger{facts: map[string]string{}, safe: map[string]string{}},
		disks: []*destinationtest.Disk{{}, {}}}
	memory := destinationtest.Memory{At: func() *destinationtest.Disk { return y.disks[y.in] }, Before: y.before}
	y.driver = &memory
	kind := `{kind: webdav, url: "http://a.example/"}`
	if tied {
		y.driver, kind = &destinationtest.Counts{Memory: memory}, "{kind: folder, path: /mnt/locker}"
	}
	var err error
	y.plan, err = plantext.Parse("plan", []byte("yard: Test\ntimezone: UTC\ndestinations: {locker: "+kind+
		"}\ndevices: {phone: {sources: [{folder: DCIM, rule: all}]}}\nrules: {all: {take: [photo], to: [locker], lanes: "+
		"[{over: wifi}]}}\n"))
	require.NoError(t, err)
	y.start()
	return y
}

// start begins anew with what the records keep.
func (y *yard) start() {
	var err error
	y.places, err = place.New(context.Background(), place.Options{
		Device: "phone", Owner: "phone", Records: y.ledger, Driver: func(string) (destination.Driver,
			error) {
			return y.driver, nil
		},
		Changed: func() {}, Tell: func() {}, Log: slog.New(slog.DiscardHandler), Jitter: func() float64 { return 0.5 },
		Wait: func(d time.Duration) time.Duration { return d },
	})
	require.NoError(y.t, err)
	y.places.SetPlan(y.plan)
}

// before is called before each call at the storage.
func (y *yard) before(string) error {
	y.calls++
	if y.calls == y.at {
		y.in = y.to
	}
	if y.failing > 0 {
		y.failing--
		return &destination.Error{Cause: queue.Unreachable, Says: "it does not answer"}
	}
	return nil
}

// send puts a file in place as a send does, and calls it safe when the place says that it may.
func (y *yard) send(ctx context.Context) {
	y.files++
	path, content := fmt.Sprintf("2026/%d.jpg", y.files), fmt.Sprint("picture ", y.files)
	driver, err := y.places.Reach(ctx, name)
	if err != nil {
		return
	}
	is, temp := y.places.Is(name), destination.NewTemp("phone")
	if driver.Put(ctx, temp, strings.NewReader(content), 0, int64(len(content))) != nil ||
		driver.Publish(ctx, temp, path) != nil {
		return
	}
	if driver, err = y.places.Put(ctx, name); err != nil {
		return
	}
	if n, err := driver.Size(ctx, path); err == nil && n == int64(len(content)) &&
		y.ledger.facts[is.Name] == is.Value { // the proof
		y.ledger.safe[path] = content
	}
}

// holds sees that whatever is called safe lies at what answers, when that is seen to be the place.
func (y *yard) holds(ctx context.Context) {
	if y.places.Look(ctx, name) != nil || !y.places.Counts(name) {
		return
	}
	there := y.disks[y.in].Files()
	for path, content := range y.ledger.safe {
		require.Equal(y.t, content, there[path], "%s is called safe at disk %d", path, y.in)
	}
}

// ours are the files of the device on a disk.
func ours(k *destinationtest.Disk) map[string]string {
	files := k.Files()
	maps.DeleteFunc(files, func(path, _ string) bool { return !strings.HasPrefix(path, "2026/") })
	return files
}

// TestWhatIsCalledSafeLiesAtThePlace draws histories of sends, exchanged disks, copies of disks, failing
// storages, full records, restarts and answers of the keeper: what is called safe lies at what
// answers, whenever that is taken for the place; and a folder that is another's gets nothing.
func TestWhatIsCalledSafeLiesAtThePlace(t *testing.T) {
	for kind, tied := range map[string]bool{"a folder": true, "across a network": false} {
		t.Run(kind, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				rapid.Check(timeless{t}, func(t *rapid.T) { history(t, tied) })
			})
		})
	}
}

// timeless is a test without a deadline: the clock of its bubble is another.
type timeless struct{ testing.TB }

func history(t *rapid.T, tied bool) {
	ctx := context.Background()
	y := newYard(t, tied)
	y.send(ctx)
	asked := false // the keeper was asked since
	for range rapid.IntRange(1, 25).Draw(t, "steps") {
		bound, strangers := y.bound(), y.strangers()
		steps := []string{"send", "send", "send", "exchange", "exchange in the middle", "fail", "wait", "start", "answer"}
		if tied { // across a network nothing tells an older copy from the place
			steps = append(steps, "copy")
		}
		if len(y.disks) == 2 { // a number that was not kept is the same on a copy that is older
			steps = append(steps, "full")
		}
		switch step := rapid.SampledFrom(steps).Draw(t, "step"); step {
		case "send":
			y.send(ctx)
		case "exchange":
			y.in = rapid.IntRange(0, len(y.disks)-1).Draw(t, "disk")
		case "exchange in the middle":
			y.calls, y.at, y.to = 0, rapid.IntRange(1, 14).Draw(t, "call"), rapid.IntRange(0, len(y.disks)-1).Draw(t, "disk")
			y.send(ctx)
			y.at = 0
		case "copy":
			y.disks = append(y.disks, y.disks[y.in].Copy())
		case "fail":
			y.failing = rapid.IntRange(1, 6).Draw(t, "calls")
			y.send(ctx)
			y.failing = 0
		case "wait":
			time.Sleep(time.Duration(rapid.IntRange(1, 70).Draw(t, "seconds")) * time.Second)
		case "start":
			y.start()
		case "full":
			y.ledger.full = true
			y.send(ctx)
			y.ledger.full = false
		case "answer":
			_, err := y.places.Settle(ctx, name, rapid.Bool().Draw(t, "moved"))
			asked = asked || err == nil
		}
		if tied && y.bound() == bound {
			for disk, had := range strangers {
				require.Equal(t, had, ours(y.disks[disk]), "disk %d is another place, or an older copy, and was written to", disk)
			}
		}
		// Across a network two disks of one identity, as "moved" leaves them, are one place.
		if rapid.Bool().Draw(t, "look") && (tied || !asked) {
			y.holds(ctx)
		}
	}
}

// bound is which place the name stands for, in the words of the records.
func (y *yard) bound() string { return y.places.Is(name).Value }

// strangers are the files on the disks that are not the place, or that lack what was put there last.
func (y *yard) strangers() map[int]map[string]string {
	id, _ := y.places.Stands(name)
	if id == "" {
		return nil
	}
	all := map[int]map[string]string{}
	for i, disk := range y.disks {
		files := disk.Files()
		lacks := strings.TrimSpace(files[destination.MarkerName]) != id
		for path, content := range y.ledger.safe {
			lacks = lacks || files[path] != content
		}
		if lacks {
			all[i] = ours(disk)
		}
	}
	return all
}

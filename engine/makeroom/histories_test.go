package makeroom

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/engine/scan"
)

const yardPlan = `
yard: Slip
timezone: UTC
destinations:
  shed: {kind: folder, path: /media/shed}
  locker: {kind: folder, path: /media/locker}
  loft: {kind: folder, path: /media/loft}
devices:
  phone: {sources: [{folder: DCIM, rule: all}]}
rules:
  all: {take: [photo], to: [shed, locker, loft], lanes: [{over: wifi}]}
`

// storage is one where copies lie. What it holds may rot; it may be down, or its name may stand for another.
type storage struct {
	files map[string][]byte
	down  bool
	place string
}

// world is a device with its storages, a program of its own that writes, and somebody who kills us.
type world struct {
	t       *testing.T
	rand    *rand.Rand
	dir     string // the source
	records *records.Records
	plan    *plan.Plan
	at      map[string]*storage
	maker   *Maker
	now     time.Time
	asked   []string
	items   int // how many pictures are taken at a time
	shot    int
	kill    int // after how many steps we are killed, -1 for never
	held    map[string]*os.File
	// lives is what is to be somewhere: the content of each file as its program wrote it last, "" once that removed it.
	lives map[string][]byte
	why   map[string]int
	sum   map[string]int64 // what happened, to see that all of it did
}

// killed is what a kill is here.
type killed struct{}

var stores = []string{"shed", "locker", "loft"}

// memory is a folder that is not on a disk, where there is one: nothing here is about what a disk keeps.
func memory(t *testing.T) string {
	if dir, err := os.MkdirTemp("/dev/shm", "room"); err == nil {
		t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
		return dir
	}
	return t.TempDir()
}

func newWorld(t *testing.T, seed uint64, items int) *world {
	w := &world{t: t, rand: rand.New(rand.NewPCG(seed, 7)), dir: memory(t), at: map[string]*storage{},
		now: time.Now().Add(-400 * 24 * time.Hour), asked: stores[:2], kill: -1, held: map[string]*os.File{}, lives: map[string][]byte{},
		sum: map[string]int64{}, why: map[string]int{}}
	var err error
	w.records, err = recordstest.Open(t.Context(), filepath.Join(memory(t), "records.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, w.records.Close()) })
	w.plan, err = plantext.Parse("plan", []byte(yardPlan))
	require.NoError(t, err)
	require.NoError(t, w.records.Catalogue.Apply(t.Context(), w.plan, "phone", w.now))
	for _, name := range stores {
		w.at[name] = &storage{files: map[string][]byte{}, place: name + "-1"}
	}
	w.begin()
	w.items = items
	w.shoot()
	return w
}

// scanned has the scan find what a program wrote, what was lost be sent again, and everything answer.
func (w *world) scanned(name string) {
	for _, s := range stores {
		w.at[s].down, w.at[s].place = false, s+"-1"
	}
	_, err := w.records.Queue.Retry(w.t.Context(), nil, w.now)
	require.NoError(w.t, err)
	file := filepath.Join(w.dir, filepath.FromSlash(name))
	if now, err := os.ReadFile(file); err == nil && bytes.Equal(now, w.lives[name]) {
		is := w.seen(name, "photo")
		here, known, err := w.records.Catalogue.Here(w.t.Context(), "DCIM", is.Dir, is.Name)
		require.NoError(w.t, err)
		if !known || here.Size != is.Size || here.MTime != is.MTime || here.Inode != is.Inode {
			require.NoError(w.t, w.records.Catalogue.Admit(w.t.Context(), []records.Item{is}, w.plan, w.now))
		}
	}
	w.makeSafe()
}

// item is a new file as the scan finds it.
func (w *world) item(name string, kind media.Kind) records.Item {
	file := filepath.Join(w.dir, filepath.FromSlash(name))
	require.NoError(w.t, os.MkdirAll(filepath.Dir(file), 0o755))
	content := []byte(fmt.Sprintf("%s as it was shot, %d", name, w.rand.Int64()))
	require.NoError(w.t, os.WriteFile(file, content, 0o644))
	w.lives[name] = content
	return w.seen(name, kind)
}

// seen is a file as the scan finds it.
func (w *world) seen(name string, kind media.Kind) records.Item {
	content := w.lives[name]
	info, err := os.Lstat(filepath.Join(w.dir, filepath.FromSlash(name)))
	require.NoError(w.t, err)
	stamp, sum := scan.StampOf(info), sha256.Sum256(content)
	it := records.Item{Source: "DCIM", Dir: path.Dir(name), Name: path.Base(name), Size: stamp.Size, MTime: stamp.MTime,
		Inode: stamp.Inode, CTime: stamp.CTime, ContentType: "image/jpeg", Kind: kind, TakenMS: w.now.UnixMilli(), FoundMS: w.now.UnixMilli(),
		Look: name, SHA256: hex.EncodeToString(sum[:])}
	it.Rule, _ = w.plan.Chooser(w.plan.Devices["phone"].Sources[0], time.UTC).Choose(it.Found())
	return it
}

// makeSafe has every copy be safe.
func (w *world) makeSafe() {
	items, err := w.records.Catalogue.Items(w.t.Context(), records.Wanted{Standing: func(records.Standing) bool { return true }, Limit: 10_000}, w.now)
	require.NoError(w.t, err)
	var ids []int64
	for _, it := range items {
		ids = append(ids, it.ID)
	}
	of, err := w.records.Catalogue.CopiesOf(w.t.Context(), ids)
	require.NoError(w.t, err)
	for _, copies := range of {
		for _, c := range copies {
			remote := path.Join(c.Dir, c.Name)
			content := w.lives[remote]
			if c.State != queue.Waiting || content == nil {
				continue
			}
			w.at[c.Destination].files[remote] = bytes.Clone(content)
			sum := sha256.Sum256(content)
			hash, way := hex.EncodeToString(sum[:]), "read back"
			for _, step := range []queue.State{queue.Sending, queue.Proving, queue.Safe} {
				require.NoError(w.t, w.records.Queue.Step(w.t.Context(), c.ID, step, "", records.Change{Remote: &remote, SHA256: &hash,
					Proof: &way, ProvenAt: &w.now}, w.now))
			}
		}
	}
}

// begin begins us anew, as after a kill.
func (w *world) begin() {
	w.maker = New(Options{Device: "phone", Records: w.records, Folder: func(string) string { return w.dir },
		Away: func(string) bool { return false }, Stays: func(string) bool { return false },
		Asked: func(records.Item) []string { return w.asked },
		Place: func(name string) string { return w.at[name].place },
		Prove: w.prove,
		Small: func(context.Context, records.Item) ([]byte, string, error) { return []byte("smaller"), ".jpg", nil },
		Gone: func(ctx context.Context, source, dir string, names []string) error {
			return w.records.Catalogue.Gone(ctx, source, dir, names, w.plan, w.now)
		},
		Back: func(ctx context.Context, items []records.Item) error {
			return w.records.Catalogue.Return(ctx, items, w.plan, w.now)
		},
		Changed: func() {}, Log: slog.New(slog.DiscardHandler)})
	w.maker.step = func() {
		if w.kill == 0 {
			w.kill = -1
			w.sum["killed"]++
			panic(killed{})
		}
		w.kill--
	}
	require.NoError(w.t, w.maker.Mend(w.t.Context()))
}

// prove proves as a storage tells: by what lies there.
func (w *world) prove(ctx context.Context, c records.Copy, _ bool) (string, error) {
	s := w.at[c.Destination]
	if s.down {
		return "", errors.New("it does not answer")
	}
	sum := sha256.Sum256(s.files[c.Remote])
	if hex.EncodeToString(sum[:]) == c.SHA256 {
		return "read back", nil
	}
	w.sum["lost"]++
	_, err := w.records.Proofs.Lost(ctx, c.Destination, c.Remote, "It is gone.", "", w.now)
	return "", errors.Join(ErrUnproven, err)
}

// do does something, and begins anew where that was killed.
func (w *world) do(what func() error) {
	w.kill = -1
	if w.rand.IntN(3) == 0 {
		w.kill = w.rand.IntN(6)
	}
	defer func() {
		w.kill = -1
		if r := recover(); r != nil {
			if _, is := r.(killed); !is {
				panic(r)
			}
			w.begin()
		}
	}()
	if err := what(); err != nil { // what stays says why
		w.why[err.Error()]++
	}
}

// onDevice are the contents of all files on the device, wherever they lie.
func (w *world) onDevice() map[string]bool {
	all := map[string]bool{}
	require.NoError(w.t, filepath.WalkDir(w.dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(p)
		all[string(content)] = true
		return err
	}))
	return all
}

// check sees that nothing left the device but what is proven elsewhere as asked: where it is not on the device after a
// step, and was before, it lies at two places whole.
func (w *world) check(step string) {
	here := w.onDevice()
	for name, content := range w.lives {
		if content == nil || here[string(content)] {
			continue
		}
		n := 0
		for _, s := range w.at {
			if bytes.Equal(s.files[name], content) {
				n++
			}
		}
		w.sum["removed"]++
		if n < 2 {
			w.t.Fatalf("after %s: %s is gone from the device, and whole at %d places", step, name, n)
		}
		w.lives[name] = nil
	}
}

// names are those of files that live.
func (w *world) one() string {
	for name, content := range w.lives {
		if content != nil && !strings.HasSuffix(name, ".xmp") {
			return name
		}
	}
	return ""
}

// main is the number of the item of a name, also of one that is gone.
func (w *world) main(name string) int64 {
	found, err := w.records.Catalogue.Find(w.t.Context(), path.Base(name), 5)
	require.NoError(w.t, err)
	for _, it := range found {
		if it.Path() == name {
			return it.ID
		}
	}
	return 0
}

// history is what befalls one item, and the others with it.
func (w *world) history() {
	name := w.one()
	w.scanned(name)
	id := w.main(name)
	file := filepath.Join(w.dir, filepath.FromSlash(name))
	for range 3 + w.rand.IntN(6) {
		what := w.rand.IntN(13)
		switch what {
		case 0, 1, 2, 3:
			terms := Terms{Places: 2, Held: time.Duration(1+w.rand.IntN(5)) * 24 * time.Hour, Small: w.rand.IntN(3) == 0}
			w.do(func() error { _, err := w.maker.Clear(w.t.Context(), id, terms, w.now); return err })
		case 4, 5, 6:
			w.now = w.now.Add(time.Duration(w.rand.IntN(96)) * time.Hour)
			w.do(func() error { return w.maker.Tidy(w.t.Context(), w.now) })
		case 7:
			w.do(func() error { _, err := w.maker.TakeBack(w.t.Context(), []int64{id}, w.now); return err })
		case 8:
			s := w.at[stores[w.rand.IntN(3)]]
			if w.rand.IntN(2) == 0 {
				delete(s.files, name)
			} else if s.files[name] != nil {
				s.files[name] = append([]byte("rot "), s.files[name]...)
			}
		case 9:
			s := w.at[stores[w.rand.IntN(3)]]
			s.down = !s.down
		case 10: // a name comes to stand for another place, and for the old one again
			s := w.at[stores[w.rand.IntN(3)]]
			if s.place = strings.TrimSuffix(s.place, "-1"); w.rand.IntN(2) == 0 {
				s.place = s.place + "-1"
			} else {
				s.place = ""
			}
			w.at["shed"].place = "shed-1"
		case 11:
			w.program(name, file)
		case 12: // the clock is set back
			w.now = w.now.Add(-time.Duration(w.rand.IntN(72)) * time.Hour)
			w.asked = stores[:2+w.rand.IntN(2)]
		}
		w.check(fmt.Sprint("step ", what))
	}
}

// program is one of the device's own that writes meanwhile: a new file in the place of the old one, or into the one that
// it has open.
func (w *world) program(name, file string) {
	if f := w.held[name]; f != nil {
		more := fmt.Sprintf(" and more %d", w.rand.Int64())
		_, err := f.WriteString(more)
		require.NoError(w.t, err)
		_, err = f.Seek(0, 0)
		require.NoError(w.t, err)
		all, err := os.ReadFile(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
		require.NoError(w.t, err)
		require.NoError(w.t, f.Close())
		delete(w.held, name)
		if w.lives[name] != nil { // else it was removed before it was opened
			w.lives[name] = all
		}
		w.sum["written"]++
		return
	}
	if w.rand.IntN(2) == 0 {
		f, err := os.OpenFile(file, os.O_RDWR|os.O_APPEND, 0)
		if err == nil {
			w.held[name] = f
		}
		return
	}
	if w.onDevice()[string(w.lives[name])] && w.held[name] == nil {
		if now, err := os.ReadFile(file); err != nil || !bytes.Equal(now, w.lives[name]) {
			return // something else has its name, or nothing
		}
		content := []byte(fmt.Sprintf("%s edited %d", name, w.rand.Int64()))
		require.NoError(w.t, os.WriteFile(file+".part", content, 0o644))
		require.NoError(w.t, os.Rename(file+".part", file))
		w.lives[name] = content
		w.sum["edited"]++
	}
}

// TestNothingLeavesThatIsNotProven has thousands of histories with kills, edits, moved places, storages that rot, lose and
// do not answer, and clocks that are set back: never is a byte gone from the device that is not whole at two places, and
// all that is in the holding place comes back.
func TestNothingLeavesThatIsNotProven(t *testing.T) {
	t.Parallel()
	histories := 1500 // make soak has more
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_HISTORIES")); err == nil {
		histories = n
	}
	worlds := max(1, histories/250)
	const items = 6
	var mu sync.Mutex
	sum := map[string]int64{}
	t.Run("each", func(t *testing.T) {
		for n := range worlds {
			t.Run(fmt.Sprint(n), func(t *testing.T) {
				t.Parallel()
				w := newWorld(t, uint64(n), items)
				w.histories(histories / worlds)
				mu.Lock()
				defer mu.Unlock()
				for what, n := range w.sum {
					sum[what] += n
				}
			})
		}
	})
	t.Log(sum)
	for _, what := range []string{"killed", "lost", "removed", "written", "edited"} {
		assert.Positive(t, sum[what], what)
	}
}

// histories has histories befall one item after the other, until all are gone from the device, and again.
func (w *world) histories(n int) {
	for range n {
		if w.one() == "" {
			w.shoot()
		}
		w.history()
	}
	for name, f := range w.held {
		require.NoError(w.t, f.Close(), name)
	}
	// Whatever is in the holding place comes back.
	w.kill = -1
	_, err := w.maker.TakeBack(w.t.Context(), nil, w.now)
	require.NoError(w.t, err)
	left, err := w.records.Rooms.InHolding(w.t.Context(), nil, 0, 1000)
	require.NoError(w.t, err)
	assert.Empty(w.t, left)
	w.check("all taken back")
}

// shoot takes new pictures, of which some have a sidecar.
func (w *world) shoot() {
	var all []records.Item
	for range w.items {
		w.shot++
		name := fmt.Sprintf("%03d/IMG_%03d.jpg", w.shot%7, w.shot)
		all = append(all, w.item(name, "photo"))
		if w.shot%5 == 0 {
			all = append(all, w.item(name+".xmp", "document"))
		}
	}
	require.NoError(w.t, w.records.Catalogue.Admit(w.t.Context(), all, w.plan, w.now))
	w.makeSafe()
}

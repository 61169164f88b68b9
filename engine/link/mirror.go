package link

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yardtide/core/plan"
	"yardtide/engine/records"
	"yardtide/engine/tell"
)

// MirrorOptions make a mirror. All are needed.
type MirrorOptions struct {
	Device string // its name, at first
	Dir    string // where its files lie
	Tell   func() // something that is told changed
	Log    *slog.Logger
}

// Mirror is a device elsewhere, as the service sees it: told of from its records as they
// were told last, and ordered by way of the link. Its methods are safe for concurrent use.
type Mirror struct {
	MirrorOptions
	Told   Told
	Shows  Shows
	Orders Orders

	name   atomic.Pointer[string]
	orders orders

	taking sync.Mutex // batches are taken by one at a time

	mu      sync.Mutex
	now     *records.Records // whole
	next    *records.Records // being told anew, nil when nothing is
	number  int64            // of the file of the newest
	files   map[*records.Records]string
	retired []retired
	plan    *plan.Plan
	mark    string // of the device's part of it, as it was given to the device
	told    told

	unreadable time.Time // since when what was told cannot be read; zero while it can
}

// retired is a mirror that is of no more use, which somebody may be reading still.
type retired struct {
	records *records.Records
	since   time.Time
}

// readsEnd is how long after a mirror was retired nobody reads it any more.
const readsEnd = time.Minute

// told is what the device told last beside its records, as it is kept.
type told struct {
	Known   tell.Known    `json:"known"`
	Boot    string        `json:"boot"`
	Count   int64         `json:"count"`
	Heard   time.Time     `json:"heard"`           // when, by the service's clock
	Ahead   time.Duration `json:"ahead,omitempty"` // how far the device's clock is before the service's
	Plan    string        `json:"plan"`            // the mark of the plan it follows
	Version string        `json:"version"`
}

const (
	toldFact  records.Fact[told]   = "told"
	lastFact  records.Fact[string] = "last batch"
	wholeFact records.Fact[int]    = "whole" // 1 once everything was told
)

// OpenMirror opens what is there of a device, or begins with nothing.
func OpenMirror(ctx context.Context, o MirrorOptions) (m *Mirror, err error) {
	m = &Mirror{MirrorOptions: o, files: map[*records.Records]string{}, plan: &plan.Plan{}}
	m.name.Store(&o.Device)
	m.Told, m.Shows, m.Orders = Told{m}, Shows{m}, Orders{m}
	m.orders.file = filepath.Join(o.Dir, "orders.json")
	if err := m.orders.load(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, m.Close())
		}
	}()
	entries, err := os.ReadDir(o.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("listing the mirrors of %s: %w", o.Device, err)
	}
	var numbers []int64
	for _, e := range entries {
		text, is := strings.CutPrefix(strings.TrimSuffix(e.Name(), ".db"), "mirror-")
		if n, err := strconv.ParseInt(text, 10, 64); is && err == nil && strings.HasSuffix(e.Name(), ".db") {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	slices.Reverse(numbers) // the newest whole one counts, and the one that was begun after it
	for _, n := range numbers {
		m.number = max(m.number, n)
		file := m.file(n)
		if m.now != nil {
			m.remove(file)
			continue
		}
		r, err := records.OpenMirror(ctx, file, "")
		if err != nil {
			o.Log.Warn("a mirror cannot be read; the device tells everything anew", "device", o.Device, "err", err)
			m.remove(file)
			continue
		}
		m.files[r] = file
		_, whole, err := wholeFact.Read(ctx, &r.Facts)
		switch {
		case err != nil:
			return nil, err
		case whole:
			m.now = r
		case m.next == nil:
			m.next = r
		default:
			m.discard(r)
		}
	}
	if m.now == nil {
		if m.now, err = m.begin(ctx, ""); err != nil {
			return nil, err
		}
	}
	m.told, _, err = toldFact.Read(ctx, &m.now.Facts)
	m.told.Known.Sound() // before it is heard of, nothing of it is known
	return m, err
}

func (m *Mirror) file(n int64) string {
	return filepath.Join(m.Dir, "mirror-"+strconv.FormatInt(n, 10)+".db")
}

// begin begins a new mirror.
func (m *Mirror) begin(ctx context.Context, epoch string) (*records.Records, error) {
	m.number++
	file := m.file(m.number)
	r, err := records.OpenMirror(ctx, file, epoch)
	if err != nil {
		return nil, err
	}
	m.files[r] = file
	return r, nil
}

// discard retires a mirror. Those that were retired a while ago go.
func (m *Mirror) discard(r *records.Records) {
	now := time.Now()
	m.retired = slices.DeleteFunc(append(m.retired, retired{r, now}), func(one retired) bool {
		if now.Sub(one.since) < readsEnd {
			return false
		}
		m.drop(one.records)
		return true
	})
}

// drop closes a mirror and removes its file.
func (m *Mirror) drop(r *records.Records) {
	if err := r.Close(); err != nil {
		m.Log.Warn("a mirror that is of no more use could not be closed", "device", m.DeviceName(), "err", err)
	}
	m.remove(m.files[r])
	delete(m.files, r)
}

func (m *Mirror) remove(file string) {
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(file + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			m.Log.Warn("a mirror that is of no more use stays", "file", file+end, "err", err)
		}
	}
}

// Close closes the files.
func (m *Mirror) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, one := range m.retired {
		m.drop(one.records)
	}
	var err error
	for _, r := range []*records.Records{m.now, m.next} {
		if r != nil {
			err = errors.Join(err, r.Close())
		}
	}
	m.retired, m.next = nil, nil
	return err
}

// Records are what the device has, as it was told last.
func (m *Mirror) Records() *records.Records {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.now
}

// mostAhead is how far two clocks may be apart without a word.
const mostAhead = 2 * time.Minute

// Take takes what a device told, once, and answers what is there then. The error is
// records.Wrong for what no device tells.
func (m *Mirror) Take(ctx context.Context, b Batch) (Have, error) {
	if err := b.check(); err != nil {
		return Have{}, err
	}
	m.taking.Lock()
	defer m.taking.Unlock()
	m.hear(b)
	if m.Unreadable() != (time.Time{}) && b.ID != "" && !b.Begin && !m.beginning() {
		return Have{Time: time.Now(), Last: tellAnew}, nil
	}
	now, next, have, err := m.ends(ctx)
	if err != nil {
		return have, err
	}
	switch {
	case b.ID == "" || b.ID == have.Last:
		return have, m.keepTold(ctx, now)
	case b.Begin:
		if next, err = m.beginAnew(ctx, b.Epoch); err != nil {
			return have, err
		}
	case next != nil && b.After == have.Last:
	default:
		last, _, err := lastFact.Read(ctx, &now.Facts)
		if err != nil {
			return have, err
		}
		if b.After == "" || b.After != last || b.Epoch != now.Catalogue.Epoch() {
			have.Last = last
			if next != nil {
				have.Last, _, err = lastFact.Read(ctx, &next.Facts)
			}
			return have, err
		}
		m.mu.Lock()
		if m.next != nil && m.next != m.now { // the device knows nothing of it
			m.discard(m.next)
			m.next, next = nil, nil
		}
		m.mu.Unlock()
	}
	into := now
	facts := []records.NamedFact{lastBatch(b.ID)}
	if next != nil {
		into = next
	}
	if b.Whole || next == nil {
		facts = append(facts, records.NamedFact{Name: string(wholeFact), Value: "1"})
	}
	kept, err := m.toldNow()
	if err != nil {
		return have, err
	}
	if err := into.Mirror.Take(ctx, b.Rows, lastBatch(b.After), append(facts, kept)...); err != nil {
		return have, err
	}
	if b.Whole && next != nil {
		m.mu.Lock()
		if m.now != m.next {
			m.discard(m.now)
		}
		m.now, m.next = m.next, nil
		m.unreadable = time.Time{}
		m.mu.Unlock()
	}
	m.Tell()
	have.Last = b.ID
	return have, nil
}

// ends are the mirrors that there are, and the last batch of the one being told.
func (m *Mirror) ends(ctx context.Context) (now, next *records.Records, have Have, err error) {
	m.mu.Lock()
	now, next = m.now, m.next
	m.mu.Unlock()
	have.Time = time.Now()
	of := now
	if next != nil {
		of = next
	}
	have.Last, _, err = lastFact.Read(ctx, &of.Facts)
	return now, next, have, err
}

func (m *Mirror) beginAnew(ctx context.Context, epoch string) (*records.Records, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.next != nil && m.next != m.now {
		m.discard(m.next)
	}
	next, err := m.begin(ctx, epoch)
	if err != nil {
		return nil, err
	}
	m.next = next
	if _, whole, err := wholeFact.Read(ctx, &m.now.Facts); err == nil && !whole { // nothing was told yet
		m.discard(m.now)
		m.now = next
	}
	return next, nil
}

// hear notes what a device tells beside its records, unless it told something later.
func (m *Mirror) hear(b Batch) {
	defer m.Tell()
	now := time.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.told.Heard = now
	if b.Known == nil || b.Boot == m.told.Boot && b.Count <= m.told.Count {
		return
	}
	b.Known.Sound()
	m.told = told{Known: *b.Known, Boot: b.Boot, Count: b.Count, Heard: now, Plan: b.Plan, Version: b.Version}
	if ahead := b.Time.Sub(now); ahead > mostAhead || ahead < -mostAhead {
		m.told.Ahead = ahead.Round(time.Second)
	}
}

// toldNow is how it is kept for the next start.
func (m *Mirror) toldNow() (records.NamedFact, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return toldFact.Is(m.told)
}

// lastBatch is the fact which batch was taken last.
func lastBatch(id string) records.NamedFact {
	return records.NamedFact{Name: string(lastFact), Value: id}
}

// keepTold keeps it.
func (m *Mirror) keepTold(ctx context.Context, in *records.Records) error {
	kept, err := m.toldNow()
	if err != nil {
		return err
	}
	return in.Facts.SetFact(ctx, kept.Name, kept.Value)
}

// Heard notes that the device asked something.
func (m *Mirror) Heard() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.told.Heard = time.Now()
}

// connected tells whether the device was heard of lately.
func (t told) connected(now time.Time) bool { return now.Sub(t.Heard) < silentAfter }

// DeviceName is what the plan calls it.
func (m *Mirror) DeviceName() string { return *m.name.Load() }

// Rename calls the device otherwise from now on.
func (m *Mirror) Rename(to string) { m.name.Store(&to) }

// Folder is where a source lies on the device.
func (m *Mirror) Folder(source string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.told.Known.Sources[source].Path
}

// Run ends with the context: the device runs elsewhere.
func (m *Mirror) Run(ctx context.Context) error {
	<-ctx.Done()
	return nil
}

// SetPlan gives the plan in force; the device takes up its part of it.
func (m *Mirror) SetPlan(p *plan.Plan) {
	m.mu.Lock()
	m.plan = p
	m.mu.Unlock()
	m.orders.wakeUp()
}

// Gave notes which part of the plan the device was told of.
func (m *Mirror) Gave(mark string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.mark = mark
}

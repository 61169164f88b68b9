// Package library finds items among all that the yard knows, on whichever device and at whichever place, also of devices
// that are gone. It holds an index of them in memory while somebody looks, and nothing on disk.
package library

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/search"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/engine/tell"
	"yardtide/service/household"
	"yardtide/wire"
	"yardtide/wire/findwire"
)

// Holder is a device as the library sees it.
type Holder interface {
	DeviceName() string
	Feed(ctx context.Context, f *tell.Feed, into tell.Into) error
	ItemsOf(ctx context.Context, ids []int64) ([]wire.Item, error)
	// Say changes what the keeper said of items.
	Say(ctx context.Context, items []int64, change media.KeeperChange) (int64, error)
}

// Library finds items. Devices and Plan must be set.
type Library struct {
	Devices func() []Holder
	Plan    func() *plan.Plan

	mu      sync.Mutex
	index   *search.Index
	feeds   map[string]*tell.Feed
	found   map[string]*search.Found // by question, of the index as it is
	changes int                      // of the index
	boot    string
	idle    *time.Timer
}

// rest is how long the index is kept while nobody asks.
const rest = 15 * time.Minute

// mostKept is how many questions' answers are kept.
const mostKept = 16

// Question is what is asked for.
type Question struct {
	search.Query
	Device string // one of them, "" for any
	Person string // whose devices, "" for anybody's
}

// Find tells what a question found.
func (l *Library) Find(ctx context.Context, q Question) (findwire.Found, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f, err := l.find(ctx, q)
	if err != nil {
		return findwire.Found{}, err
	}
	p := l.Plan()
	people := map[string]int{}
	for device, n := range f.Devices {
		if person := p.Devices[device].Person; person != "" {
			people[person] += n
		}
	}
	told := findwire.Found{Version: l.version(), N: f.N(), Bytes: f.Bytes, Of: l.index.Len(), Months: []findwire.FoundMonth{}, Placed: f.Placed,
		Devices: shares(f.Devices), People: shares(people), Kinds: shares(f.Kinds), Cameras: shares(f.Cameras), At: shares(f.At), Sets: shares(f.Sets)}
	for _, m := range f.Months {
		told.Months = append(told.Months, findwire.FoundMonth{Year: m.Year, Month: int(m.Month), N: m.N})
	}
	return told, nil
}

// shares are counts as a list, the most first.
func shares(counts map[string]int) []findwire.FoundShare {
	list := make([]findwire.FoundShare, 0, len(counts))
	for name, n := range counts {
		list = append(list, findwire.FoundShare{Name: name, N: n})
	}
	slices.SortFunc(list, func(a, b findwire.FoundShare) int { return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Name, b.Name)) })
	return list
}

// List lists a part of what a question found.
func (l *Library) List(ctx context.Context, q Question, offset, limit int) (findwire.FoundList, error) {
	l.mu.Lock()
	f, err := l.find(ctx, q)
	if err != nil {
		l.mu.Unlock()
		return findwire.FoundList{}, err
	}
	told := findwire.FoundList{Version: l.version(), N: f.N(), Offset: offset}
	refs := l.index.Page(f, offset, limit)
	l.mu.Unlock() // the items are read beside other questions
	told.Items, err = l.entries(ctx, refs)
	return told, err
}

// Refs names all that a question found, and at most so many; the error says so where there are more.
func (l *Library) Refs(ctx context.Context, q Question, most int) ([]search.Ref, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f, err := l.find(ctx, q)
	if err != nil {
		return nil, err
	}
	if f.N() > most {
		return nil, household.Refuse("%s are more than are taken at once: ask for a part of them, such as a year", words.Count(int64(f.N())))
	}
	return l.index.Page(f, 0, f.N()), nil
}

// Spots tells where what a question found was taken, in a part of the map; nil for the one that has all of it.
func (l *Library) Spots(ctx context.Context, q Question, part *search.Box, side int) (findwire.Spots, error) {
	l.mu.Lock()
	f, err := l.find(ctx, q)
	if err != nil {
		l.mu.Unlock()
		return findwire.Spots{}, err
	}
	box := search.Box{South: -60, West: -180, North: 78, East: 180}
	if part != nil {
		box = *part
	} else if all, some := l.index.Extent(f); some {
		box = all
	}
	cells := l.index.Spread(f, box, side)
	l.mu.Unlock()
	told := findwire.Spots{Spots: []findwire.Spot{}, South: box.South, West: box.West, North: box.North, East: box.East}
	refs := make([]search.Ref, len(cells))
	for i, c := range cells {
		refs[i] = c.Newest
	}
	items, err := l.entries(ctx, refs)
	if err != nil {
		return told, err
	}
	for i, c := range cells {
		told.Spots = append(told.Spots, findwire.Spot{Lat: c.Lat, Lon: c.Lon, N: c.N, Newest: items[i]})
	}
	return told, nil
}

// entries reads items by their numbers. One that went meanwhile stands there without a key.
func (l *Library) entries(ctx context.Context, refs []search.Ref) ([]findwire.FoundItem, error) {
	list := make([]findwire.FoundItem, len(refs))
	of := map[string][]int{}
	for i, ref := range refs {
		list[i].Device, list[i].At = ref.Device, []string{}
		of[ref.Device] = append(of[ref.Device], i)
	}
	for _, d := range l.Devices() {
		at := of[d.DeviceName()]
		if len(at) == 0 {
			continue
		}
		ids := make([]int64, len(at))
		for i, k := range at {
			ids[i] = refs[k].ID
		}
		items, err := d.ItemsOf(ctx, ids)
		if err != nil {
			return nil, fmt.Errorf("reading items of %s: %w", d.DeviceName(), err)
		}
		n := 0 // they come in their order, and some may be left out
		for i := 0; i < len(at) && n < len(items); i++ {
			if records.IsKey(items[n].Key, ids[i]) {
				list[at[i]] = findwire.ItemOf(items[n])
				n++
			}
		}
	}
	return list, nil
}

// version names what the index holds. The caller has the lock.
func (l *Library) version() string { return l.boot + "-" + strconv.Itoa(l.changes) }

// find finds what a question asks for. The caller has the lock; what is found is of use while it has.
func (l *Library) find(ctx context.Context, q Question) (*search.Found, error) {
	if err := l.refresh(ctx); err != nil {
		return nil, err
	}
	if err := l.known(q); err != nil {
		return nil, err
	}
	q.Devices = l.devicesOf(q)
	key := fmt.Sprintf("%+v", q)
	if q.Box != nil {
		key += fmt.Sprintf("%+v", *q.Box)
	}
	if f, known := l.found[key]; known {
		return f, nil
	}
	if len(l.found) >= mostKept {
		clear(l.found)
	}
	f := l.index.Find(q.Query)
	l.found[key] = f
	return f, nil
}

// known refuses what nobody can have meant: a device, person or destination that is none. The caller has the lock.
func (l *Library) known(q Question) error {
	p := l.Plan()
	devices := slices.Sorted(maps.Keys(l.feeds))
	if q.Device != "" && !slices.Contains(devices, q.Device) {
		return household.Refuse("there is no device %q; there %s", q.Device, words.Are(devices))
	}
	if q.Person != "" && !slices.Contains(p.People, q.Person) {
		return household.Refuse("there is nobody called %q; there %s", q.Person, words.Are(p.People))
	}
	if _, is := p.Destinations[q.At]; q.At != "" && !is && !l.index.IsAt(q.At) {
		return household.Refuse("there is no destination %q; there %s", q.At, words.Are(slices.Sorted(maps.Keys(p.Destinations))))
	}
	return nil
}

// devicesOf are the devices that a question names, nil where it names none.
func (l *Library) devicesOf(q Question) []string {
	if q.Device == "" && q.Person == "" {
		return nil
	}
	p, list := l.Plan(), []string{}
	for name := range l.feeds {
		if (q.Device == "" || name == q.Device) && (q.Person == "" || p.Devices[name].Person == q.Person) {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// refresh brings the index up to date. The caller has the lock.
func (l *Library) refresh(ctx context.Context) error {
	if l.index != nil && l.index.Wasted() {
		l.drop()
	}
	if l.index == nil {
		b := make([]byte, 4)
		_, _ = rand.Read(b) // it never fails (crypto/rand)
		l.index, l.feeds, l.found, l.boot = &search.Index{}, map[string]*tell.Feed{}, map[string]*search.Found{}, hex.EncodeToString(b)
		l.idle = time.AfterFunc(rest, l.Close)
	}
	l.idle.Reset(rest)
	into := &filling{index: l.index}
	here := map[string]bool{}
	for _, d := range l.Devices() {
		into.device = d.DeviceName()
		here[into.device] = true
		feed := l.feeds[into.device]
		if feed == nil {
			feed = &tell.Feed{}
			l.feeds[into.device] = feed
		}
		if err := d.Feed(ctx, feed, into); err != nil && !records.IsGone(err) { // the status tells of records that are gone
			l.drop()
			return fmt.Errorf("indexing the items of %s: %w", into.device, err)
		}
	}
	for name, feed := range l.feeds {
		if !here[name] {
			feed.Close()
			delete(l.feeds, name)
			into.changed = true
			l.index.RemoveAll(name)
		}
	}
	if into.changed {
		l.changes++
		clear(l.found)
	}
	return nil
}

// drop lets go of the index. The caller has the lock.
func (l *Library) drop() {
	for _, feed := range l.feeds {
		feed.Close()
	}
	if l.idle != nil {
		l.idle.Stop()
	}
	l.index, l.feeds, l.found, l.idle = nil, nil, nil, nil
}

// Close lets go of the index; it is made again when somebody asks.
func (l *Library) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.drop()
}

// filling puts what a feed tells into the index.
type filling struct {
	index   *search.Index
	device  string
	changed bool
}

func (f *filling) Anew() {
	f.changed = true
	f.index.RemoveAll(f.device)
}

func (f *filling) Put(it search.Entry) {
	f.changed = true
	f.index.Put(f.device, it)
}

func (f *filling) Remove(id int64) {
	f.changed = true
	f.index.Remove(f.device, id)
}

package search_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/search"
)

// one is an item as a plain list has it.
type one struct {
	device string
	search.Entry
}

// wall is the clock where it was taken.
func (o one) wall() int64 {
	_, offset := o.Taken.Zone()
	return o.Taken.UnixMilli() + int64(offset)*1000
}

// is tells the slow way whether an item is asked for.
func (o one) is(q search.Query) bool {
	day := func(t time.Time) int64 {
		return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).UnixMilli()
	}
	said := []string{o.Name, o.Caption, o.Note, o.Folder, o.Camera}
	said = append(said, o.Keywords...)
	for _, word := range strings.Fields(strings.ToLower(q.Text)) {
		if !slices.ContainsFunc(said, func(s string) bool { return strings.Contains(strings.ToLower(s), word) }) {
			return false
		}
	}
	return (q.Devices == nil || slices.Contains(q.Devices, o.device)) &&
		(q.Folder == "" || o.Folder == q.Folder || strings.HasPrefix(o.Folder, q.Folder+"/")) &&
		(q.Kind == "" || q.Kind == o.Kind) && (q.Camera == "" || q.Camera == o.Camera) &&
		(q.At == "" || slices.Contains(o.At, q.At)) && (q.Set == "" || slices.Contains(o.Sets, q.Set)) &&
		o.Rating >= q.Rated && (q.From.IsZero() || o.wall() >= day(q.From)) && (q.To.IsZero() || o.wall() < day(q.To)) &&
		(q.Where == "" || (q.Where == search.Gone) == o.Gone) && (!q.Marked || o.Marked) && q.Hidden == o.Hidden &&
		(q.Box == nil || o.Position != nil && q.Box.Has(o.Position.Lat, o.Position.Lon))
}

// random makes items and questions of few different things, so that they meet.
type random struct{ *rand.Rand }

func pick[T any](r random, of ...T) T { return of[r.IntN(len(of))] }

func (r random) item(id int64) search.Entry {
	zone := time.FixedZone("", pick(r, -8, 0, 1, 13)*3600)
	it := search.Entry{ID: id, Taken: time.UnixMilli(1_600_000_000_000 + r.Int64N(90*86_400_000)).In(zone), Kind: pick(r, media.Photo, media.Video, media.Raw),
		Bytes: r.Int64N(1000), Folder: pick(r, "DCIM", "DCIM/Camera", "DCIM/Cam", "Scans"), Name: fmt.Sprintf("IMG_%04d.%s", r.IntN(3000), pick(r, "JPG", "jpg")),
		Camera: pick(r, "", "Gull 7", "Heron"), Caption: pick(r, "", "", "At low tide"), Keywords: pick(r, nil, []string{"boats"}, []string{"regatta", "boats"}),
		Rating: r.IntN(6), Gone: r.IntN(4) == 0, At: pick(r, nil, []string{"shed"}, []string{"shed", "locker"}), Marked: r.IntN(5) == 0,
		Hidden: r.IntN(9) == 0, Sets: pick(r, nil, nil, []string{"Wren"}), Note: pick(r, "", "", "for Ines")}
	if r.IntN(3) == 0 {
		it.Position = &media.Position{Lat: float64(r.IntN(40)) + 0.25, Lon: float64(r.IntN(360)) - 179.75}
	}
	return it
}

func (r random) query() (q search.Query) {
	day := func() time.Time {
		return pick(r, time.Time{}, time.UnixMilli(1_600_000_000_000+r.Int64N(90*86_400_000)).UTC())
	}
	for range 1 + r.IntN(3) {
		switch r.IntN(12) {
		case 0:
			q.Devices = pick(r, []string{"a"}, []string{"a", "b"}, []string{"none"}, []string{})
		case 1:
			q.Folder = pick(r, "DCIM", "DCIM/Cam", "none")
		case 2:
			q.Kind = pick(r, media.Photo, media.Audio)
		case 3:
			q.Camera = pick(r, "Heron", "none")
		case 4:
			q.At = pick(r, "shed", "locker", "none")
		case 5:
			q.Rated = r.IntN(6)
		case 6:
			q.From, q.To = day(), day()
		case 7:
			q.Text = pick(r, "img", "g_00 boats", "TIDE", "7.jpg", "dcim heron", "none", "a", "ines")
		case 8:
			q.Where, q.Hidden = pick(r, search.Here, search.Gone), r.IntN(4) == 0
		case 9:
			q.Set, q.Marked = pick(r, "", "Wren"), r.IntN(2) == 0
		case 10:
			q.Box = &search.Box{South: float64(r.IntN(20)), North: float64(20 + r.IntN(20)), West: float64(r.IntN(360) - 180), East: float64(r.IntN(360) - 180)}
		}
	}
	return q
}

// What is found is what a plain walk over a list finds, in its order, whatever was put in, changed and taken out before.
func TestFindsWhatAWalkFinds(t *testing.T) {
	t.Parallel()
	for seed := range uint64(12) {
		r := random{rand.New(rand.NewPCG(24, seed))}
		var x search.Index
		all := map[search.Ref]one{}
		for range 12 {
			for range r.IntN(60) {
				ref := search.Ref{Device: pick(r, "a", "b", "c"), ID: r.Int64N(200)}
				before, known := all[ref]
				it := r.item(ref.ID)
				switch {
				case known && r.IntN(3) == 0:
					x.Remove(ref.Device, ref.ID)
					delete(all, ref)
					continue
				case known && r.IntN(2) == 0: // the same file, of which more is known
					it.Name = before.Name
				}
				x.Put(ref.Device, it)
				all[ref] = one{ref.Device, it}
			}
			if r.IntN(9) == 0 {
				x.RemoveAll("c")
				for ref := range all {
					if ref.Device == "c" {
						delete(all, ref)
					}
				}
			}
			assert.Equal(t, len(all), x.Len())
			for range 8 {
				same(t, &x, all, r.query())
			}
		}
	}
}

func same(t *testing.T, x *search.Index, all map[search.Ref]one, q search.Query) {
	t.Helper()
	var want []one
	bytes, placed := int64(0), 0
	devices, at := map[string]int{}, map[string]int{}
	for _, o := range all {
		if !o.is(q) {
			continue
		}
		want = append(want, o)
		bytes += o.Bytes
		devices[o.device]++
		for _, to := range o.At {
			at[to]++
		}
		if o.Position != nil {
			placed++
		}
	}
	slices.SortFunc(want, func(a, b one) int { return cmp.Compare(b.wall(), a.wall()) })
	f := x.Find(q)
	require.Equal(t, len(want), f.N(), "%+v", q)
	assert.Equal(t, bytes, f.Bytes)
	assert.Equal(t, placed, f.Placed)
	assert.Equal(t, devices, f.Devices)
	assert.Equal(t, at, f.At)
	got := x.Page(f, 0, f.N())
	assert.Equal(t, got, append(x.Page(f, 0, 7), x.Page(f, 7, f.N())...))
	n := 0
	for _, m := range f.Months {
		for i := n; i < n+m.N; i++ {
			o := all[got[i]]
			assert.Equal(t, want[i].wall(), o.wall())
			assert.Equal(t, m, search.Month{Year: o.Taken.Year(), Month: o.Taken.Month(), N: m.N}, "a month is told by the clock where it was taken")
		}
		n += m.N
	}
	assert.Equal(t, f.N(), n)
	box := search.Box{South: 5, North: 35, West: 170, East: -20}
	inside, spread := 0, 0
	for _, o := range want {
		if o.Position != nil && box.Has(o.Position.Lat, o.Position.Lon) {
			inside++
		}
	}
	for _, c := range x.Spread(f, box, 8) {
		spread += c.N
		assert.True(t, box.Has(c.Lat, c.Lon), "%+v", c)
		assert.Contains(t, got, c.Newest)
	}
	assert.Equal(t, inside, spread)
}

func TestAnEmptyIndexFindsNothing(t *testing.T) {
	t.Parallel()
	var x search.Index
	f := x.Find(search.Query{Text: "boat"})
	assert.Zero(t, f.N())
	assert.Empty(t, x.Page(f, -3, 10))
	assert.Empty(t, x.Page(f, 0, -1))
	x.Remove("a", 1)
	x.RemoveAll("a")
	assert.Zero(t, x.Len())
}

package search

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardtide/core/media"
)

// Find finds what a query asks for. What is found names rows: it is of use until the next Put or Remove.
func (x *Index) Find(q Query) *Found {
	x.settle()
	f := &Found{Devices: map[string]int{}, Kinds: map[string]int{}, Cameras: map[string]int{}, At: map[string]int{}, Sets: map[string]int{}}
	want, none := x.wanted(q)
	if none {
		return f
	}
	t := newTally(x)
	for _, row := range x.order {
		if want(row) {
			f.rows = append(f.rows, row)
			t.add(row)
		}
	}
	t.into(f)
	return f
}

// tally counts what is found.
type tally struct {
	x                      *Index
	bytes                  int64
	placed                 int
	devices, kinds, camera []int
	at, sets               [64]int
	months                 []Month
	first, next            int64 // of the month that is counted: from its first moment until the next's
}

func newTally(x *Index) *tally {
	return &tally{x: x, devices: make([]int, len(x.devices.all)), kinds: make([]int, len(media.Kinds)+1),
		camera: make([]int, max(1, len(x.texts.all))), first: math.MaxInt64, next: math.MinInt64}
}

func (t *tally) add(row uint32) {
	x := t.x
	t.bytes += x.size[row]
	t.devices[x.device[row]]++
	t.kinds[x.kind[row]]++
	t.camera[x.camera[row]]++
	if x.lat[row] == x.lat[row] { // a number
		t.placed++
	}
	for bits, n := x.safeAt[row], 0; bits != 0; bits, n = bits>>1, n+1 {
		t.at[n] += int(bits & 1)
	}
	for bits, n := x.inSets[row], 0; bits != 0; bits, n = bits>>1, n+1 {
		t.sets[n] += int(bits & 1)
	}
	if wall := x.wall[row]; wall < t.first || wall >= t.next {
		at := time.UnixMilli(wall).UTC()
		begin := time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
		t.first, t.next = begin.UnixMilli(), begin.AddDate(0, 1, 0).UnixMilli()
		t.months = append(t.months, Month{Year: at.Year(), Month: at.Month()})
	}
	t.months[len(t.months)-1].N++
}

func (t *tally) into(f *Found) {
	f.Bytes, f.Placed, f.Months = t.bytes, t.placed, t.months
	put := func(into map[string]int, counts []int, name func(int) string) {
		for i, n := range counts {
			if n > 0 && name(i) != "" {
				into[name(i)] = n
			}
		}
	}
	of := func(all []string) func(int) string { return func(i int) string { return all[i] } }
	put(f.Devices, t.devices, of(t.x.devices.all))
	put(f.Kinds, t.kinds[1:], func(i int) string { return string(media.Kinds[i]) })
	if len(t.x.texts.all) > 0 {
		put(f.Cameras, t.camera, of(t.x.texts.all))
	}
	put(f.At, t.at[:min(64, len(t.x.at.all))], of(t.x.at.all))
	put(f.Sets, t.sets[:min(64, len(t.x.sets.all))], of(t.x.sets.all))
}

// wanted is what tells whether a row is asked for; none where no row can be.
func (x *Index) wanted(q Query) (want func(row uint32) bool, none bool) {
	var all []func(uint32) bool
	must := func(is func(uint32) bool) { all = append(all, is) }
	if q.Devices != nil {
		in := make([]bool, len(x.devices.all))
		for _, d := range q.Devices {
			if n := x.devices.find(d); n >= 0 {
				in[n] = true
			}
		}
		must(func(row uint32) bool { return in[x.device[row]] })
	}
	if !q.From.IsZero() || !q.To.IsZero() {
		from, to := int64(math.MinInt64), int64(math.MaxInt64)
		if !q.From.IsZero() {
			from = dayMS(q.From)
		}
		if !q.To.IsZero() {
			to = dayMS(q.To)
		}
		must(func(row uint32) bool { return x.wall[row] >= from && x.wall[row] < to })
	}
	if q.Kind != "" && q.Kind != media.Everything {
		kind := uint8(slices.Index(media.Kinds, q.Kind) + 1)
		must(func(row uint32) bool { return x.kind[row] == kind })
	}
	if q.Camera != "" {
		n := x.texts.find(q.Camera)
		if n < 0 {
			return nil, true
		}
		must(func(row uint32) bool { return x.camera[row] == uint32(n) })
	}
	for _, one := range []struct {
		name string
		of   *table
		bits []uint64
	}{{q.At, &x.at, x.safeAt}, {q.Set, &x.sets, x.inSets}} {
		if one.name == "" {
			continue
		}
		n := one.of.find(one.name)
		if n < 0 || n > 63 {
			return nil, true
		}
		must(func(row uint32) bool { return one.bits[row]&(1<<n) != 0 })
	}
	if q.Rated > 0 {
		must(func(row uint32) bool { return int(x.rating[row]) >= q.Rated })
	}
	if folder := strings.Trim(q.Folder, "/"); folder != "" {
		in := x.textsThat(func(s string) bool { return s == folder || strings.HasPrefix(s, folder+"/") }, x.texts.all)
		must(func(row uint32) bool { return in[x.folder[row]] })
	}
	must(x.state(q))
	if q.Box != nil {
		must(func(row uint32) bool { return q.Box.Has(float64(x.lat[row]), float64(x.lon[row])) })
	}
	for _, word := range strings.Fields(strings.ToLower(q.Text)) {
		must(x.word(word))
	}
	return func(row uint32) bool {
		for _, is := range all {
			if !is(row) {
				return false
			}
		}
		return true
	}, false
}

// state tells of what is marked, hidden, gone or here.
func (x *Index) state(q Query) func(uint32) bool {
	has, lacks := uint8(0), dead
	switch q.Where {
	case Here:
		lacks |= gone
	case Gone:
		has |= gone
	}
	if q.Marked {
		has |= marked
	}
	if q.Hidden {
		has |= hidden
	} else {
		lacks |= hidden
	}
	return func(row uint32) bool { return x.flags[row]&has == has && x.flags[row]&lacks == 0 }
}

// dayMS is the first moment of a day, on a clock without zones.
func dayMS(t time.Time) int64 {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).UnixMilli()
}

// textsThat tells of each text whether it is so.
func (x *Index) textsThat(is func(string) bool, texts []string) []bool {
	in := make([]bool, max(1, len(texts)))
	for i, s := range texts {
		in[i] = is(s)
	}
	return in
}

// word tells what has a word in its name, or in what is said of it.
func (x *Index) word(word string) func(uint32) bool {
	said := x.textsThat(func(s string) bool { return strings.Contains(s, word) }, x.lower)
	named := make([]uint64, (len(x.id)+63)/64)
	for at, row := 0, 0; ; {
		n := bytes.Index(x.names[at:], []byte(word))
		if n < 0 {
			break
		}
		at += n
		for row+1 < len(x.nameAt) && int(x.nameAt[row+1]) <= at { // to the name that it is in
			row++
		}
		named[row/64] |= 1 << (row % 64)
		if row+1 == len(x.nameAt) {
			break
		}
		at = int(x.nameAt[row+1])
	}
	return func(row uint32) bool {
		return said[x.said[row]] || said[x.folder[row]] || said[x.camera[row]] || named[row/64]&(1<<(row%64)) != 0
	}
}

// Cell is what was taken in one cell of a map.
type Cell struct {
	Lat, Lon float64 // their middle
	N        int
	Newest   Ref
}

// Spread tells where what was found was taken, in cells of a box, so many a side.
func (x *Index) Spread(f *Found, box Box, side int) []Cell {
	type sum struct {
		lat, lon float64
		n        int
		newest   uint32
	}
	width := box.East - box.West
	if width < 0 {
		width += 360
	}
	cells := map[int]*sum{}
	for _, row := range f.rows {
		lat, lon := float64(x.lat[row]), float64(x.lon[row])
		if !box.Has(lat, lon) {
			continue
		}
		east := lon - box.West
		if east < 0 {
			east += 360
		}
		cell := int(float64(side)*(lat-box.South)/(box.North-box.South+1e-9))*side + int(float64(side)*east/(width+1e-9))
		s := cells[cell]
		if s == nil {
			s = &sum{newest: row}
			cells[cell] = s
		}
		s.lat, s.lon, s.n = s.lat+lat, s.lon+box.West+east, s.n+1
	}
	list := make([]Cell, 0, len(cells))
	for _, s := range cells {
		lon := s.lon / float64(s.n)
		if lon > 180 {
			lon -= 360
		}
		list = append(list, Cell{s.lat / float64(s.n), lon, s.n, Ref{x.devices.all[x.device[s.newest]], x.id[s.newest]}})
	}
	slices.SortFunc(list, func(a, b Cell) int { return b.N - a.N })
	return list
}

// Extent is the smallest box, with a margin, that has all positions of what was found; false where there are none. It
// never goes over the date line.
func (x *Index) Extent(f *Found) (b Box, some bool) {
	b = Box{South: 90, West: 180, North: -90, East: -180}
	for _, row := range f.rows {
		lat, lon := float64(x.lat[row]), float64(x.lon[row])
		if lat != lat { // not a number: nobody knows
			continue
		}
		some = true
		b.South, b.North, b.West, b.East = min(b.South, lat), max(b.North, lat), min(b.West, lon), max(b.East, lon)
	}
	if !some {
		return Box{}, false
	}
	tall, wide := max(0.02, (b.North-b.South)/8), max(0.03, (b.East-b.West)/8)
	return Box{max(-90, b.South-tall), max(-180, b.West-wide), min(90, b.North+tall), min(180, b.East+wide)}, true
}

// ParseBox reads a box: south, west, north and east in degrees, parted by commas.
func ParseBox(text string) (b Box, err error) {
	parts := strings.Split(text, ",")
	if len(parts) != 4 {
		return b, errors.New("a part of a map is south, west, north and east in degrees, such as 54.1,10.2,54.6,11")
	}
	for i, into := range []*float64{&b.South, &b.West, &b.North, &b.East} {
		most := [2]float64{90, 180}[i%2]
		if *into, err = strconv.ParseFloat(strings.TrimSpace(parts[i]), 64); err != nil || !(math.Abs(*into) <= most) {
			return b, fmt.Errorf("%q is not within %g degrees", parts[i], most)
		}
	}
	if b.South > b.North {
		return b, errors.New("its south lies north of its north")
	}
	return b, nil
}

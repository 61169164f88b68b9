// Package search finds items among very many by what is known of them, newest first, and counts them by month and by
// what they have in common. It holds a few dozen bytes an item, and looks at each of them for a question: a million take
// some milliseconds. It knows no file and no database: whoever has the items puts them in.
package search

import (
	"bytes"
	"cmp"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"yardtide/core/media"
)

// Entry is what can be found of an item.
type Entry struct {
	ID       int64     // in its device's records
	Taken    time.Time // in the zone where it was taken: items are ordered by the clock there
	Kind     media.Kind
	Bytes    int64
	Folder   string // on its device, from the source on, parted by slashes
	Name     string
	Camera   string
	Caption  string
	Keywords []string
	Rating   int
	Gone     bool     // from its device
	At       []string // the destinations at which it is safe
	Position *media.Position
	Marked   bool
	Hidden   bool
	Sets     []string
	Note     string
}

// Query is what is asked for; the zero value asks for all that is not hidden. What it names must all be so.
type Query struct {
	Devices []string // one of these; nil for any
	Folder  string   // or below it
	Kind    media.Kind
	Camera  string
	At      string // safe at this destination
	Rated   int    // so many stars, or more
	// From and To are days, by the clock where it was taken; To is not among them. Zero leaves that end open.
	From, To time.Time
	Text     string // each of its words is in a name, caption, keyword, note, folder or camera
	Where    Where
	Set      string
	Marked   bool
	Hidden   bool // only what is hidden
	Box      *Box
}

// Where tells whether an item is still on its device.
type Where string

// The zero Where takes both.
const (
	Here Where = "here"
	Gone Where = "gone"
)

// Box is a part of a map, in degrees. West may be more than East: it goes over the date line then.
type Box struct{ South, West, North, East float64 }

// Has tells whether a position is in the box.
func (b Box) Has(lat, lon float64) bool {
	if lat < b.South || lat > b.North {
		return false
	}
	if b.West <= b.East {
		return lon >= b.West && lon <= b.East
	}
	return lon >= b.West || lon <= b.East
}

// Found is what a query found.
type Found struct {
	rows   []uint32
	Bytes  int64
	Months []Month // the newest first
	// How many of what was found are of each device, kind, camera and set, and are safe at each destination.
	Devices, Kinds, Cameras, At, Sets map[string]int
	Placed                            int // that tell where they were taken
}

// N is how many were found.
func (f *Found) N() int { return len(f.rows) }

// Month is how many were taken in one.
type Month struct {
	Year  int
	Month time.Month
	N     int
}

// Ref names an item.
type Ref struct {
	Device string
	ID     int64
}

// Index holds the items of some devices. The zero value is empty. It is not safe for concurrent use.
type Index struct {
	devices table
	texts   table // folders, cameras and what people wrote, each once; 0 is ""
	lower   []string
	at      table // destinations
	sets    table
	of      [][]uint32 // by device: its rows, by their numbers

	// One entry a row.
	device         []uint16
	id             []int64
	wall           []int64 // milliseconds of the clock where it was taken
	kind           []uint8
	size           []int64
	folder, camera []uint32
	said           []uint32 // caption, keywords and note
	rating         []int8
	flags          []uint8
	safeAt         []uint64
	inSets         []uint64
	lat, lon       []float32 // NaN where nobody knows
	nameAt         []uint32  // where its name begins
	names          []byte    // in lower case, each ended by a zero
	dead           int
	order          []uint32 // of the rows that live, the newest first
	fresh          []uint32 // rows that are in no order yet
	misplaced      map[uint32]bool
}

const (
	gone uint8 = 1 << iota
	marked
	hidden
	dead
)

// table numbers texts.
type table struct {
	all []string
	no  map[string]uint32
}

func (t *table) number(s string) uint32 {
	n, known := t.no[s]
	if known {
		return n
	}
	if t.no == nil {
		t.no = map[string]uint32{}
	}
	n = uint32(len(t.all))
	t.all, t.no[s] = append(t.all, s), n
	return n
}

// find is the number of a text, -1 where there is none.
func (t *table) find(s string) int {
	if n, known := t.no[s]; known {
		return int(n)
	}
	return -1
}

// bits are the numbers of at most 64 texts; more are left out.
func (t *table) bits(list []string) (bits uint64) {
	for _, s := range list {
		if n := t.number(s); n < 64 {
			bits |= 1 << n
		}
	}
	return bits
}

func (x *Index) text(s string) uint32 {
	if x.lower == nil {
		x.texts.number("")
		x.lower = []string{""}
	}
	n := x.texts.number(s)
	if int(n) == len(x.lower) {
		x.lower = append(x.lower, strings.ToLower(s))
	}
	return n
}

// Len is how many items there are.
func (x *Index) Len() int { return len(x.id) - x.dead }

// Wasted tells that much of the index is of items that were put in anew: it is time to make another.
func (x *Index) Wasted() bool { return x.dead > 1000 && x.dead > len(x.id)/4 }

// row finds the row of an item.
func (x *Index) row(device uint32, id int64) (at int, found bool) {
	if int(device) >= len(x.of) {
		return 0, false
	}
	return slices.BinarySearchFunc(x.of[device], id, func(row uint32, id int64) int { return cmp.Compare(x.id[row], id) })
}

// Put puts an item of a device in, or what is known of it anew.
func (x *Index) Put(device string, it Entry) {
	d := x.devices.number(device)
	for int(d) >= len(x.of) {
		x.of = append(x.of, nil)
	}
	name := strings.ToLower(it.Name)
	_, offset := it.Taken.Zone()
	wall := it.Taken.UnixMilli() + int64(offset)*1000
	at, known := x.row(d, it.ID)
	if known {
		row := x.of[d][at]
		if string(x.nameOf(row)) == name {
			if x.wall[row] != wall {
				x.wall[row] = wall
				x.misplace(row)
			}
			x.set(row, it)
			return
		}
		x.kill(row)
	}
	row := uint32(len(x.id))
	x.device, x.id, x.wall = append(x.device, uint16(d)), append(x.id, it.ID), append(x.wall, wall)
	x.nameAt = append(x.nameAt, uint32(len(x.names)))
	x.names = append(append(x.names, strings.ReplaceAll(name, "\x00", " ")...), 0)
	x.kind, x.size = append(x.kind, 0), append(x.size, 0)
	x.folder, x.camera, x.said = append(x.folder, 0), append(x.camera, 0), append(x.said, 0)
	x.rating, x.flags = append(x.rating, 0), append(x.flags, 0)
	x.safeAt, x.inSets = append(x.safeAt, 0), append(x.inSets, 0)
	x.lat, x.lon = append(x.lat, 0), append(x.lon, 0)
	x.set(row, it)
	x.fresh = append(x.fresh, row)
	if known {
		x.of[d][at] = row
	} else {
		x.of[d] = slices.Insert(x.of[d], at, row)
	}
}

// set writes what may change of an item.
func (x *Index) set(row uint32, it Entry) {
	x.kind[row], x.size[row] = uint8(slices.Index(media.Kinds, it.Kind)+1), it.Bytes
	x.folder[row], x.camera[row] = x.text(it.Folder), x.text(it.Camera)
	x.said[row] = x.text(strings.TrimSpace(strings.Join(append([]string{it.Caption, it.Note}, it.Keywords...), "\n")))
	x.rating[row] = int8(max(min(it.Rating, math.MaxInt8), math.MinInt8))
	x.safeAt[row], x.inSets[row] = x.at.bits(it.At), x.sets.bits(it.Sets)
	x.flags[row] = flag(it.Gone, gone) | flag(it.Marked, marked) | flag(it.Hidden, hidden)
	x.lat[row], x.lon[row] = float32(math.NaN()), float32(math.NaN())
	if it.Position != nil {
		x.lat[row], x.lon[row] = float32(it.Position.Lat), float32(it.Position.Lon)
	}
}

func flag(is bool, bit uint8) uint8 {
	if is {
		return bit
	}
	return 0
}

func (x *Index) nameOf(row uint32) []byte {
	from := x.names[x.nameAt[row]:]
	return from[:bytes.IndexByte(from, 0)]
}

// misplace has a row brought into the order anew, or left out of it where it is dead.
func (x *Index) misplace(row uint32) {
	if x.misplaced == nil {
		x.misplaced = map[uint32]bool{}
	}
	x.misplaced[row] = true
}

func (x *Index) kill(row uint32) {
	x.flags[row] |= dead
	x.dead++
	x.misplace(row)
}

// Remove takes an item out.
func (x *Index) Remove(device string, id int64) {
	d := x.devices.find(device)
	if d < 0 {
		return
	}
	if at, known := x.row(uint32(d), id); known {
		x.kill(x.of[d][at])
		x.of[d] = slices.Delete(x.of[d], at, at+1)
	}
}

// RemoveAll takes all items of a device out.
func (x *Index) RemoveAll(device string) {
	d := x.devices.find(device)
	if d < 0 {
		return
	}
	for _, row := range x.of[d] {
		x.kill(row)
	}
	x.of[d] = nil
}

// newer orders rows: by the clock where they were taken, then by device and number.
func (x *Index) newer(a, b uint32) int {
	return cmp.Or(cmp.Compare(x.wall[b], x.wall[a]), cmp.Compare(x.device[a], x.device[b]), cmp.Compare(x.id[b], x.id[a]))
}

// settle brings what was put in into the order.
func (x *Index) settle() {
	if len(x.misplaced) > 0 {
		out := func(row uint32) bool { return x.misplaced[row] }
		x.order, x.fresh = slices.DeleteFunc(x.order, out), slices.DeleteFunc(x.fresh, out)
		for row := range x.misplaced {
			if x.flags[row]&dead == 0 {
				x.fresh = append(x.fresh, row)
			}
		}
		x.misplaced = nil
	}
	if len(x.fresh) == 0 {
		return
	}
	slices.SortFunc(x.fresh, x.newer)
	merged := make([]uint32, 0, len(x.order)+len(x.fresh))
	old := x.order
	for _, row := range x.fresh {
		n := sort.Search(len(old), func(i int) bool { return x.newer(old[i], row) > 0 })
		merged = append(append(merged, old[:n]...), row)
		old = old[n:]
	}
	x.order, x.fresh = append(merged, old...), nil
}

// IsAt tells whether anything is or was safe at a destination.
func (x *Index) IsAt(destination string) bool { return x.at.find(destination) >= 0 }

// Page names some of what a query found, from one on; fewer where there are no more.
func (x *Index) Page(f *Found, from, most int) []Ref {
	from = max(0, min(from, len(f.rows)))
	rows := f.rows[from:min(len(f.rows), from+max(0, most))]
	refs := make([]Ref, len(rows))
	for i, row := range rows {
		refs[i] = Ref{x.devices.all[x.device[row]], x.id[row]}
	}
	return refs
}

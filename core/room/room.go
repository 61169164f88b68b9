// Package room knows what may go from a device to make room there. It judges values: it reads no file and no storage,
// and nothing goes by its word alone, as each proof is taken again at that moment (engine/makeroom).
package room

import (
	"cmp"
	"path"
	"slices"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// DefaultPlaces is at how many places an item is proven before it goes, where nobody asks for another number.
const DefaultPlaces = 2

// DefaultHeld is how many days what goes lies in the holding place, where nobody asks for another number.
const DefaultHeld = 7

// Want is what the keeper wants to go. The zero value wants everything to go that may.
type Want struct {
	Free   int64         // bytes that are to be free on each disk; 0 for whatever may go
	Before time.Time     // only what was taken before; zero for any time
	Larger int64         // only what has more bytes
	Kinds  []media.Kind  // only these; none for all
	Folder string        // only what lies in this folder of the device, or below it
	Places int           // at how many places its copies are proven; 0 for DefaultPlaces
	Hold   time.Duration // how long it lies in the holding place; 0 for DefaultHeld days
	Small  bool          // a smaller one stays where it lay
}

// At is at how many places copies are to be proven.
func (w Want) At() int { return cmp.Or(w.Places, DefaultPlaces) }

// Held is how long what goes lies in the holding place.
func (w Want) Held() time.Duration { return cmp.Or(w.Hold, DefaultHeld*24*time.Hour) }

// Candidate is an item on a device, as one that may go.
type Candidate struct {
	ID      int64
	Source  string
	Dir     string // below the source
	Kind    media.Kind
	TakenMS int64
	Bytes   int64 // with its parts
	// Safe tells that every copy of each file of it is proven, Places at how many places at least, and AsShot that one of
	// those has it as shot.
	Safe   bool
	Places int
	AsShot bool
	// Back is when it was brought back to the device, or taken back from the holding place, in milliseconds.
	BackMS int64
}

// Disk is a disk of a device on which sources lie.
type Disk struct {
	Free    int64    `json:"free"`  // bytes, -1 where nobody knows
	Total   int64    `json:"total"` // bytes
	Held    int64    `json:"held"`  // bytes in the holding places on it: they get free by themselves
	Sources []string `json:"sources"`
}

// Reason is why an item stays.
type Reason string

// The reasons, in the order in which they are looked at.
const (
	NotWanted Reason = "not wanted" // it is of another kind or folder, or smaller than asked for
	TooNew    Reason = "too new"    // it was taken lately
	BackAgain Reason = "back again" // it was brought back lately: no standing rule takes it
	ItsFolder Reason = "its folder" // nothing is removed from a card, a closed library or an inbox
	NotSafe   Reason = "not safe"   // a copy is not proven
	FewPlaces Reason = "few places" // it is safe, at fewer places than asked for
	NotAsShot Reason = "not as shot"
	Enough    Reason = "enough" // it could go, and enough is free without it
)

// Reasons are all there are, in their order.
var Reasons = []Reason{NotWanted, TooNew, BackAgain, ItsFolder, NotSafe, FewPlaces, NotAsShot, Enough}

// Amount is a number of items with their bytes.
type Amount struct{ N, Bytes int64 }

func (a *Amount) add(bytes int64) { a.N, a.Bytes = a.N+1, a.Bytes+bytes }

// Choice is what may go.
type Choice struct {
	Goes  []Candidate // the oldest first
	Sum   Amount
	Stays map[Reason]Amount
	Need  int64 // bytes that are asked for and would still not be free
}

// Choose chooses what may go, the oldest first; of each disk no more than makes it as free as is wanted. Stays tells of
// sources from which nothing is removed. lately is since when what was brought back stays, zero for no matter when.
func Choose(w Want, items []Candidate, disks []Disk, stays func(source string) bool, lately time.Time) Choice {
	c := Choice{Stays: map[Reason]Amount{}}
	leave := func(r Reason, bytes int64) {
		a := c.Stays[r]
		a.add(bytes)
		c.Stays[r] = a
	}
	var may []Candidate
	for _, it := range items {
		switch r := reason(w, it, stays, lately); r {
		case "":
			may = append(may, it)
		default:
			leave(r, it.Bytes)
		}
	}
	slices.SortFunc(may, func(a, b Candidate) int { return cmp.Or(cmp.Compare(a.TakenMS, b.TakenMS), cmp.Compare(a.ID, b.ID)) })
	need, disk := needs(w, disks)
	for _, it := range may {
		at, known := disk[it.Source]
		if w.Free > 0 && (!known || need[at] <= 0) {
			leave(Enough, it.Bytes)
			continue
		}
		if known {
			need[at] -= it.Bytes
		}
		c.Goes = append(c.Goes, it)
		c.Sum.add(it.Bytes)
	}
	for _, n := range need {
		if w.Free > 0 {
			c.Need += max(0, n)
		}
	}
	return c
}

// needs tells how many bytes are to go from each disk, and on which each source lies. What lies in a holding place gets
// free by itself. A disk of which nobody knows how much is free needs nothing.
func needs(w Want, disks []Disk) (need []int64, disk map[string]int) {
	need, disk = make([]int64, len(disks)), map[string]int{}
	for i, d := range disks {
		if d.Free >= 0 {
			need[i] = w.Free - d.Free - d.Held
		}
		for _, s := range d.Sources {
			disk[s] = i
		}
	}
	return need, disk
}

// reason tells why an item stays, "" for one that may go.
func reason(w Want, it Candidate, stays func(source string) bool, lately time.Time) Reason {
	switch {
	case len(w.Kinds) > 0 && !slices.Contains(w.Kinds, it.Kind), it.Bytes <= w.Larger, !plan.Inside(path.Join(it.Source, it.Dir), strings.TrimSuffix(w.Folder, "/")):
		return NotWanted
	case !w.Before.IsZero() && it.TakenMS >= w.Before.UnixMilli():
		return TooNew
	case !lately.IsZero() && it.BackMS > lately.UnixMilli():
		return BackAgain
	case stays != nil && stays(it.Source):
		return ItsFolder
	case !it.Safe:
		return NotSafe
	case it.Places < w.At():
		return FewPlaces
	case !it.AsShot:
		return NotAsShot
	}
	return ""
}

// Standing is how a copy stands of one file of an item, as far as it counts here.
type Standing struct {
	File        int64 // the number of the file
	Destination string
	Place       string // what the name stands for, "" where nobody knows: it counts for nothing
	Safe        bool   // it is recorded as proven, and its name stands for the place where it was
	AsShot      bool
}

// Judge tells whether the copies of an item are such that it may go: of each of its files every copy that is asked for
// is safe, at so many places, as shot at one. asked lists the destinations that the plan asks for, file by file.
func Judge(files []int64, copies []Standing, asked func(file int64) []string, places int) Reason {
	few, notAsShot := false, false
	for _, file := range files {
		at, asShot, has := map[string]bool{}, false, map[string]bool{}
		for _, c := range copies {
			if c.File != file {
				continue
			}
			if !c.Safe {
				return NotSafe
			}
			has[c.Destination] = true
			if c.Place == "" {
				continue
			}
			at[c.Place] = true
			asShot = asShot || c.AsShot
		}
		for _, name := range asked(file) {
			if !has[name] {
				return NotSafe
			}
		}
		few, notAsShot = few || len(at) < max(places, 1), notAsShot || !asShot
	}
	switch {
	case len(files) == 0:
		return NotSafe
	case few:
		return FewPlaces
	case notAsShot:
		return NotAsShot
	}
	return ""
}

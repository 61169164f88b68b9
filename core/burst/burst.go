// Package burst finds shots that were taken in a row and look alike. It reads no file: it is
// given when they were taken, and small pictures of them.
package burst

import (
	"cmp"
	"slices"
	"time"

	"yardtide/core/likeness"
)

// Shot is one picture.
type Shot struct {
	ID     int64
	Camera string
	At     time.Time
}

// What a burst is.
const (
	MostApart = 2 * time.Second // between two shots of it
	Least     = 4               // shots
	Most      = 120             // shots; what goes on is another
	mostOther = 10              // of the 64 bits of two looks that differ
)

// Runs are the shots of one camera that were taken in a row, in order, long enough for a
// burst.
func Runs(shots []Shot) (runs [][]Shot) {
	shots = slices.Clone(shots)
	slices.SortFunc(shots, func(a, b Shot) int {
		return cmp.Or(cmp.Compare(a.Camera, b.Camera), a.At.Compare(b.At), cmp.Compare(a.ID, b.ID))
	})
	return chain(shots, func(a, b Shot) bool { return a.Camera == b.Camera && b.At.Sub(a.At) <= MostApart })
}

// Split are the parts of a run that look alike, shot by shot; a look that is not known is
// like no other.
func Split(run []Shot, look map[int64]likeness.Coarse) [][]Shot {
	return chain(run, func(a, b Shot) bool {
		la, known := look[a.ID]
		lb, both := look[b.ID]
		return known && both && la.Apart(lb) <= mostOther
	})
}

// chain parts shots where two that follow do not belong together.
func chain(shots []Shot, together func(a, b Shot) bool) (chains [][]Shot) {
	for from := 0; from < len(shots); {
		to := from + 1
		for to < len(shots) && to-from < Most && together(shots[to-1], shots[to]) {
			to++
		}
		if to-from >= Least {
			chains = append(chains, shots[from:to])
		}
		from = to
	}
	return chains
}

// Package burst finds shots that were taken in a row and look alike. It reads no file: it is
// given when they were taken, and small pictures of them.
package burst

import (
	"cmp"
	"image"
	"math/bits"
	"slices"
	"time"
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
func Split(run []Shot, look map[int64]Likeness) [][]Shot {
	return chain(run, func(a, b Shot) bool {
		la, known := look[a.ID]
		lb, both := look[b.ID]
		return known && both && la.Like(lb)
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

// Likeness is how a picture looks, in 64 bits: whether it gets brighter from each of 9 by 8
// fields to the next (a difference hash).
type Likeness uint64

// Like tells whether two pictures look alike.
func (l Likeness) Like(o Likeness) bool { return bits.OnesCount64(uint64(l^o)) <= mostOther }

// LikenessOf is how a picture looks.
func LikenessOf(img image.Image) (l Likeness) {
	const across, down = 9, 8
	b := img.Bounds()
	if b.Dx() < across || b.Dy() < down {
		return 0
	}
	var fields [down][across]int64
	for y := range down {
		for x := range across {
			left, right := b.Min.X+x*b.Dx()/across, b.Min.X+(x+1)*b.Dx()/across
			top, bottom := b.Min.Y+y*b.Dy()/down, b.Min.Y+(y+1)*b.Dy()/down
			var sum, n int64
			for py := top; py < bottom; py++ {
				for px := left; px < right; px++ {
					r, g, bl, _ := img.At(px, py).RGBA()
					sum, n = sum+int64(299*r+587*g+114*bl)/1000, n+1
				}
			}
			fields[y][x] = sum / max(n, 1)
		}
	}
	for y := range down {
		for x := range across - 1 {
			l <<= 1
			if fields[y][x+1] > fields[y][x]+256 { // more than grain
				l |= 1
			}
		}
	}
	return l
}

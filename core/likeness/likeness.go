// Package likeness tells how a picture looks in a few bits, so that two pictures can be compared without their files.
package likeness

import (
	"image"
	"math/bits"
)

// Coarse is how a picture looks, in 64 bits: whether it gets brighter from each of 9 by 8
// fields to the next (a difference hash).
type Coarse uint64

// Fine is the same of 17 by 16 fields, in 256 bits. Shots in a row can be told apart by it. The zero value is of no
// picture.
type Fine [4]uint64

// CoarseOf is how a picture looks; 0 for one that is smaller than the fields.
func CoarseOf(img image.Image) (l Coarse) {
	brighter(img, 9, 8, func(_ int, is bool) {
		l <<= 1
		if is {
			l |= 1
		}
	})
	return l
}

// FineOf is how a picture looks; zero for one that is smaller than the fields.
func FineOf(img image.Image) (f Fine) {
	brighter(img, 17, 16, func(n int, is bool) {
		if is {
			f[n/64] |= 1 << (n % 64)
		}
	})
	return f
}

// Apart is in how many bits two pictures differ.
func (c Coarse) Apart(o Coarse) int { return bits.OnesCount64(uint64(c ^ o)) }

// Apart is in how many bits two pictures differ.
func (f Fine) Apart(o Fine) (n int) {
	for i := range f {
		n += bits.OnesCount64(f[i] ^ o[i])
	}
	return n
}

// grain is a difference of brightness, of 65,536, that is none yet.
const grain = 256

// brighter tells of each field but the last of a line whether the next one is brighter.
func brighter(img image.Image, across, down int, tell func(n int, is bool)) {
	b := img.Bounds()
	if b.Dx() < across || b.Dy() < down {
		return
	}
	at := func(x, y int) int64 {
		r, g, bl, _ := img.At(x, y).RGBA()
		return int64(299*r+587*g+114*bl) / 1000
	}
	if luma, is := img.(*image.YCbCr); is { // of JPEG: it has the brightness by itself
		at = func(x, y int) int64 { return 257 * int64(luma.Y[luma.YOffset(x, y)]) }
	}
	line := make([]int64, across)
	for y := range down {
		for x := range across {
			left, right := b.Min.X+x*b.Dx()/across, b.Min.X+(x+1)*b.Dx()/across
			top, bottom := b.Min.Y+y*b.Dy()/down, b.Min.Y+(y+1)*b.Dy()/down
			var sum, n int64
			for py := top; py < bottom; py++ {
				for px := left; px < right; px++ {
					sum, n = sum+at(px, py), n+1
				}
			}
			line[x] = sum / max(n, 1)
		}
		for x := range across - 1 {
			tell(y*(across-1)+x, line[x+1] > line[x]+grain)
		}
	}
}

package rendition

import (
	"context"
	"math"
)

// A plane is one channel of a picture, or several whose samples stand side by side.
type plane[T uint8 | uint16] struct {
	pix      []T
	stride   int
	w, h     int
	channels int
	// extentW and extentH are how much of the picture the samples cover, in samples: of
	// halved colour planes half the picture's edges, whatever was rounded up.
	extentW, extentH float64
}

func newPlane[T uint8 | uint16](w, h, channels int) plane[T] {
	return plane[T]{pix: make([]T, w*h*channels), stride: w * channels, w: w, h: h, channels: channels,
		extentW: float64(w), extentH: float64(h)}
}

// taps are the weights of the samples that make one sample of the result.
type taps struct {
	first   int
	weights []int32
}

const weightBits = 14

// catmullRom is the cubic of Keys with a = -1/2 (R. Keys, Cubic convolution interpolation
// for digital image processing, 1981).
func catmullRom(x float64) float64 {
	switch x = math.Abs(x); {
	case x < 1:
		return (1.5*x-2.5)*x*x + 1
	case x < 2:
		return ((-0.5*x+2.5)*x-4)*x + 2
	}
	return 0
}

// kernel makes the weights by which from samples become to ones; extents are what they
// cover. Made smaller, the filter is as much wider, so that nothing aliases.
func kernel(from, to int, fromExtent, toExtent float64) []taps {
	ratio := fromExtent / toExtent
	wide := max(1, ratio)
	all := make([]taps, to)
	for i := range all {
		middle := (float64(i)+0.5)*ratio - 0.5
		first, last := max(0, int(math.Ceil(middle-2*wide))), min(from-1, int(math.Floor(middle+2*wide)))
		if first > last { // beyond the edge
			first = min(max(0, int(math.Round(middle))), from-1)
			last = first
		}
		shares, sum := make([]float64, last-first+1), 0.0
		for k := range shares {
			shares[k] = catmullRom((float64(first+k) - middle) / wide)
			sum += shares[k]
		}
		if sum == 0 {
			shares[0], sum = 1, 1
		}
		weights, rest, most := make([]int32, len(shares)), int32(1<<weightBits), 0
		for k, share := range shares {
			weights[k] = int32(math.Round(share / sum * (1 << weightBits)))
			rest -= weights[k]
			if weights[k] > weights[most] {
				most = k
			}
		}
		weights[most] += rest // together they are one: an even surface stays as it is
		all[i] = taps{first, weights}
	}
	return all
}

// half makes a plane of half the size, of which every sample is the mean of two by two; at
// an odd edge the last ones count twice.
func half[T uint8 | uint16](ctx context.Context, from plane[T]) (plane[T], error) {
	to := newPlane[T]((from.w+1)/2, (from.h+1)/2, from.channels)
	to.extentW, to.extentH = from.extentW/2, from.extentH/2
	line := func(y int) []T { return from.pix[min(y, from.h-1)*from.stride:][:from.w*from.channels] }
	for y := range to.h {
		if y%64 == 0 && ctx.Err() != nil {
			return to, context.Cause(ctx)
		}
		meanLines(to.pix[y*to.stride:][:to.stride], line(2*y), line(2*y+1), from.channels)
	}
	return to, nil
}

// resize makes a plane of w by h samples, which cover so much of the picture. What becomes
// several times smaller is halved first, which costs a fraction of the filter and leaves it
// half as much again to do at least: with less, edges would show the blocks. It stops when the
// context ends.
func resize[T uint8 | uint16](ctx context.Context, from plane[T], w, h int, extentW,
	extentH float64) (plane[T], error) {
	for from.extentW >= 3*extentW && from.extentH >= 3*extentH {
		var err error
		if from, err = half(ctx, from); err != nil {
			return from, err
		}
	}
	across := newPlane[T](w, from.h, from.channels)
	columns := kernel(from.w, w, from.extentW, extentW)
	for y := range from.h {
		if y%64 == 0 && ctx.Err() != nil {
			return across, context.Cause(ctx)
		}
		line, out := from.pix[y*from.stride:y*from.stride+from.w*from.channels],
			across.pix[y*across.stride:(y+1)*across.stride]
		if from.channels == 1 {
			weighColumns(out, line, columns)
		} else {
			weighPixels(out, line, columns, from.channels)
		}
	}
	to := newPlane[T](w, h, from.channels)
	to.extentW, to.extentH = extentW, extentH
	sums := make([]int32, to.stride)
	for y, t := range kernel(from.h, h, from.extentH, extentH) {
		if y%64 == 0 && ctx.Err() != nil {
			return to, context.Cause(ctx)
		}
		weighLines(to.pix[y*to.stride:][:to.stride], across.pix[t.first*across.stride:], sums, t.weights)
	}
	return to, nil
}

// The loops below stand apart, as in a larger function the compiler keeps their sums in
// memory: they take half as long so. A sum fits 32 bits: weights come to one, and those below
// nothing to a quarter of that at most.

// meanLines makes a line of half the size of two.
func meanLines[T uint8 | uint16](out, one, two []T, channels int) {
	two = two[:len(one)]
	at := 0
	for ; at+2*channels <= len(one); at += 2 * channels {
		for c := at; c < at+channels; c++ {
			out[at/2+c-at] = T((uint32(one[c]) + uint32(one[c+channels]) + uint32(two[c]) + uint32(two[c+channels]) + 2) / 4)
		}
	}
	for c := at; c < len(one); c++ {
		out[at/2+c-at] = T((uint32(one[c]) + uint32(two[c]) + 1) / 2)
	}
}

// weighColumns makes a line of one channel.
func weighColumns[T uint8 | uint16](out, line []T, columns []taps) {
	for x, t := range columns {
		sum := int32(1 << (weightBits - 1))
		samples := line[t.first:][:len(t.weights)]
		for k, weight := range t.weights {
			sum += weight * int32(samples[k])
		}
		out[x] = clamp[T](sum >> weightBits)
	}
}

// weighPixels makes a line of several channels.
func weighPixels[T uint8 | uint16](out, line []T, columns []taps, channels int) {
	for x, t := range columns {
		for c := range channels {
			sum := int32(1 << (weightBits - 1))
			at := t.first*channels + c
			for _, weight := range t.weights {
				sum += weight * int32(line[at])
				at += channels
			}
			out[x*channels+c] = clamp[T](sum >> weightBits)
		}
	}
}

// weighLines makes a line of those that stand one after the other in lines. Two are taken at
// a time: sums are read and written half as often.
func weighLines[T uint8 | uint16](out, lines []T, sums []int32, weights []int32) {
	for x := range sums {
		sums[x] = 1 << (weightBits - 1)
	}
	for len(weights) > 1 {
		one, two := lines[:len(sums)], lines[len(sums):][:len(sums)]
		w1, w2 := weights[0], weights[1]
		for x := range sums {
			sums[x] += w1*int32(one[x]) + w2*int32(two[x])
		}
		lines, weights = lines[2*len(sums):], weights[2:]
	}
	if len(weights) > 0 {
		for x, v := range lines[:len(sums)] {
			sums[x] += weights[0] * int32(v)
		}
	}
	for x, sum := range sums[:len(out)] {
		out[x] = clamp[T](sum >> weightBits)
	}
}

func clamp[T uint8 | uint16](v int32) T {
	if most := int32(^T(0)); uint32(v) > uint32(most) {
		if v < 0 {
			return 0
		}
		return T(most)
	}
	return T(v)
}

// upright turns a plane as an orientation says (EXIF 2.32, 4.6.4).
func upright[T uint8 | uint16](from plane[T], orientation int) plane[T] {
	if orientation <= 1 || orientation > 8 {
		return from
	}
	w, h := from.w, from.h
	if orientation >= 5 {
		w, h = h, w
	}
	to := newPlane[T](w, h, from.channels)
	for y := range h {
		for x := range w {
			fx, fy := x, y
			switch orientation {
			case 2:
				fx = from.w - 1 - x
			case 3:
				fx, fy = from.w-1-x, from.h-1-y
			case 4:
				fy = from.h - 1 - y
			case 5:
				fx, fy = y, x
			case 6:
				fx, fy = y, from.h-1-x
			case 7:
				fx, fy = from.w-1-y, from.h-1-x
			case 8:
				fx, fy = from.w-1-y, x
			}
			copy(to.pix[y*to.stride+x*from.channels:][:from.channels],
				from.pix[fy*from.stride+fx*from.channels:][:from.channels])
		}
	}
	return to
}

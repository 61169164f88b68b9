package rendition

import (
	"bytes"
	"context"
	"encoding/binary"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"

	"yardtide/core/plan"
)

// conversion takes colours of one profile to sRGB (ICC.1:2022, annex F.3: three curves and
// a matrix). nil converts nothing.
type conversion struct {
	curves [3]func(float64) float64
	linear [3][256]float64 // the curves, of 8 bits
	matrix [3][3]float64   // linear to linear
}

// profileHead begins a segment with a part of a profile (ICC.1:2022, annex B.4).
const profileHead = "ICC_PROFILE\x00"

// profile is the colour profile of a picture, nil without one.
func (f facts) profile() []byte {
	var parts [256][]byte
	for _, s := range f.kept {
		if rest, is := bytes.CutPrefix(s.content, []byte(profileHead)); is && s.marker == markerAPP2 && len(rest) > 2 {
			parts[rest[0]] = rest[2:]
		}
	}
	return slices.Concat(parts[:]...)
}

// conversion is the one that a rendition asks for of a profile. The error is AsShot where that
// is of a kind that is not converted here.
func (w Want) conversion(profile []byte) (*conversion, error) {
	if w.Colours != plan.SRGB || len(profile) < 132 || string(profile[16:20]) != "RGB " {
		return nil, nil // what has no profile is sRGB, and grey is grey
	}
	tag := func(name string) []byte {
		n := int(binary.BigEndian.Uint32(profile[128:]))
		for k := range min(n, 200) {
			at := 132 + 12*k
			if at+12 > len(profile) {
				return nil
			}
			from, long := int64(binary.BigEndian.Uint32(profile[at+4:])), int64(binary.BigEndian.Uint32(profile[at+8:]))
			if string(profile[at:at+4]) == name && from+long <= int64(len(profile)) {
				return profile[from : from+long]
			}
		}
		return nil
	}
	c := &conversion{}
	var primaries [3][3]float64 // columns
	for i, name := range []string{"r", "g", "b"} {
		xyz, curve := tag(name+"XYZ"), tag(name+"TRC")
		at, ok := curveOf(curve)
		if len(xyz) < 20 || !ok || tag("A2B0") != nil {
			return nil, asShot("its colours are of a profile that is not converted here")
		}
		for row := range 3 {
			primaries[row][i] = float64(int32(binary.BigEndian.Uint32(xyz[8+4*row:]))) / 65536
		}
		c.curves[i] = at
		for v := range 256 {
			c.linear[i][v] = at(float64(v) / 255)
		}
	}
	same := true
	for i := range 3 {
		for j := range 3 {
			for k := range 3 {
				c.matrix[i][j] += fromD50[i][k] * primaries[k][j]
			}
			want := 0.0
			if i == j {
				want = 1
			}
			same = same && math.Abs(c.matrix[i][j]-want) < 0.01
		}
		same = same && math.Abs(c.linear[i][128]-0.2159) < 0.01
	}
	if same { // it is sRGB by another name
		return nil, nil
	}
	return c, nil
}

// fromD50 takes colours as profiles connect them to linear sRGB (IEC 61966-2-1, adapted to
// D50 by Bradford's matrix).
var fromD50 = [3][3]float64{{3.1338561, -1.6168667, -0.4906146}, {-0.9787684, 1.9161415, 0.0334540},
	{0.0719453, -0.2289914, 1.4052427}}

// curveOf reads a tone curve (ICC.1:2022, 10.6 and 10.18).
func curveOf(b []byte) (at func(float64) float64, ok bool) {
	if len(b) < 12 {
		return nil, false
	}
	switch string(b[:4]) {
	case "curv":
		n := int(binary.BigEndian.Uint32(b[8:]))
		switch {
		case n == 0:
			return func(v float64) float64 { return v }, true
		case n > 1<<16 || len(b) < 12+2*n:
			return nil, false
		case n == 1:
			gamma := float64(binary.BigEndian.Uint16(b[12:])) / 256
			return func(v float64) float64 { return math.Pow(v, gamma) }, true
		}
		return func(v float64) float64 {
			x := v * float64(n-1)
			i := min(int(x), n-2)
			low, high := float64(binary.BigEndian.Uint16(b[12+2*i:])), float64(binary.BigEndian.Uint16(b[14+2*i:]))
			return (low + (high-low)*(x-float64(i))) / 65535
		}, true
	case "para":
		kind := int(binary.BigEndian.Uint16(b[8:]))
		counts := []int{1, 3, 4, 5, 7}
		if kind >= len(counts) || len(b) < 12+4*counts[kind] {
			return nil, false
		}
		var p [7]float64
		for i := range counts[kind] {
			p[i] = float64(int32(binary.BigEndian.Uint32(b[12+4*i:]))) / 65536
		}
		g, a, bb, c, d, e, f := p[0], p[1], p[2], p[3], p[4], p[5], p[6]
		switch kind {
		case 0:
			return func(v float64) float64 { return math.Pow(v, g) }, true
		case 1, 2:
			return func(v float64) float64 {
				if a*v+bb >= 0 {
					return math.Pow(a*v+bb, g) + c
				}
				return c
			}, true
		}
		return func(v float64) float64 {
			if v >= d {
				return math.Pow(a*v+bb, g) + e
			}
			return c*v + f
		}, true
	}
	return nil, false
}

// toSRGB is the curve of sRGB (IEC 61966-2-1, 5.2).
func toSRGB(v float64) float64 {
	if v <= 0.0031308 {
		return v * 12.92
	}
	return 1.055*math.Pow(v, 1/2.4) - 0.055
}

// steps is how finely values are told apart in tables of curves.
const steps = 1 << 14

// curveTable is a curve in steps from 0 to 1.
func curveTable(curve func(float64) float64) []float64 {
	table := make([]float64, steps+1)
	for i := range table {
		table[i] = curve(float64(i) / steps)
	}
	return table
}

// look is a value of a curve, between two steps; values beyond its ends are the ends'.
func look(table []float64, v float64) float64 {
	x := min(1, max(0, v)) * steps
	i := min(int(x), steps-1)
	return table[i] + (table[i+1]-table[i])*(x-float64(i))
}

// convert is a picture in sRGB.
func (c *conversion) convert(ctx context.Context, img image.Image) (image.Image, error) {
	from, is := img.(*image.YCbCr)
	if c == nil || !is {
		return img, nil
	}
	table := make([]uint8, steps+1)
	for i, v := range curveTable(toSRGB) {
		table[i] = uint8(math.Round(v * 255))
	}
	b := img.Bounds()
	to := image.NewRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
	for y := range b.Dy() {
		if y%64 == 0 && ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		row := to.Pix[y*to.Stride:]
		for x := range b.Dx() {
			yi, ci := from.YOffset(b.Min.X+x, b.Min.Y+y), from.COffset(b.Min.X+x, b.Min.Y+y)
			r, g, bl := color.YCbCrToRGB(from.Y[yi], from.Cb[ci], from.Cr[ci])
			lr, lg, lb := c.linear[0][r], c.linear[1][g], c.linear[2][bl]
			for i := range 3 {
				v := c.matrix[i][0]*lr + c.matrix[i][1]*lg + c.matrix[i][2]*lb
				row[4*x+i] = table[int(min(1, max(0, v))*steps+0.5)]
			}
			row[4*x+3] = 255
		}
	}
	return to, nil
}

// convertSeen takes a picture to sRGB whose colours are weighed by how much of them is seen,
// of 8 bits or of 16.
func (c *conversion) convertSeen(ctx context.Context, img draw.RGBA64Image) error {
	if c == nil {
		return nil
	}
	var linear [3][]float64
	for i, curve := range c.curves {
		linear[i] = curveTable(curve)
	}
	last, b := curveTable(toSRGB), img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		if y%64 == 0 && ctx.Err() != nil {
			return context.Cause(ctx)
		}
		for x := b.Min.X; x < b.Max.X; x++ {
			p := img.RGBA64At(x, y)
			if p.A == 0 {
				continue
			}
			seen := float64(p.A)
			lr, lg, lb := look(linear[0], float64(p.R)/seen), look(linear[1], float64(p.G)/seen), look(linear[2],
				float64(p.B)/seen)
			var to [3]uint16
			for i := range 3 {
				to[i] = uint16(math.Round(seen * look(last, c.matrix[i][0]*lr+c.matrix[i][1]*lg+c.matrix[i][2]*lb)))
			}
			img.SetRGBA64(x, y, color.RGBA64{to[0], to[1], to[2], p.A})
		}
	}
	return nil
}

// tagColours is which colours a picture's are (EXIF 2.32, 4.6.5, tag 0xA001).
const tagColours = 0xa001

// in are facts of a picture whose colours were converted.
func (f facts) in(c *conversion) facts {
	if c == nil {
		return f
	}
	kept := f.kept
	f.kept = nil
	for _, s := range kept {
		if s.marker == markerAPP2 {
			continue
		}
		if tiff, is := exifOf(s); is {
			own := slices.Clone(tiff)
			walk(own, func(folder int, e entry) {
				if folder == exifFolder && e.tag == tagColours {
					e.set(own, 1)
				}
			})
			s.content = append([]byte(exifHead), own...)
		}
		f.kept = append(f.kept, s)
	}
	return f
}

// conversion is the one that a rendition asks for of a PNG.
func (all chunks) conversion(want Want) (*conversion, error) {
	for _, c := range all.kept {
		if c.kind == "cICP" && want.Colours == plan.SRGB {
			return nil, asShot("its colours are of a kind that is not converted here")
		}
	}
	return want.conversion(facts{kept: all.segments()}.profile())
}

// in are chunks of a PNG whose colours were converted: without one that says otherwise they
// are those of sRGB.
func (all chunks) in(c *conversion) chunks {
	if c != nil {
		all.kept = slices.DeleteFunc(slices.Clone(all.kept), func(one chunk) bool {
			return one.kind == "iCCP" || one.kind == "sRGB" || one.kind == "gAMA" || one.kind == "cHRM"
		})
	}
	return all
}

package standin

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math"
	"math/rand/v2"
	"os/exec"
	"strconv"
	"time"

	"yardtide/core/media"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// scene is a picture of a boat in a tidal yard, different for every number.
type scene struct {
	n          int
	sky, low   color.RGBA
	water, mud color.RGBA
	hull, trim color.RGBA
	tide       float64 // 0 low, 1 high
	length     float64 // of the hull, in picture widths
	masts      int
	sun        float64
}

func newScene(n int) scene {
	r := rand.New(rand.NewPCG(uint64(n), 7))
	hour := r.Float64()
	s := scene{n: n, tide: r.Float64(), length: 0.3 + 0.3*r.Float64(), masts: r.IntN(3), sun: hour}
	s.sky = hsv(200+40*r.Float64(), 0.25+0.4*r.Float64(), 0.55+0.4*hour)
	s.low = hsv(20+40*r.Float64(), 0.2+0.4*r.Float64(), 0.75+0.25*hour)
	s.water = hsv(170+50*r.Float64(), 0.3+0.35*r.Float64(), 0.3+0.35*hour)
	s.mud = hsv(28+15*r.Float64(), 0.3, 0.3+0.2*hour)
	s.hull = hsv(360*float64(n*47%97)/97, 0.55+0.4*r.Float64(), 0.4+0.5*r.Float64())
	s.trim = hsv(360*r.Float64(), 0.15, 0.95)
	return s
}

// draw paints the scene; at shifts the boat on the water, for clips.
func (s scene) draw(w, h int, at float64) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	r := rand.New(rand.NewPCG(uint64(s.n), uint64(1000*at)))
	horizon := int(float64(h) * 0.48)
	shore := int(float64(h) * (0.62 + 0.3*s.tide))
	noise := make([]int8, 1<<14)
	for i := range noise {
		noise[i] = int8(r.Uint32()%13) - 6
	}
	swell := make([]float64, w)
	for x := range swell {
		swell[x] = math.Sin(float64(x)*0.02+8*at) * 5
	}
	for y := range h {
		c := mix(s.sky, s.low, float64(y)/float64(horizon))
		water := y > horizon && y <= shore
		switch {
		case y > shore:
			c = s.mud
		case water:
			c = mix(s.low, s.water, 0.55+0.35*float64(y-horizon)/float64(h-horizon))
		}
		crest := mix(c, color.RGBA{255, 255, 255, 255}, 0.25)
		from := int(r.Uint32())
		for x := range w {
			one := c
			if phase := float64(y)*0.7 + swell[x]; water && phase-6.2832*math.Floor(phase/6.2832) < 1 {
				one = crest
			}
			grain := int(noise[(from+x*7)&(len(noise)-1)])
			i := img.PixOffset(x, y)
			img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3] = clamp(one.R, grain), clamp(one.G, grain), clamp(one.B,
				grain), 255
		}
	}
	fw, fh := float32(w), float32(h)
	sunX, sunY := fw*float32(0.1+0.8*s.sun), fh*float32(0.12+0.2*(1-s.sun))
	fill(img, color.RGBA{255, 244, 214, 255}, disc(sunX, sunY, fh*0.05)...)
	// Hills.
	var hills []point
	for i := range 21 {
		hills = append(hills, point{fw * float32(i) / 20,
			float32(horizon) - fh*float32(0.03+0.05*math.Abs(math.Sin(float64(s.n)+float64(i)*0.7)))})
	}
	fill(img, mix(s.sky, s.mud, 0.45), append(append([]point{{0, float32(horizon)}}, hills...),
		point{fw, float32(horizon)})...)
	// The boat.
	bob := fh * float32(0.008*math.Sin(6.28*at)*s.tide)
	length := fw * float32(s.length)
	x, y := fw*0.5-length/2+fw*float32(0.12*math.Sin(float64(s.n))), fh*0.62+bob
	depth := length * 0.16
	fill(img, s.hull, point{x, y}, point{x + length, y - depth*0.25}, point{x + length*0.9, y + depth},
		point{x + length*0.12, y + depth})
	fill(img, s.trim, point{x, y}, point{x + length, y - depth*0.25}, point{x + length*0.99, y - depth*0.05},
		point{x + length*0.005, y + depth*0.2})
	for m := range s.masts {
		mx, tall := x+length*(0.35+0.28*float32(m)), length*(0.75-0.15*float32(m))
		fill(img, color.RGBA{74, 52, 34, 255}, point{mx, y}, point{mx, y - tall}, point{mx + length*0.018, y - tall},
			point{mx + length*0.018, y})
		fill(img, color.RGBA{232, 220, 196, 255}, point{mx + length*0.03, y - tall*0.95},
			point{mx + length*0.26, y - tall*0.12}, point{mx + length*0.03, y - tall*0.12})
	}
	if s.masts == 0 {
		fill(img, s.trim, point{x + length*0.4, y - depth*0.1}, point{x + length*0.43, y - depth*0.9},
			point{x + length*0.7, y - depth*0.95}, point{x + length*0.73, y - depth*0.15})
	}
	label(img, "SLIP "+strconv.Itoa(s.n), x+length*0.2, y+depth*0.72, float64(depth)*0.42)
	return img
}

type point struct{ x, y float32 }

// fill paints a shape; only its own rectangle is rasterized.
func fill(img *image.RGBA, c color.RGBA, points ...point) {
	low, high := points[0], points[0]
	for _, p := range points {
		low, high = point{min(low.x, p.x), min(low.y, p.y)}, point{max(high.x, p.x), max(high.y, p.y)}
	}
	box := image.Rect(int(low.x), int(low.y), int(high.x)+1, int(high.y)+1).Intersect(img.Bounds())
	if box.Empty() {
		return
	}
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for i, p := range points {
		x, y := p.x-float32(box.Min.X), p.y-float32(box.Min.Y)
		if i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(img, box, image.NewUniform(c), image.Point{})
}

func disc(x, y, radius float32) []point {
	var points []point
	for i := range 40 {
		sin, cos := math.Sincos(float64(i) / 40 * 2 * math.Pi)
		points = append(points, point{x + radius*float32(cos), y + radius*float32(sin)})
	}
	return points
}

func label(img *image.RGBA, text string, x, y float32, size float64) {
	parsed, err := opentype.Parse(gobold.TTF)
	if err != nil {
		return // a picture without its number is still a picture
	}
	face, err := opentype.NewFace(parsed, &opentype.FaceOptions{Size: size, DPI: 72})
	if err != nil {
		return
	}
	d := font.Drawer{Dst: img, Src: image.NewUniform(color.RGBA{250, 248, 240, 255}), Face: face,
		Dot: fixed.P(int(x), int(y))}
	d.DrawString(text)
}

func hsv(h, s, v float64) color.RGBA {
	h = math.Mod(h, 360) / 60
	c := v * s
	x := c * (1 - math.Abs(math.Mod(h, 2)-1))
	rgb := [6][3]float64{{c, x, 0}, {x, c, 0}, {0, c, x}, {0, x, c}, {x, 0, c}, {c, 0, x}}[int(h)%6]
	m := v - c
	return color.RGBA{uint8(255 * (rgb[0] + m)), uint8(255 * (rgb[1] + m)), uint8(255 * (rgb[2] + m)), 255}
}

func mix(a, b color.RGBA, t float64) color.RGBA {
	t = max(0, min(1, t))
	f := func(a, b uint8) uint8 { return uint8(float64(a)*(1-t) + float64(b)*t) }
	return color.RGBA{f(a.R, b.R), f(a.G, b.G), f(a.B, b.B), 255}
}

func clamp(v uint8, by int) uint8 { return uint8(max(0, min(255, int(v)+by))) }

// JPEG is picture number n with a capture time, and its zone, in EXIF.
func JPEG(n, width int, taken time.Time) ([]byte, error) {
	b, err := encoded(newScene(n).draw(width, width*3/4, 0))
	if err != nil {
		return nil, err
	}
	return withFacts(b, taken, width), nil
}

// JPEGAt is JPEG with the position at which it was taken.
func JPEGAt(n, width int, taken time.Time, at media.Position) ([]byte, error) {
	b, err := encoded(newScene(n).draw(width, width*3/4, 0))
	if err != nil {
		return nil, err
	}
	exif := exifSegment(taken, width, width*3/4, &at)
	return append(append(append([]byte{}, b[:2]...), exif...), b[2:]...), nil
}

// withFacts puts a camera's facts into a JPEG.
func withFacts(b []byte, taken time.Time, width int) []byte {
	exif := exifSegment(taken, width, width*3/4, nil)
	return append(append(append([]byte{}, b[:2]...), exif...), b[2:]...)
}

func encoded(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 86}); err != nil {
		return nil, fmt.Errorf("encoding a picture: %w", err)
	}
	return b.Bytes(), nil
}

// PNG is picture number n without a capture time, like a scan.
func PNG(n, width int) ([]byte, error) {
	var b bytes.Buffer
	src := newScene(n).draw(width, width*3/4, 0)
	flat := image.NewPaletted(src.Bounds(), palette())
	for i := range flat.Pix {
		flat.Pix[i] = src.Pix[4*i]/43*36 + src.Pix[4*i+1]/43*6 + src.Pix[4*i+2]/43
	}
	if err := png.Encode(&b, flat); err != nil {
		return nil, fmt.Errorf("encoding a picture: %w", err)
	}
	return b.Bytes(), nil
}

func palette() color.Palette {
	var p color.Palette
	for r := range 6 {
		for g := range 6 {
			for b := range 6 {
				p = append(p, color.RGBA{uint8(r * 51), uint8(g * 51), uint8(b * 51), 255})
			}
		}
	}
	return p
}

// exifSegment is an APP1 segment with the few tags that a camera always writes
// (EXIF 2.32; TIFF 6.0, little-endian).
func exifSegment(taken time.Time, width, height int, at *media.Position) []byte {
	le := binary.LittleEndian
	const entry = 12
	type tag struct {
		id, kind uint16
		count    uint32
		value    []byte
	}
	ascii := func(id uint16, s string) tag { return tag{id, 2, uint32(len(s) + 1), append([]byte(s), 0)} }
	long := func(id uint16, v uint32) tag { return tag{id, 4, 1, le.AppendUint32(nil, v)} }
	ifd := func(at uint32, tags []tag) []byte {
		out := le.AppendUint16(nil, uint16(len(tags)))
		var data []byte
		dataAt := at + 2 + uint32(len(tags))*entry + 4
		for _, t := range tags {
			out = le.AppendUint32(le.AppendUint16(le.AppendUint16(out, t.id), t.kind), t.count)
			if len(t.value) <= 4 {
				out = append(out, append(t.value, make([]byte, 4-len(t.value))...)...)
				continue
			}
			out = le.AppendUint32(out, dataAt+uint32(len(data)))
			data = append(data, t.value...)
			if len(data)%2 == 1 {
				data = append(data, 0)
			}
		}
		return append(append(out, 0, 0, 0, 0), data...)
	}
	wall := taken.Format("2006:01:02 15:04:05")
	angle := func(id uint16, degrees float64) tag { // in degrees, minutes, and seconds of a hundredth
		hundredths := uint32(math.Round(math.Abs(degrees) * 360_000))
		var value []byte
		for _, v := range []uint32{hundredths / 360_000, 1, hundredths / 6000 % 60, 1, hundredths % 6000, 100} {
			value = le.AppendUint32(value, v)
		}
		return tag{id, 5, 3, value}
	}
	side := func(degrees float64, sides string) string {
		if degrees < 0 {
			return sides[1:]
		}
		return sides[:1]
	}
	first := func(exifAt, gpsAt uint32) []tag {
		tags := []tag{ascii(0x010f, "Tidal Yard"), ascii(0x0110, "Stand-in Camera"), ascii(0x0132, wall), long(0x8769, exifAt)}
		if at != nil {
			tags = append(tags, long(0x8825, gpsAt))
		}
		return tags
	}
	exifAt := 8 + uint32(len(ifd(8, first(0, 0))))
	facts := ifd(exifAt, []tag{ascii(0x9003, wall), ascii(0x9011, taken.Format("-07:00")),
		long(0xa002, uint32(width)), long(0xa003, uint32(height))})
	gpsAt := exifAt + uint32(len(facts))
	tiff := append([]byte("II*\x00"), le.AppendUint32(nil, 8)...)
	tiff = append(append(tiff, ifd(8, first(exifAt, gpsAt))...), facts...)
	if at != nil {
		tiff = append(tiff, ifd(gpsAt, []tag{ascii(1, side(at.Lat, "NS")), angle(2, at.Lat), ascii(3, side(at.Lon, "EW")), angle(4, at.Lon)})...)
	}
	payload := append([]byte("Exif\x00\x00"), tiff...)
	return append(binary.BigEndian.AppendUint16([]byte{0xff, 0xe1}, uint16(len(payload)+2)), payload...)
}

// Clip is a short real video of picture number n. It needs ffmpeg.
func Clip(file string, n, width, frames int, taken time.Time) error {
	height := width * 9 / 16 / 2 * 2
	cmd := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgba", "-s",
		fmt.Sprintf("%dx%d", width, height), "-r", "12", "-i", "pipe:0",
		"-c:v", "libx264", "-preset", "ultrafast", "-threads", "1", "-pix_fmt", "yuv420p", "-metadata", "creation_time="+
			taken.UTC().Format("2006-01-02T15:04:05Z"), "-f", "mp4", file)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	in, err := cmd.StdinPipe()
	if err != nil {
		return fmt.Errorf("making a clip: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("making a clip (Debian: apt-get install ffmpeg): %w", err)
	}
	s := newScene(n)
	werr := func() error {
		for i := range frames {
			if _, err := in.Write(s.draw(width, height, float64(i)/12).Pix); err != nil {
				return err
			}
		}
		return nil
	}()
	if cerr := in.Close(); werr == nil && cerr != nil {
		werr = cerr
	}
	if err := cmd.Wait(); err != nil || werr != nil && werr != io.ErrClosedPipe {
		return fmt.Errorf("making a clip: %w %w %s", err, werr, complaint.String())
	}
	return nil
}

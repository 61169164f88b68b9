package rendition_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
	"yardtide/engine/rendition"
)

// What is made is looked at with other people's tools (libvips-tools, exiftool, jpeginfo,
// djpeg; Debian).

// scene is a picture with edges, slopes and grain.
func scene(w, h int) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	grain := uint32(1)
	for y := range h {
		for x := range w {
			grain = grain*1664525 + 1013904223
			r, g, b := 60+120*x/w, 40+150*y/h, 90+int(60*math.Sin(float64(x+2*y)/23))
			if (x/37+y/53)%7 == 0 {
				r, b = 220, 30
			}
			if x < w/5 && y < h/4 { // so that every way of turning it looks its own
				r, g, b = 240, 240, 20
			}
			n := int(grain>>29) - 4
			img.Set(x, y, color.RGBA{uint8(min(255, max(0, r+n))), uint8(min(255, max(0, g+n))), uint8(min(255, max(0, b+n))),
				255})
		}
	}
	return img
}

func writeJPEG(t *testing.T, img image.Image) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 93}))
	file := filepath.Join(t.TempDir(), "a.jpg")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	return file
}

func tool(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// reduce makes a file of a file.
func reduce(t *testing.T, file, contentType string, r plan.Rendition) (string, rendition.Made, error) {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	b, made, err := rendition.Bytes(t.Context(), rendition.Source{F: f, Size: info.Size(), ContentType: contentType}, r)
	if err != nil {
		return "", made, err
	}
	assert.EqualValues(t, len(b), made.Bytes)
	assert.Less(t, made.Bytes, info.Size())
	ext := map[string]string{"image/jpeg": ".jpg", "image/png": ".png"}[made.ContentType]
	out := filepath.Join(t.TempDir(), "small"+ext)
	require.NoError(t, os.WriteFile(out, b, 0o644))
	if ext == ".jpg" {
		assert.Contains(t, tool(t, "jpeginfo", "-c", out), "OK")
		tool(t, "djpeg", "-outfile", os.DevNull, out)
	}
	return out, made, nil
}

// pixels decodes a file as vips sees it, upright.
func pixels(t *testing.T, file string) image.Image {
	t.Helper()
	out := filepath.Join(t.TempDir(), "seen.png")
	tool(t, "vips", "autorot", file, out)
	f, err := os.Open(out)
	require.NoError(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	require.NoError(t, err)
	return img
}

func grey(img image.Image) (w, h int, at []float64) {
	b := img.Bounds()
	w, h = b.Dx(), b.Dy()
	at = make([]float64, w*h)
	for y := range h {
		for x := range w {
			r, g, bl, _ := img.At(b.Min.X+x, b.Min.Y+y).RGBA()
			at[y*w+x] = (0.299*float64(r) + 0.587*float64(g) + 0.114*float64(bl)) / 257
		}
	}
	return w, h, at
}

// ssim compares two pictures (Wang et al., Image quality assessment: from error visibility
// to structural similarity, 2004), in windows of 8 by 8.
func ssim(t *testing.T, one, two image.Image) float64 {
	t.Helper()
	w, h, a := grey(one)
	w2, h2, b := grey(two)
	require.Equal(t, [2]int{w, h}, [2]int{w2, h2}, "the pictures are of one size")
	const size, c1, c2 = 8, 6.5025, 58.5225
	sum, n := 0.0, 0
	for y := 0; y+size <= h; y += 4 {
		for x := 0; x+size <= w; x += 4 {
			var ma, mb, aa, bb, ab float64
			for j := range size {
				for i := range size {
					p, q := a[(y+j)*w+x+i], b[(y+j)*w+x+i]
					ma, mb, aa, bb, ab = ma+p, mb+q, aa+p*p, bb+q*q, ab+p*q
				}
			}
			k := float64(size * size)
			ma, mb = ma/k, mb/k
			aa, bb, ab = aa/k-ma*ma, bb/k-mb*mb, ab/k-ma*mb
			sum += (2*ma*mb + c1) * (2*ab + c2) / ((ma*ma + mb*mb + c1) * (aa + bb + c2))
			n++
		}
	}
	return sum / float64(n)
}

func TestItLooksAsVipsMakesIt(t *testing.T) {
	t.Parallel()
	for name, of := range map[string]struct {
		args []string // to cjpeg
		w, h int
		edge int
	}{
		"4:2:0": {nil, 1600, 1200, 900}, "4:4:4": {[]string{"-sample", "1x1"}, 1601, 1199,
			640}, "4:2:2": {[]string{"-sample", "2x1"}, 1203, 901, 600},
		"progressive": {[]string{"-progressive"}, 1400, 1000, 700}, "grey": {[]string{"-grayscale"}, 1400, 1000,
			700}, "much smaller": {nil, 2000, 1500, 256},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			f, err := os.Create(dir + "/a.png")
			require.NoError(t, err)
			require.NoError(t, png.Encode(f, scene(of.w, of.h)))
			require.NoError(t, f.Close())
			tool(t, "vips", "copy", dir+"/a.png", dir+"/a.ppm")
			tool(t, "cjpeg", append(of.args, "-quality", "93", "-outfile", dir+"/a.jpg", dir+"/a.ppm")...)
			out, made, err := reduce(t, dir+"/a.jpg", "image/jpeg", plan.Rendition{LongEdge: of.edge, Quality: 90})
			require.NoError(t, err)
			assert.Equal(t, of.edge, max(made.W, made.H))
			tool(t, "vipsthumbnail", dir+"/a.jpg", "--size", fmt.Sprintf("%dx%d!", made.W, made.H), "-o", dir+"/theirs.png")
			similar := ssim(t, pixels(t, dir+"/theirs.png"), pixels(t, out))
			t.Logf("SSIM %.4f", similar)
			assert.GreaterOrEqual(t, similar, 0.95)
		})
	}
}

func TestItIsUprightWhateverTheCameraWasHeld(t *testing.T) {
	t.Parallel()
	file := writeJPEG(t, scene(801, 533))
	for n := range 8 {
		turned := filepath.Join(t.TempDir(), "turned.jpg")
		tool(t, "exiftool", "-q", fmt.Sprintf("-Orientation#=%d", n+1), "-o", turned, file)
		out, made, err := reduce(t, turned, "image/jpeg", plan.Rendition{LongEdge: 400, Quality: 92})
		require.NoError(t, err)
		theirs := filepath.Join(t.TempDir(), "theirs.png")
		tool(t, "vipsthumbnail", turned, "--size", fmt.Sprintf("%dx%d!", made.W, made.H), "-o", theirs)
		assert.GreaterOrEqual(t, ssim(t, pixels(t, theirs), pixels(t, out)), 0.93, "orientation %d", n+1)
		assert.Equal(t, "1", strings.TrimSpace(tool(t, "exiftool", "-s3", "-n", "-Orientation", out)))
	}
}

// surviving are the facts that exiftool reads of both.
var surviving = []string{"DateTimeOriginal", "OffsetTimeOriginal", "SubSecTimeOriginal", "Make", "Model",
	"ImageDescription", "Artist", "Copyright", "ExposureTime", "FNumber", "ISO", "FocalLength",
	"GPSLatitude", "GPSLongitude", "GPSAltitude", "XMP:Title", "XMP:Description", "XMP:Subject", "XMP:Rating",
	"XMP:Label", "IPTC:Keywords", "IPTC:Caption-Abstract", "IPTC:City", "ProfileDescription", "UserComment", "Comment"}

func TestWhatSurvives(t *testing.T) {
	t.Parallel()
	file := writeJPEG(t, scene(900, 600))
	profile := "/usr/share/color/icc/sRGB.icc"
	tool(t, "exiftool", "-q", "-overwrite_original", "-DateTimeOriginal=2026:06:09 08:01:02",
		"-OffsetTimeOriginal=+01:00", "-SubSecTimeOriginal=42", "-Make=Slip", "-Model=Hull 1", "-ImageDescription=Keel "+
			"of the Curlew, née 1931",
		"-Artist=Ines", "-Copyright=the yard", "-ExposureTime=1/250", "-FNumber=4", "-ISO=200", "-FocalLength=35",
		"-GPSLatitude=38.5", "-GPSLatitudeRef=N", "-GPSLongitude=9.1", "-GPSLongitudeRef=W", "-GPSAltitude=3",
		"-Orientation#=6",
		"-XMP:Title=Launch", "-XMP:Description=On the slip", "-XMP:Subject=regatta", "-XMP:Subject+=varnish",
		"-XMP:Rating=4", "-XMP:Label=Red", "-IPTC:Keywords=regatta", "-IPTC:Caption-Abstract=On the slip",
		"-IPTC:City=Saltmarsh",
		"-UserComment=first coat", "-Comment=by hand", "-ExifImageWidth=900", "-ExifImageHeight=600", file)
	if _, err := os.Stat(profile); err == nil {
		tool(t, "exiftool", "-q", "-overwrite_original", "-icc_profile<="+profile, file)
	}
	preview := filepath.Join(t.TempDir(), "preview.jpg")
	tool(t, "vipsthumbnail", file, "--size", "160", "-o", preview)
	tool(t, "exiftool", "-q", "-overwrite_original", "-ThumbnailImage<="+preview, file)
	require.NotEqual(t, "", tool(t, "exiftool", "-s3", "-ThumbnailLength", file))
	out, made, err := reduce(t, file, "image/jpeg", plan.Rendition{LongEdge: 300})
	require.NoError(t, err)
	assert.Equal(t, rendition.Pixels{W: 200, H: 300}, made.Pixels)
	read := func(file string) map[string]any {
		args := []string{"-j", "-n", "-G0"}
		for _, tag := range surviving {
			args = append(args, "-"+tag)
		}
		var all []map[string]any
		require.NoError(t, json.Unmarshal([]byte(tool(t, "exiftool", append(args, file)...)), &all))
		delete(all[0], "SourceFile")
		return all[0]
	}
	before := read(file)
	require.GreaterOrEqual(t, len(before), len(surviving)-2, "%v", before)
	assert.Equal(t, before, read(out))
	assert.Equal(t, "200\n300\n1", strings.TrimSpace(tool(t, "exiftool", "-s3", "-n", "-ExifImageWidth",
		"-ExifImageHeight", "-Orientation", out)))
	assert.Empty(t, tool(t, "exiftool", "-s3", "-ThumbnailLength", out),
		"the small preview, which lies on its side, is gone")
	assert.NotContains(t, tool(t, "exiftool", "-validate", "-warning", "-a", out), "Error")
}

func TestPNGsStayWhatTheyAre(t *testing.T) {
	t.Parallel()
	plain := scene(640, 480)
	clear := image.NewNRGBA(plain.Rect)
	deep := image.NewRGBA64(plain.Rect)
	few := image.NewPaletted(plain.Rect, color.Palette{color.Black, color.White, color.RGBA{200, 30, 30, 255},
		color.RGBA{30, 120, 200, 255}})
	for y := range 480 {
		for x := range 640 {
			c := plain.RGBAAt(x, y)
			clear.SetNRGBA(x, y, color.NRGBA{c.R, c.G, c.B, uint8(255 * x / 640)})
			deep.SetRGBA64(x, y, color.RGBA64{uint16(x * 100), uint16(y * 130), uint16(c.B) << 8, 0xffff})
			few.Set(x, y, c)
		}
	}
	for name, of := range map[string]struct {
		img    image.Image
		format plan.Format
		is     string
	}{
		"opaque": {plain, "", "image/png"}, "transparent": {clear, "", "image/png"}, "16 bits": {deep, "", "image/png"},
		"palette":        {few, "", "image/png"},
		"opaque to JPEG": {plain, plan.JPEG, "image/jpeg"}, "transparent to JPEG": {clear, plan.JPEG, "image/png"},
		"16 bits to JPEG": {deep, plan.JPEG, "image/jpeg"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			f, err := os.Create(dir + "/a.png")
			require.NoError(t, err)
			require.NoError(t, png.Encode(f, of.img))
			require.NoError(t, f.Close())
			tool(t, "exiftool", "-q", "-overwrite_original", "-XMP:Title=Lines plan",
				"-EXIF:DateTimeOriginal=2026:06:09 08:01:02", "-PNG:Comment=by hand", dir+"/a.png")
			out, made, err := reduce(t, dir+"/a.png", "image/png", plan.Rendition{LongEdge: 200, Format: of.format})
			if name == "palette" { // of few colours few bytes: no smaller as many
				var as rendition.AsShot
				require.True(t, err == nil || errors.As(err, &as))
				if err != nil {
					return
				}
			}
			require.NoError(t, err)
			assert.Equal(t, of.is, made.ContentType)
			assert.Contains(t, tool(t, "exiftool", "-s3", "-DateTimeOriginal", out), "2026:06:09 08:01:02")
			if of.is == "image/png" {
				assert.Contains(t, tool(t, "exiftool", "-s3", "-Title", "-Comment", out), "Lines plan\nby hand")
				bits := strings.TrimSpace(tool(t, "exiftool", "-s3", "-BitDepth", out))
				assert.Equal(t, map[bool]string{true: "16", false: "8"}[name == "16 bits"], bits)
			}
			if name == "transparent" {
				seen := pixels(t, out)
				_, _, _, left := seen.At(5, 75).RGBA()
				_, _, _, right := seen.At(195, 75).RGBA()
				assert.Less(t, left, uint32(0x1000))
				assert.Greater(t, right, uint32(0xf000))
			}
		})
	}
}

// claims is a PNG whose header claims a size that is not there.
func claims(w, h uint32) []byte {
	b := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR")
	b = binary.BigEndian.AppendUint32(b, w)
	b = binary.BigEndian.AppendUint32(b, h)
	b = append(b, 8, 6, 0, 0, 0)
	return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[12:]))
}

func TestWhatIsSentAsShot(t *testing.T) {
	small := plan.Rendition{LongEdge: 100}
	jpegOf := func(w, h int) []byte {
		b, err := os.ReadFile(writeJPEG(t, scene(w, h)))
		require.NoError(t, err)
		return b
	}
	bomb := jpegOf(64, 64)
	at := bytes.Index(bomb, []byte{0xff, 0xc0})
	binary.BigEndian.PutUint16(bomb[at+5:], 65000)
	binary.BigEndian.PutUint16(bomb[at+7:], 65000)
	whole := jpegOf(400, 300)
	moving := claims(400, 300)
	moving = append(moving, "\x00\x00\x00\x08acTL\x00\x00\x00\x02\x00\x00\x00\x00"...)
	moving = binary.BigEndian.AppendUint32(moving, crc32.ChecksumIEEE(moving[len(moving)-12:]))
	moving = append(moving, "\x00\x00\x00\x00IEND\xae\x42\x60\x82"...)
	print4 := func() []byte {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/a.jpg", whole, 0o644))
		tool(t, "vips", "colourspace", dir+"/a.jpg", dir+"/b.jpg", "cmyk")
		b, err := os.ReadFile(dir + "/b.jpg")
		require.NoError(t, err)
		return b
	}()
	for name, of := range map[string]struct {
		content []byte
		is      string
		as      plan.Rendition
		why     string
	}{
		"within the limits": {jpegOf(100, 60), "image/jpeg", small, "within the limits"},
		"within both": {jpegOf(100, 60), "image/jpeg", plan.Rendition{LongEdge: 200, Megapixels: 1},
			"within the limits"},
		"one pixel":            {jpegOf(1, 1), "image/jpeg", small, "within the limits"},
		"no smaller":           {jpegOf(102, 102), "image/jpeg", plan.Rendition{LongEdge: 101, Quality: 100}, "no smaller"},
		"cut short":            {whole[:len(whole)/2], "image/jpeg", small, "cannot be read"},
		"cut in its header":    {whole[:100], "image/jpeg", small, "cannot be read"},
		"empty":                {nil, "image/jpeg", small, "cannot be read"},
		"claims to be huge":    {bomb, "image/jpeg", small, "memory"},
		"a PNG that claims to": {claims(60000, 60000), "image/png", small, "memory"},
		"a PNG cut short":      {claims(400, 300), "image/png", small, "cannot be read"},
		"a PNG that moves":     {moving, "image/png", small, "it moves"},
		"of print":             {print4, "image/jpeg", small, "print"},
		"a GIF":                {[]byte("GIF89a"), "image/gif", small, "may move"},
		"a raw file":           {[]byte("II*\x00"), "image/x-raw", small, "not reduced"},
		"unknown":              {[]byte("?"), "application/octet-stream", small, "not reduced"},
		"with a clip behind it": {append(bytes.Clone(whole),
			append(make([]byte, 70_000), "\x00\x00\x00\x18ftypmp42"...)...), "image/jpeg", small, "moving picture"},
		"another's content type": {claims(10, 10), "image/jpeg", small, "cannot be read"},
	} {
		t.Run(name, func(t *testing.T) {
			b, _, err := rendition.Bytes(t.Context(),
				rendition.Source{F: bytes.NewReader(of.content), Size: int64(len(of.content)), ContentType: of.is}, of.as)
			var as rendition.AsShot
			require.ErrorAs(t, err, &as, "%d bytes were made", len(b))
			assert.Contains(t, as.Why, of.why)
		})
	}
}

func TestAnEvenSurfaceStaysEvenAndEveryShapeComesOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 300).Draw(t, "w"), rapid.IntRange(1, 300).Draw(t, "h")
		c := color.RGBA{rapid.Uint8().Draw(t, "r"), rapid.Uint8().Draw(t, "g"), rapid.Uint8().Draw(t, "b"), 255}
		img := image.NewRGBA(image.Rect(0, 0, w, h))
		for i := range w * h {
			img.Set(i%w, i/w, c)
		}
		var b bytes.Buffer
		require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 100}))
		b.Write(make([]byte, 1<<16)) // so that no result is too large
		edge := rapid.IntRange(16, 320).Draw(t, "edge")
		out, made, err := rendition.Bytes(context.Background(),
			rendition.Source{F: bytes.NewReader(b.Bytes()), Size: int64(b.Len()), ContentType: "image/jpeg"},
			plan.Rendition{LongEdge: edge, Quality: 100})
		var as rendition.AsShot
		if errors.As(err, &as) {
			require.LessOrEqual(t, max(w, h), edge)
			return
		}
		require.NoError(t, err)
		got, err := jpeg.Decode(bytes.NewReader(out))
		require.NoError(t, err)
		require.Equal(t, image.Pt(made.W, made.H), got.Bounds().Size())
		require.Equal(t, edge, max(made.W, made.H))
		require.GreaterOrEqual(t, min(made.W, made.H), 1)
		for _, p := range []image.Point{{0, 0}, {made.W - 1, made.H - 1}, {made.W / 2, made.H / 2}} {
			r, g, bl, _ := got.At(p.X, p.Y).RGBA()
			for i, v := range []uint32{r, g, bl} {
				require.InDelta(t, float64([]uint8{c.R, c.G, c.B}[i]), float64(v>>8), 5)
			}
		}
	})
}

func TestItStopsWhenItIsCancelled(t *testing.T) {
	b, err := os.ReadFile(writeJPEG(t, scene(2400, 1800)))
	require.NoError(t, err)
	ctx, cancel := context.WithCancelCause(t.Context())
	enough := errors.New("enough")
	go func() {
		time.Sleep(10 * time.Millisecond)
		cancel(enough)
	}()
	_, _, err = rendition.Bytes(ctx, rendition.Source{F: bytes.NewReader(b), Size: int64(len(b)),
		ContentType: "image/jpeg"}, plan.Rendition{LongEdge: 2000})
	require.ErrorIs(t, err, enough)
}

// Whatever a header says, nothing panics, and what comes out is a picture.
func FuzzReduce(f *testing.F) {
	var b bytes.Buffer
	require.NoError(f, jpeg.Encode(&b, scene(120, 80), nil))
	f.Add(b.Bytes(), true)
	f.Add(append(b.Bytes()[:2:2], append([]byte("\xff\xe1\x00\x2aExif\x00\x00II*\x00\x08\x00\x00\x00\x01\x00\x12\x01\x03\x00\x01\x00\x00\x00\x06\x00\x00\x00\x1a\x00\x00\x00\x00\x00"), b.Bytes()[2:]...)...), true)
	f.Add(claims(30, 30), false)
	f.Fuzz(func(t *testing.T, content []byte, isJPEG bool) {
		is := map[bool]string{true: "image/jpeg", false: "image/png"}[isJPEG]
		out, made, err := rendition.Bytes(context.Background(),
			rendition.Source{F: bytes.NewReader(content), Size: int64(len(content)), ContentType: is},
			plan.Rendition{LongEdge: 40})
		var as rendition.AsShot
		if err != nil {
			require.ErrorAs(t, err, &as)
			return
		}
		img, _, err := image.Decode(bytes.NewReader(out))
		require.NoError(t, err)
		require.Equal(t, image.Pt(made.W, made.H), img.Bounds().Size())
	})
}

// A piece of a clip tells what the whole would come to.
func TestAPieceOfAClipTellsOfTheWhole(t *testing.T) {
	file := filepath.Join(t.TempDir(), "long.mp4")
	tool(t, "ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc2=size=640x480:rate=25:duration=16", "-c:v", "libx264",
		"-preset", "ultrafast", "-pix_fmt", "yuv420p", file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	made := func(piece float64) rendition.Made {
		m, err := rendition.Reduce(t.Context(), rendition.Source{Size: info.Size(), ContentType: "video/mp4", Path: file,
			Scratch: t.TempDir(), Piece: piece}, plan.Rendition{Height: 240}, io.Discard)
		require.NoError(t, err)
		return m
	}
	whole, piece := made(0), made(2)
	assert.Equal(t, whole.Bytes, whole.Whole())
	assert.Less(t, piece.Bytes, whole.Bytes/4, "it is a piece")
	assert.InEpsilon(t, whole.Bytes, piece.Whole(), 0.35)
	assert.Equal(t, whole.Bytes, made(60).Whole(), "shorter than the piece: all of it")
}

// film makes a clip with ffmpeg; more are its arguments before the file.
func film(t *testing.T, name string, more ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	args := append([]string{"-v", "error", "-f", "lavfi", "-i", "testsrc2=size=640x480:rate=50:duration=2", "-f", "lavfi",
		"-i", "sine=duration=2", "-c:v", "libx264", "-preset", "ultrafast", "-crf", "10", "-c:a", "aac",
		"-metadata", "creation_time=2026-06-09T07:01:02Z", "-metadata", "location=+38.5000-009.1000/", "-metadata",
		"com.apple.quicktime.creationdate=2026-06-09T08:01:02+0100", "-movflags", "use_metadata_tags"}, more...)
	tool(t, "ffmpeg", append(args, file)...)
	return file
}

func clip(t *testing.T, file, contentType string, r plan.Rendition) (string, rendition.Made, error) {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	b, made, err := rendition.Bytes(t.Context(), rendition.Source{F: f, Size: info.Size(), ContentType: contentType,
		Path: file, Scratch: t.TempDir()}, r)
	if err != nil {
		return "", made, err
	}
	out := filepath.Join(t.TempDir(), "small.mp4")
	require.NoError(t, os.WriteFile(out, b, 0o644))
	return out, made, nil
}

func probed(t *testing.T, file, of string) string {
	t.Helper()
	return strings.TrimSpace(tool(t, "ffprobe", "-v", "error", "-select_streams", "v:0", "-show_entries", of, "-of",
		"csv=p=0", file))
}

func TestClipsAreMadeSmaller(t *testing.T) {
	file := film(t, "a.mp4")
	for name, of := range map[string]struct {
		r      plan.Rendition
		stream string
	}{
		"lower":         {plan.Rendition{Height: 240}, "h264,320,240,50/1"},
		"slower":        {plan.Rendition{FPS: 25}, "h264,640,480,25/1"},
		"both, as H265": {plan.Rendition{Height: 240, FPS: 10, Codec: plan.H265, Quality: 60}, "hevc,320,240,10/1"},
	} {
		t.Run(name, func(t *testing.T) {
			out, made, err := clip(t, file, "video/mp4", of.r)
			require.NoError(t, err)
			assert.Equal(t, "video/mp4", made.ContentType)
			assert.Equal(t, of.stream, probed(t, out, "stream=codec_name,width,height,avg_frame_rate"))
			assert.Contains(t, tool(t, "ffprobe", "-v", "error", "-show_entries", "stream=codec_name", "-of", "csv=p=0", out),
				"aac")
			tags := tool(t, "ffprobe", "-v", "error", "-show_entries", "format_tags", out)
			for _, kept := range []string{"2026-06-09T07:01:02", "+38.5000-009.1000/", "2026-06-09T08:01:02+0100"} {
				assert.Contains(t, tags, kept)
			}
		})
	}
	turned := filepath.Join(t.TempDir(), "turned.mp4")
	tool(t, "ffmpeg", "-v", "error", "-i", film(t, "b.mp4"), "-c", "copy", "-metadata:s:v", "rotate=90", turned)
	out, made, err := clip(t, turned, "video/mp4", plan.Rendition{Height: 240})
	require.NoError(t, err)
	assert.Equal(t, rendition.Pixels{W: 240, H: 320}, made.Pixels, "as it is seen")
	assert.Equal(t, "240,320", strings.TrimRight(probed(t, out, "stream=width,height"), ",\n"))

	for name, of := range map[string]struct {
		file string
		is   string
		r    plan.Rendition
		why  string
	}{
		"within the limits": {file, "video/mp4", plan.Rendition{Height: 480, FPS: 60}, "within the limits"},
		"nothing said":      {file, "video/mp4", plan.Rendition{LongEdge: 100}, "nothing is said of clips"},
		"no clip":           {writeJPEG(t, scene(64, 64)), "video/mp4", plan.Rendition{Height: 240}, "cannot be read"},
		"no smaller": {film(t, "c.mp4", "-crf", "51", "-vf", "fps=5", "-r", "5"), "video/mp4",
			plan.Rendition{FPS: 4, Quality: 100}, "no smaller"},
		"more range": {film(t, "d.mp4", "-color_trc", "smpte2084"), "video/mp4", plan.Rendition{Height: 240},
			"more range"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := clip(t, of.file, of.is, of.r)
			var as rendition.AsShot
			require.ErrorAs(t, err, &as)
			assert.Contains(t, as.Why, of.why)
		})
	}
	t.Run("without ffmpeg", func(t *testing.T) {
		t.Setenv("PATH", t.TempDir())
		_, _, err := clip(t, file, "video/mp4", plan.Rendition{Height: 240})
		var as rendition.AsShot
		require.ErrorAs(t, err, &as)
		assert.Contains(t, as.Why, "ffmpeg is not installed")
	})
}

func TestAClipStopsWhenItIsCancelled(t *testing.T) {
	t.Parallel()
	file := film(t, "long.mp4", "-vf", "loop=20:50:0")
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	ctx, cancel := context.WithCancelCause(t.Context())
	enough := errors.New("enough")
	time.AfterFunc(200*time.Millisecond, func() { cancel(enough) })
	scratch := t.TempDir()
	_, _, err = rendition.Bytes(ctx, rendition.Source{F: f, Size: info.Size(), ContentType: "video/mp4", Path: file,
		Scratch: scratch}, plan.Rendition{Height: 360, Quality: 100})
	require.ErrorIs(t, err, enough)
	left, err := os.ReadDir(scratch)
	require.NoError(t, err)
	assert.Empty(t, left)
}

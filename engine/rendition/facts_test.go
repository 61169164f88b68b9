package rendition_test

import (
	"bytes"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/engine/rendition"
	"yardtide/standin"
)

// tellAll writes every sort of fact into a picture, with exiftool.
func tellAll(t *testing.T, file string) {
	t.Helper()
	tool(t, "exiftool", "-q", "-overwrite_original", "-EXIF:Orientation#=6", "-EXIF:DateTimeOriginal=2026:05:04 10:11:12",
		"-EXIF:OffsetTimeOriginal=+02:00", "-EXIF:SubSecTimeOriginal=345",
		"-EXIF:Model=Yard 3", "-EXIF:GPSLatitude=38.7", "-EXIF:GPSLatitudeRef=N", "-EXIF:GPSLongitude=9.1",
		"-EXIF:GPSLongitudeRef=W", "-EXIF:GPSAltitude=12",
		"-XMP-exif:GPSLatitude=38.7", "-XMP-exif:GPSLongitude=-9.1", "-XMP-photoshop:City=Seixal",
		"-XMP-iptcCore:Location=the slip", "-XMP-iptcExt:LocationShownCity=Seixal",
		"-XMP-dc:Description=The keel of the Wren", "-XMP-dc:Subject=keel", "-XMP-xmp:Rating=4", file)
	if strings.HasSuffix(file, ".jpg") {
		tool(t, "exiftool", "-q", "-overwrite_original", "-IPTC:City=Seixal", "-IPTC:Sub-location=the slip",
			"-IPTC:Caption-Abstract=The keel of the Wren", "-IPTC:Keywords=keel", "-Comment=by hand", file)
	}
}

// told are the facts of a file, as exiftool reads them.
func told(t *testing.T, file string) map[string]any {
	t.Helper()
	var all []map[string]any
	require.NoError(t, json.Unmarshal([]byte(tool(t, "exiftool", "-j", "-G1", "-ee", "-api", "RequestAll=2", file)), &all))
	return all[0]
}

// saysPlace lists the facts that tell where something is, and looks for its name in the
// bytes.
func saysPlace(t *testing.T, file string) (list []string) {
	t.Helper()
	for name := range told(t, file) {
		if strings.Contains(name, "GPS") || strings.HasSuffix(name, ":City") || strings.Contains(name, "ocation") &&
			!strings.HasPrefix(name, "System") {
			list = append(list, name)
		}
	}
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	if bytes.Contains(content, []byte("Seixal")) || bytes.Contains(content, []byte("the slip")) {
		list = append(list, "its bytes")
	}
	return list
}

// made is what a rendition makes of a file; it may be no smaller.
func made(t *testing.T, file, contentType string, r plan.Rendition) (string, error) {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	b, m, err := rendition.Bytes(t.Context(), rendition.Source{F: f, Size: info.Size(), ContentType: contentType,
		Path: file, Scratch: t.TempDir()}, r)
	if err != nil {
		return "", err
	}
	out := filepath.Join(t.TempDir(), "made"+map[string]string{"image/jpeg": ".jpg", "image/png": ".png",
		"image/heic": ".heic", "video/mp4": ".mp4"}[m.ContentType])
	require.NoError(t, os.WriteFile(out, b, 0o644))
	return out, nil
}

func TestThePlaceIsLeftOutWhereARenditionSaysSo(t *testing.T) {
	t.Parallel()
	large := writeJPEG(t, scene(900, 600))
	tellAll(t, large)
	require.NotEmpty(t, saysPlace(t, large))
	file := filepath.Join(t.TempDir(), "a.png")
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, scene(500, 300)))
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	tellAll(t, file)
	for name, c := range map[string]struct {
		file, contentType string
		r                 plan.Rendition
	}{
		"reduced JPEG":           {large, "image/jpeg", plan.Rendition{LongEdge: 300, Facts: plan.NoPlace}},
		"JPEG within the limits": {large, "image/jpeg", plan.Rendition{LongEdge: 2000, Facts: plan.NoPlace}},
		"JPEG of no limits":      {large, "image/jpeg", plan.Rendition{Facts: plan.NoPlace}},
		"JPEG that would get larger": {large, "image/jpeg",
			plan.Rendition{LongEdge: 899, Quality: 100, Facts: plan.NoPlace}},
		"reduced PNG":                 {file, "image/png", plan.Rendition{LongEdge: 300, Facts: plan.NoPlace}},
		"PNG within the limits":       {file, "image/png", plan.Rendition{LongEdge: 2000, Facts: plan.NoPlace}},
		"PNG that becomes JPEG":       {file, "image/png", plan.Rendition{Format: plan.JPEG, Facts: plan.NoPlace}},
		"JPEG, the time only":         {large, "image/jpeg", plan.Rendition{LongEdge: 300, Facts: plan.TimeOnly}},
		"JPEG as it is, time only":    {large, "image/jpeg", plan.Rendition{Facts: plan.TimeOnly}},
		"PNG as it is, the time only": {file, "image/png", plan.Rendition{Facts: plan.TimeOnly}},
	} {
		t.Run(name, func(t *testing.T) {
			out, err := made(t, c.file, c.contentType, c.r)
			require.NoError(t, err)
			assert.Empty(t, saysPlace(t, out))
			is := told(t, out)
			assert.Equal(t, "2026:05:04 10:11:12", is["ExifIFD:DateTimeOriginal"])
			assert.Equal(t, "+02:00", is["ExifIFD:OffsetTimeOriginal"])
			assert.EqualValues(t, 345, is["ExifIFD:SubSecTimeOriginal"])
			if c.r.Facts == plan.TimeOnly {
				assert.NotContains(t, is, "IFD0:Model")
				assert.NotContains(t, is, "XMP-dc:Description")
				assert.NotContains(t, is, "IPTC:Keywords")
				assert.NotContains(t, is, "File:Comment")
			} else {
				assert.Equal(t, "Yard 3", is["IFD0:Model"])
				assert.Equal(t, "The keel of the Wren", is["XMP-dc:Description"])
				assert.EqualValues(t, 4, is["XMP-xmp:Rating"])
				if c.contentType == "image/jpeg" {
					assert.Equal(t, "The keel of the Wren", is["IPTC:Caption-Abstract"])
				}
			}
			assert.NotContains(t, strings.Join(keysOf(is), " "), "ExifTool:Warning", "%v", is["ExifTool:Warning"])
			// It is seen as before.
			wantW, wantH, want := grey(pixels(t, c.file))
			w, h, got := grey(pixels(t, out))
			assert.Equal(t, wantH > wantW, h > w, "upright")
			if c.r.LongEdge == 0 && c.r.Format == "" || c.r.LongEdge >= 899 {
				assert.Equal(t, []int{wantW, wantH}, []int{w, h})
				assert.Equal(t, want, got, "the very same samples")
			}
		})
	}
}

func keysOf(m map[string]any) (list []string) {
	for k := range m {
		list = append(list, k)
	}
	return list
}

// What cannot be written without what shall not be told is not sent at all.
func TestWhatWouldTellThePlaceIsRefused(t *testing.T) {
	large := writeJPEG(t, scene(300, 200))
	content, err := os.ReadFile(large)
	require.NoError(t, err)
	clip := standinClip(t)
	write := func(name string, b []byte) string {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, b, 0o644))
		return file
	}
	movie, err := os.ReadFile(clip)
	require.NoError(t, err)
	var refused rendition.Refused
	for name, c := range map[string]struct{ file, contentType string }{
		"a picture with a clip behind it": {write("a.jpg", append(bytes.Clone(content), movie...)), "image/jpeg"},
		"one cut short":                   {write("b.jpg", content[:len(content)/2]), "image/jpeg"},
		"a TIFF":                          {write("c.tif", []byte("II*\x00")), "image/tiff"},
		"a GIF":                           {write("d.gif", []byte("GIF89a")), "image/gif"},
		"a damaged HEIC":                  {write("e.heic", []byte("\x00\x00\x00\x18ftypheic")), "image/heic"},
		"a damaged clip":                  {write("f.mp4", movie[:200]), "video/mp4"},
	} {
		_, err := made(t, c.file, c.contentType, plan.Rendition{LongEdge: 100, Height: 144, Facts: plan.NoPlace})
		assert.ErrorAs(t, err, &refused, name)
	}
	t.Setenv("PATH", t.TempDir())
	_, err = made(t, clip, "video/mp4", plan.Rendition{Height: 4320, Facts: plan.NoPlace})
	assert.ErrorAs(t, err, &refused, "no ffmpeg")
}

func standinClip(t *testing.T) string {
	t.Helper()
	file := t.TempDir() + "/clip.mp4"
	require.NoError(t, standin.Clip(file, 1, 480, 60, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)))
	return file
}

func TestClipsLeaveOutThePlaceAndKeepToABitrate(t *testing.T) {
	t.Parallel()
	clip := standinClip(t)
	placed := filepath.Join(t.TempDir(), "placed.mov")
	tool(t, "ffmpeg", "-v", "error", "-i", clip, "-c", "copy", "-movflags", "+use_metadata_tags", "-metadata",
		"com.apple.quicktime.location.ISO6709=+38.7000-009.1000/", "-metadata", "location=+38.7000-009.1000/", "-metadata",
		"com.apple.quicktime.creationdate=2026-05-04T10:11:12+0200", "-metadata", "comment=by hand", placed)
	require.Contains(t, tool(t, "ffprobe", "-v", "error", "-show_format", placed), "+38.7")
	frames := func(file string) string {
		return strings.TrimSpace(tool(t, "ffmpeg", "-v", "error", "-i", file, "-map", "0:v:0", "-f", "md5", "-"))
	}
	for name, r := range map[string]plan.Rendition{
		"as it is":            {Facts: plan.NoPlace},
		"smaller":             {Height: 144, Facts: plan.NoPlace},
		"as it is, time only": {Facts: plan.TimeOnly},
	} {
		out, err := made(t, placed, "video/quicktime", r)
		require.NoError(t, err, name)
		says := tool(t, "ffprobe", "-v", "error", "-show_format", "-show_streams", out)
		assert.NotContains(t, says, "38.7", name)
		assert.NotContains(t, says, "iso6709", name)
		assert.Contains(t, says, "2026-05-04T10:11:12+0200", name)
		assert.Equal(t, r.Facts != plan.TimeOnly, strings.Contains(says, "by hand"), name)
		content, err := os.ReadFile(out)
		require.NoError(t, err)
		assert.NotContains(t, string(content), "+38.7", name)
		if r.Height == 0 {
			assert.Equal(t, frames(placed), frames(out), "the very same pictures")
		}
	}
	// A bitrate bounds what the quality would take.
	busy := filepath.Join(t.TempDir(), "busy.mp4")
	tool(t, "ffmpeg", "-v", "error", "-f", "lavfi", "-i", "nullsrc=s=320x240:r=25:d=4,geq=random(1)*255:128:128", "-c:v",
		"libx264", "-preset", "ultrafast", "-crf", "20", busy)
	out, err := made(t, busy, "video/mp4", plan.Rendition{Bitrate: 400_000})
	require.NoError(t, err)
	info, err := os.Stat(out)
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(4*400_000/8*3/2), "about four seconds of it")
	_, err = made(t, out, "video/mp4", plan.Rendition{Bitrate: 8_000_000})
	var as rendition.AsShot
	require.ErrorAs(t, err, &as)
	assert.Equal(t, "it is within the limits", as.Why)
}

func TestHEICBecomesJPEGWithItsFacts(t *testing.T) {
	t.Parallel()
	jpg := writeJPEG(t, scene(400, 250))
	tellAll(t, jpg)
	tool(t, "exiftool", "-q", "-overwrite_original", "-n", "-Orientation=1", jpg)
	dir := t.TempDir()
	file := filepath.Join(dir, "a.heic")
	tool(t, "heif-enc", "-q", "80", jpg, "-o", file)
	out, err := made(t, file, "image/heic", plan.Rendition{Format: plan.JPEG, Quality: 95})
	require.NoError(t, err)
	assert.Contains(t, tool(t, "jpeginfo", "-c", out), "OK")
	before, after := told(t, file), told(t, out)
	for _, fact := range []string{"ExifIFD:DateTimeOriginal", "ExifIFD:OffsetTimeOriginal", "ExifIFD:SubSecTimeOriginal",
		"IFD0:Model", "GPS:GPSLatitude", "GPS:GPSLongitude", "XMP-dc:Description", "XMP-xmp:Rating"} {
		assert.Equal(t, before[fact], after[fact], fact)
		assert.NotNil(t, after[fact], fact)
	}
	reference := filepath.Join(dir, "reference.jpg")
	tool(t, "heif-convert", "-q", "90", file, reference)
	assert.Greater(t, ssim(t, pixels(t, reference), pixels(t, out)), 0.97)

	// Turned, reduced and without the place.
	out, err = made(t, file, "image/heic", plan.Rendition{LongEdge: 300, Format: plan.JPEG, Facts: plan.NoPlace})
	require.NoError(t, err)
	w, h, _ := grey(pixels(t, out))
	assert.Equal(t, []int{300, 188}, []int{w, h})
	assert.Empty(t, saysPlace(t, out))

	var as rendition.AsShot
	_, err = made(t, file, "image/heic", plan.Rendition{LongEdge: 300})
	require.ErrorAs(t, err, &as)
	_, err = made(t, file, "image/heic", plan.Rendition{LongEdge: 300, Format: plan.Both})
	require.ErrorAs(t, err, &as)
	assert.Equal(t, "a JPEG of it goes beside", as.Why)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, b := range map[string][]byte{"cut short": whole[:len(whole)/2], "a header alone": whole[:300],
		"nothing": whole[:8], "huge": huge(whole)} {
		bad := filepath.Join(dir, "bad.heic")
		require.NoError(t, os.WriteFile(bad, b, 0o644))
		_, err = made(t, bad, "image/heic", plan.Rendition{Format: plan.JPEG, Quality: 95})
		assert.ErrorAs(t, err, &as, name)
	}
}

// huge is a HEIC whose header claims to be far larger.
func huge(whole []byte) []byte {
	b := bytes.Clone(whole)
	for at := 0; ; {
		n := bytes.Index(b[at:], []byte("ispe"))
		if n < 0 {
			return b
		}
		at += n + 8
		copy(b[at:], []byte{0, 0, 0xff, 0xff, 0, 0, 0xff, 0xff})
	}
}

func TestColoursBecomeThoseOfEveryScreenOnRequestOnly(t *testing.T) {
	flat := image.NewRGBA(image.Rect(0, 0, 400, 300))
	for y := range 300 {
		for x := range 400 {
			flat.Set(x, y, color.RGBA{uint8(40 + x/4), uint8(160 - y/4), 90, 255})
		}
	}
	file := writeJPEG(t, flat)
	wide := filepath.Join(t.TempDir(), "wide.jpg")
	profile := filepath.Join(t.TempDir(), "p3.icc")
	require.NoError(t, os.WriteFile(profile, displayP3(), 0o644))
	tool(t, "exiftool", "-q", "-o", wide, "-ICC_Profile<="+profile, file)
	kept, err := made(t, wide, "image/jpeg", plan.Rendition{LongEdge: 200})
	require.NoError(t, err)
	assert.NotEmpty(t, told(t, kept)["ICC-header:ProfileConnectionSpace"], "untouched where nobody asks")
	out, err := made(t, wide, "image/jpeg", plan.Rendition{LongEdge: 200, Quality: 95, Colours: plan.SRGB})
	require.NoError(t, err)
	assert.Nil(t, told(t, out)["ICC-header:ProfileConnectionSpace"])
	reference := filepath.Join(t.TempDir(), "reference.png")
	tool(t, "vips", "icc_transform", wide, reference, "srgb", "--embedded", "--intent", "relative")
	small := filepath.Join(t.TempDir(), "small.png")
	tool(t, "vipsthumbnail", reference, "--size", "200x200", "-o", small)
	want, got := pixels(t, small), pixels(t, out)
	for _, at := range []image.Point{{20, 20}, {100, 75}, {180, 130}} {
		wr, wg, wb, _ := want.At(at.X, at.Y).RGBA()
		r, g, b, _ := got.At(at.X, at.Y).RGBA()
		for i, d := range [][2]uint32{{wr, r}, {wg, g}, {wb, b}} {
			assert.InDelta(t, float64(d[0]>>8), float64(d[1]>>8), 5, "%v, colour %d", at, i)
		}
	}
}

// displayP3 is a profile of Display P3 (SMPTE EG 432-1 with the curve of sRGB), as cameras
// write them.
func displayP3() []byte {
	fixed := func(v float64) []byte {
		n := int32(v * 65536)
		return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
	}
	xyz := func(x, y, z float64) []byte {
		return bytes.Join([][]byte{[]byte("XYZ \x00\x00\x00\x00"), fixed(x), fixed(y), fixed(z)}, nil)
	}
	curve := bytes.Join([][]byte{[]byte("para\x00\x00\x00\x00\x00\x03\x00\x00"), fixed(2.4), fixed(1 / 1.055),
		fixed(0.055 / 1.055), fixed(1 / 12.92), fixed(0.04045)}, nil)
	text := append([]byte("desc\x00\x00\x00\x00\x00\x00\x00\x03P3\x00"), make([]byte, 79)...)
	text = append(text, 0, 0)
	tags := []struct {
		name string
		b    []byte
	}{{"desc", text}, {"cprt", []byte("text\x00\x00\x00\x00none\x00\x00\x00\x00")}, {"wtpt", xyz(0.9642, 1, 0.8249)},
		{"rXYZ", xyz(0.51512, 0.2412, -0.00105)}, {"gXYZ", xyz(0.29198, 0.69225, 0.04189)}, {"bXYZ",
			xyz(0.1571, 0.06657, 0.78407)}, {"rTRC", curve}, {"gTRC", curve}, {"bTRC", curve}}
	out := make([]byte, 128)
	copy(out[4:], "none")
	copy(out[8:], []byte{4, 0x30, 0, 0})
	copy(out[12:], "mntrRGB XYZ ")
	copy(out[36:], "acsp")
	copy(out[68:], bytes.Join([][]byte{fixed(0.9642), fixed(1), fixed(0.8249)}, nil))
	long := func(n int) []byte { return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)} }
	out = append(out, long(len(tags))...)
	at := len(out) + 12*len(tags)
	var body []byte
	for _, tag := range tags {
		for len(tag.b)%4 != 0 {
			tag.b = append(tag.b, 0)
		}
		out = append(append(append(out, tag.name...), long(at+len(body))...), long(len(tag.b))...)
		body = append(body, tag.b...)
	}
	out = append(out, body...)
	copy(out, long(len(out)))
	return out
}

// Whatever a HEIF file's header says, it is read within bounds.
func FuzzHEIF(f *testing.F) {
	dir := f.TempDir()
	var b bytes.Buffer
	require.NoError(f, png.Encode(&b, scene(64, 48)))
	require.NoError(f, os.WriteFile(dir+"/a.png", b.Bytes(), 0o644))
	if out, err := exec.CommandContext(f.Context(), "heif-enc", dir+"/a.png", "-o",
		dir+"/a.heic").CombinedOutput(); err != nil {
		f.Fatalf("heif-enc: %s", out)
	}
	whole, err := os.ReadFile(dir + "/a.heic")
	require.NoError(f, err)
	f.Add(whole)
	f.Add(whole[:len(whole)/2])
	f.Add(huge(whole))
	f.Fuzz(func(t *testing.T, content []byte) {
		p, err := rendition.SizeOf(rendition.Source{F: bytes.NewReader(content), Size: int64(len(content)),
			ContentType: "image/heic"})
		if err == nil {
			assert.Positive(t, p.W)
			assert.LessOrEqual(t, max(p.W, p.H), 1<<16)
		}
	})
}

func TestWhoWaitsForAClipIsToldHowFarItIs(t *testing.T) {
	file := standinClip(t)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	last, n := 0.0, 0
	src := rendition.Source{F: f, Size: info.Size(), ContentType: "video/mp4", Path: file, Scratch: t.TempDir(),
		Progress: func(share float64) {
			assert.GreaterOrEqual(t, share, last)
			assert.LessOrEqual(t, share, 1.0)
			last, n = share, n+1
		}}
	_, _, err = rendition.Bytes(t.Context(), src, plan.Rendition{Height: 144, Quality: 60})
	require.NoError(t, err)
	assert.Positive(t, n)
	assert.Greater(t, last, 0.8)
}

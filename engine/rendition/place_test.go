package rendition_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
)

// One coordinate, in the spellings in which programs write it, or parts of it. The numbers are
// found in no picture by chance.
var spellings = []string{
	"51.5074219", "51,30.445314", "51.30445314", "51/1", "51 deg 30' 26.72", "30' 26.72", "51.507", "5130.445",
	"+51.5074", "-000.1277", "0.1277583", "000.1277583", "7 39.93", "7.66549",
	"Greenwich Tidal Yard", "London", "Deptford Creek", "NTEuNTA3NDIxO", // the last is base64
}

// found are the spellings among the bytes of a file: as they are, and as UTF-16.
func spelled(content []byte) (list []string) {
	for _, s := range spellings {
		wide := make([]byte, 0, 2*len(s))
		for _, c := range []byte(s) {
			wide = append(wide, c, 0)
		}
		if bytes.Contains(content, []byte(s)) || bytes.Contains(content, wide) ||
			bytes.Contains(content, append([]byte{0}, wide[:len(wide)-1]...)) {
			list = append(list, s)
		}
	}
	// As rationals in EXIF, of both byte orders: 30 minutes and 26.72 seconds.
	for _, raw := range [][]byte{{0, 0, 0, 51, 0, 0, 0, 1, 0, 0, 0, 30}, {51, 0, 0, 0, 1, 0, 0, 0, 30, 0, 0, 0}} {
		if bytes.Contains(content, raw) {
			list = append(list, fmt.Sprintf("% x", raw))
		}
	}
	return list
}

// pattern is a picture that does not become small as a PNG or a JPEG.
func pattern(w, h int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetRGBA(x, y, color.RGBA{uint8(x * 7), uint8(y * 5), uint8((x ^ y) * 3), 255})
		}
	}
	return img
}

// ways are how programs write the place into a picture: arguments of exiftool.
var ways = map[string][]string{
	"EXIF": {"-EXIF:GPSLatitude=51.5074219", "-EXIF:GPSLatitudeRef=N", "-EXIF:GPSLongitude=0.1277583",
		"-EXIF:GPSLongitudeRef=W", "-EXIF:GPSAltitude=12", "-EXIF:GPSDestLatitude=51.5074219",
		"-EXIF:GPSAreaInformation=Greenwich Tidal Yard"},
	"XMP of EXIF": {"-XMP-exif:GPSLatitude=51.5074219", "-XMP-exif:GPSLongitude=-0.1277583"},
	"XMP places": {"-XMP-photoshop:City=London", "-XMP-iptcCore:Location=Deptford Creek",
		"-XMP-photoshop:State=Greenwich Tidal Yard"},
	"XMP created and shown": {"-XMP-iptcExt:LocationCreatedCity=London",
		"-XMP-iptcExt:LocationShownSublocation=Deptford Creek", "-XMP-iptcExt:LocationShownGPSLatitude=51.5074219"},
	"XMP coverage":         {"-XMP-dc:Coverage=51.5074219 Greenwich Tidal Yard"},
	"XMP of dynamic media": {"-XMP-xmpDM:ShotLocation=Deptford Creek 51.5074219"},
	"XMP of other vendors": {"-XMP-acdsee:Notes=51.5074219", "-XMP-digiKam:CaptionsAuthorNames=London",
		"-XMP-lr:HierarchicalSubject=Places|London"},
	"XMP regions":      {"-XMP-mwg-coll:CollectionName=London"},
	"XMP about EXIF's": {"-XMP-exifEX:OwnerName=Deptford Creek", "-XMP-aux:OwnerName=51.5074219"},
	"IPTC": {"-IPTC:City=London", "-IPTC:Sub-location=Deptford Creek",
		"-IPTC:Province-State=Greenwich Tidal Yard", "-IPTC:ContentLocationName=London"},
	"a comment of the camera": {"-EXIF:UserComment=51.5074219", "-EXIF:XPComment=51.5074219", "-EXIF:XPKeywords=London"},
	"the name of its owner": {"-EXIF:OwnerName=Deptford Creek", "-EXIF:CameraLabel=London",
		"-EXIF:DocumentName=51.5074219", "-EXIF:HostComputer=London"},
}

func TestTheBytesOfWhatLeavesTellNoPlace(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("exiftool"); err != nil {
		t.Skip("exiftool is not installed")
	}
	dir := t.TempDir()
	bases := map[string]string{"jpg": "image/jpeg", "png": "image/png", "heic": "image/heic"}
	write := func(ending string, img image.Image) string {
		var b bytes.Buffer
		if ending == "png" {
			require.NoError(t, png.Encode(&b, img))
		} else {
			require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 95}))
		}
		file := filepath.Join(dir, "base."+ending)
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		return file
	}
	plain := pattern(320, 240)
	files := map[string]string{"jpg": write("jpg", plain), "png": write("png", plain)}
	if out, err := exec.Command("heif-enc", "-q", "60", "-o", dir+"/base.heic",
		files["png"]).CombinedOutput(); err == nil {
		files["heic"] = dir + "/base.heic"
	} else {
		t.Logf("no HEIC is made: %s", out)
	}
	var placed []string
	rewritten := map[string]int{} // by a program
	add := func(base, name string, change func(to string)) {
		to := filepath.Join(dir, fmt.Sprintf("%03d %s", len(placed), name)+filepath.Ext(base))
		content, err := os.ReadFile(base)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to, content, 0o600))
		change(to)
		changed, err := os.ReadFile(to)
		require.NoError(t, err)
		if len(spelled(changed)) > 0 || strings.Contains(name, "EXIF") { // the way exists in this format
			placed = append(placed, to)
		}
	}
	// Pictures that hold the place in pictures within them.
	gps := append(append([]string{"-overwrite_original", "-q"}, ways["EXIF"]...), "-n",
		"-EXIF:DateTimeOriginal=2026:05:04 10:11:12")
	for _, base := range files {
		for name, way := range ways {
			for _, extra := range [][]string{nil, {"-EXIF:DateTimeOriginal=2026:05:04 10:11:12", "-EXIF:Orientation#=6"}} {
				add(base, name, func(to string) {
					// What a format cannot hold, exiftool refuses: then it is not placed.
					_ = exec.Command("exiftool", append(append(append([]string{"-overwrite_original", "-q", "-m"}, way...), extra...),
						to)...).Run()
				})
			}
		}
		add(base, "EXIF with the preview of a picture with EXIF", func(to string) {
			inner := filepath.Join(dir, "inner.jpg")
			content, err := os.ReadFile(files["jpg"])
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(inner, content, 0o600))
			require.NoError(t, exec.Command("exiftool", append(gps, inner)...).Run())
			_ = exec.Command("exiftool", "-overwrite_original", "-q", "-m", "-ThumbnailImage<="+inner,
				"-XMP-xmpGImg:XMP-Thumbnails={Image=NTEuNTA3NDIxO}", to).Run()
			_ = exec.Command("exiftool", append(gps, to)...).Run()
		})
		add(base, "XMP that is longer than one segment", func(to string) {
			_ = exec.Command("exiftool", "-overwrite_original", "-q", "-m", "-XMP-dc:Coverage=51.5074219", "-XMP-dc:Relation="+
				strings.Repeat("x", 70_000), to).Run()
		})
		add(base, "EXIF with XMP in it", func(to string) {
			_ = exec.Command("exiftool", "-overwrite_original", "-q", "-m",
				"-EXIF:ApplicationNotes=<x:xmpmeta xmlns:x='adobe:ns:meta/'>51.5074219</x:xmpmeta>", to).Run()
		})
	}
	// Texts of a PNG, as a common tool writes them, and comments of a JPEG.
	for key, text := range map[string]string{"exif:GPSLatitude": "51/1, 30/1, 2672/100", "Location": "Deptford Creek",
		"Comment": "51.5074219", "geo:lat": "51.5074219", "Raw profile type exif": "51.5074219",
		"Raw profile type xmp": "London"} {
		add(files["png"], "text "+strings.ReplaceAll(key, ":", " "), func(to string) {
			content, err := os.ReadFile(to)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(to, pngWith(content, "tEXt", append(append([]byte(key), 0), text...)), 0o600))
		})
	}
	add(files["jpg"], "a comment", func(to string) {
		content, err := os.ReadFile(to)
		require.NoError(t, err)
		says := "taken at 51.5074219"
		com := append([]byte{0xff, 0xfe, 0, byte(len(says) + 2)}, says...)
		require.NoError(t, os.WriteFile(to, append(append(content[:2:2], com...), content[2:]...), 0o600))
	})
	for _, marker := range []byte{0xe3, 0xe4, 0xe5, 0xe7, 0xe8, 0xe9, 0xea, 0xeb, 0xec, 0xef} {
		add(files["jpg"], fmt.Sprintf("a segment %x", marker), func(to string) {
			content, err := os.ReadFile(to)
			require.NoError(t, err)
			says := "GPS 51.5074219"
			require.NoError(t, os.WriteFile(to, append(append(content[:2:2],
				append([]byte{0xff, marker, 0, byte(len(says) + 2)}, says...)...), content[2:]...), 0o600))
		})
	}
	add(files["jpg"], "behind its end", func(to string) {
		f, err := os.OpenFile(to, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString("51.5074219 London")
		require.NoError(t, err)
		require.NoError(t, f.Close())
	})
	// The same, written anew by programs that carry facts from one format into another.
	for i, from := range slices.Clone(placed) {
		ending := map[string]string{".jpg": ".png", ".png": ".jpg"}[filepath.Ext(from)]
		if ending == "" || i%3 > 0 {
			continue
		}
		for _, by := range [][]string{{"vips", "copy"}, {"convert"}} {
			to := filepath.Join(dir, fmt.Sprintf("%03d by %s%s", len(placed), by[0], ending))
			tool(t, by[0], append(by[1:], from, to)...)
			content, err := os.ReadFile(to)
			require.NoError(t, err)
			if len(spelled(content)) > 0 || bytes.Contains(content, []byte("GPS")) {
				placed, rewritten[by[0]] = append(placed, to), rewritten[by[0]]+1
			}
		}
	}
	for _, by := range []string{"vips", "convert"} {
		require.Greater(t, rewritten[by], 5, "%s wrote the place into few", by)
	}
	clip := standinClip(t)
	for name, way := range map[string][]string{
		"a key":              {"-metadata", "location=+51.5074-000.1277/"},
		"a key of its own":   {"-metadata", "com.apple.quicktime.location.ISO6709=+51.5074-000.1277+012/"},
		"a key nobody knows": {"-metadata", "com.example.where=London 51.5074219"},
		"a name":             {"-metadata", "com.apple.quicktime.location.name=Deptford Creek"},
		"its picture's name": {"-metadata:s:v:0", "handler_name=Deptford Creek", "-metadata:s:v:0", "location=London"},
		"its sound's name":   {"-metadata:s:a:0", "handler_name=London"},
		"a synopsis":         {"-metadata", "synopsis=London", "-metadata", "show=Deptford Creek"},
	} {
		to := filepath.Join(dir, fmt.Sprintf("%03d %s.mov", len(placed), name))
		tool(t, "ffmpeg", append(append([]string{"-v", "error", "-y", "-i", clip, "-map", "0", "-c", "copy", "-movflags",
			"+use_metadata_tags"}, way...), to)...)
		content, err := os.ReadFile(to)
		require.NoError(t, err)
		if len(spelled(content)) > 0 {
			placed = append(placed, to)
		}
	}
	bases["mov"] = "video/quicktime"
	require.Greater(t, len(placed), 95, "ways")

	sent, refused, kept := 0, 0, t.TempDir()
	for _, file := range placed {
		kind := bases[strings.TrimPrefix(filepath.Ext(file), ".")]
		for _, facts := range []plan.Facts{plan.NoPlace, plan.TimeOnly} {
			for name, r := range map[string]plan.Rendition{"as it is": {Facts: facts},
				"smaller": {LongEdge: 100, Height: 144, Facts: facts}} {
				if kind == "image/heic" && name == "smaller" && sent%5 > 0 {
					continue // it takes long, and comes to a JPEG's facts
				}
				out, err := made(t, file, kind, r)
				if err != nil {
					refused++
					continue // it is not sent: stuck, with the reason
				}
				sent++
				content, err := os.ReadFile(out)
				require.NoError(t, err)
				assert.Empty(t, spelled(content), "%s, %s, %s", filepath.Base(file), facts, name)
				require.NoError(t, os.Rename(out, filepath.Join(kept, fmt.Sprintf("%03d %s%s", sent, facts, filepath.Ext(out)))))
			}
		}
	}
	names := tool(t, "exiftool", "-s", "-G1", "-ee", kept)
	require.Contains(t, names, fmt.Sprintf("%d image files read", sent))
	for _, line := range strings.Split(names, "\n") {
		name, _, _ := strings.Cut(line, ":")
		assert.False(t, strings.Contains(name, "GPS") || strings.Contains(name, " City") ||
			strings.Contains(name, "ocation"), line)
	}
	assert.Greater(t, sent, 200)
	assert.Less(t, refused, sent/4)
	t.Logf("%d files, %d sent, %d not", len(placed), sent, refused)
}

// pngWith puts a chunk behind the header of a PNG.
func pngWith(content []byte, kind string, chunk []byte) []byte {
	const ihdr = 8 + 8 + 13 + 4
	return append(append(bytes.Clone(content[:ihdr]), written(kind, chunk)...), content[ihdr:]...)
}

// TestWhatIsKeptStays sends pictures without their place: what is on the lists is there.
func TestWhatIsKeptStays(t *testing.T) {
	if _, err := exec.LookPath("exiftool"); err != nil {
		t.Skip("exiftool is not installed")
	}
	file := filepath.Join(t.TempDir(), "a.jpg")
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, pattern(320, 240), nil))
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	tool(t, "exiftool", "-overwrite_original", "-q", "-EXIF:DateTimeOriginal=2026:05:04 10:11:12",
		"-EXIF:OffsetTimeOriginal=+02:00", "-EXIF:Make=Tidal", "-EXIF:Model=Slip 4", "-EXIF:ExposureTime=1/250",
		"-EXIF:LensModel=35 mm",
		"-EXIF:ImageDescription=The old hull", "-EXIF:Orientation#=6", "-XMP-dc:Title=Hull & <keel>", "-XMP-dc:Subject=boat",
		"-XMP-dc:Subject=keel", "-XMP-xmp:Rating=4", "-IPTC:Keywords=boat", "-IPTC:Caption-Abstract=On the slip",
		"-EXIF:GPSLatitude=51.5", "-EXIF:GPSLatitudeRef=N", "-XMP-tiff:Orientation#=6", file)
	out, err := made(t, file, "image/jpeg", plan.Rendition{Facts: plan.NoPlace})
	require.NoError(t, err)
	now := told(t, out)
	for key, value := range map[string]any{"ExifIFD:DateTimeOriginal": "2026:05:04 10:11:12",
		"ExifIFD:OffsetTimeOriginal": "+02:00", "IFD0:Make": "Tidal", "IFD0:Model": "Slip 4", "ExifIFD:LensModel": "35 mm",
		"IFD0:ImageDescription": "The old hull",
		"XMP-dc:Title":          "Hull & <keel>", "XMP-xmp:Rating": float64(4), "IPTC:Caption-Abstract": "On the slip",
		"IFD0:Orientation": "Rotate 90 CW"} {
		assert.EqualValues(t, value, now[key], key)
	}
	assert.Equal(t, []any{"boat", "keel"}, now["XMP-dc:Subject"])
	assert.NotContains(t, fmt.Sprint(keysOf(now)), "GPS")

	// Reduced it stands upright, in XMP, too.
	out, err = made(t, file, "image/jpeg", plan.Rendition{LongEdge: 100})
	require.NoError(t, err)
	now = told(t, out)
	assert.EqualValues(t, "Horizontal (normal)", now["IFD0:Orientation"])
	assert.EqualValues(t, "Horizontal (normal)", now["XMP-tiff:Orientation"])

	out, err = made(t, file, "image/jpeg", plan.Rendition{Facts: plan.TimeOnly})
	require.NoError(t, err)
	now = told(t, out)
	assert.EqualValues(t, "2026:05:04 10:11:12", now["ExifIFD:DateTimeOriginal"])
	assert.EqualValues(t, "Rotate 90 CW", now["IFD0:Orientation"], "and it stays turned")
	for _, key := range []string{"IFD0:Make", "IFD0:ImageDescription", "XMP-dc:Title", "IPTC:Keywords"} {
		assert.NotContains(t, now, key)
	}
}

// TestFourLettersAmongSamplesAreNoClip has the letters with which a clip begins lie among a
// picture's samples, and a real one behind another's end.
func TestFourLettersAmongSamplesAreNoClip(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, pattern(320, 240), nil))
	whole := b.Bytes()
	dir := t.TempDir()
	write := func(name string, content []byte) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
		return filepath.Join(dir, name)
	}
	says := append([]byte{0xff, 0xfe, 0, 18}, "\x00\x00\x00\x18ftypmp42...."...)
	within := append(append(bytes.Clone(whole[:2]), says...), whole[2:]...)
	at := bytes.LastIndex(whole, []byte{0xff, 0xd9}) - 40
	among := bytes.Clone(whole)
	copy(among[at:], "\x00\x00\x00\x18ftypmp42")
	for name, content := range map[string][]byte{"in a comment": within, "among samples": among} {
		_, err := made(t, write(name+".jpg", content), "image/jpeg", plan.Rendition{Facts: plan.NoPlace})
		assert.NoError(t, err, name)
	}
	_, err := made(t, write("behind.jpg", append(bytes.Clone(whole),
		"\x00\x00\x00\x18ftypmp42\x00\x00\x00\x00mp42isom"...)), "image/jpeg", plan.Rendition{Facts: plan.NoPlace})
	assert.ErrorContains(t, err, "moving picture")
}

// written is a chunk of a PNG as it stands in a file.
func written(kind string, content []byte) []byte {
	out := append(binary.BigEndian.AppendUint32(nil, uint32(len(content))), kind...)
	out = append(out, content...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[4:]))
}

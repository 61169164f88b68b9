package probe_test

import (
	"bytes"
	"image"
	picture "image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/engine/probe"
)

func TestMarksAreReadWhereverProgramsWriteThem(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, picture.Encode(&b, image.NewGray(image.Rect(0, 0, 32, 32)), nil))
	for name, c := range map[string]struct {
		args []string
		want media.Marks
	}{
		"none": {[]string{"-EXIF:Model=Yard 3"}, media.Marks{}},
		"XMP": {[]string{"-XMP-dc:Description=The Wren", "-XMP-xmp:Rating=4", "-XMP-dc:Subject=keel",
			"-XMP-dc:Subject=Regatta"}, media.Marks{Caption: "The Wren", Rating: 4, Keywords: []string{"keel", "Regatta"}}},
		"IPTC": {[]string{"-IPTC:Caption-Abstract=The Wren", "-IPTC:Keywords=keel",
			"-IPTC:Keywords=Regatta"}, media.Marks{Caption: "The Wren", Keywords: []string{"keel", "Regatta"}}},
		"EXIF": {[]string{"-EXIF:ImageDescription=The Wren", "-IFD0:Rating=3"},
			media.Marks{Caption: "The Wren", Rating: 3}},
		"XMP before the rest": {[]string{"-XMP-dc:Description=mine", "-EXIF:ImageDescription=theirs",
			"-IPTC:Caption-Abstract=old"}, media.Marks{Caption: "mine"}},
		"what cameras put in": {[]string{"-EXIF:ImageDescription=YARD DIGITAL CAMERA"}, media.Marks{}},
		"a rating in percent": {[]string{"-XMP-xmp:Rating=99"}, media.Marks{}},
		"a rejected one":      {[]string{"-XMP-xmp:Rating=-1"}, media.Marks{}},
		"letters of any sort": {[]string{"-XMP-dc:Description=Möwe über dem Watt 🛶"},
			media.Marks{Caption: "Möwe über dem Watt 🛶"}},
		"a caption of nothing": {[]string{"-XMP-dc:Description= "}, media.Marks{}},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "a.jpg")
			require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
			out, err := exec.CommandContext(t.Context(), "exiftool",
				append([]string{"-q", "-overwrite_original"}, append(c.args, file)...)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			f, err := os.Open(file)
			require.NoError(t, err)
			defer f.Close()
			m, err := probe.Marks(f, "image/jpeg")
			require.NoError(t, err)
			assert.Equal(t, c.want.Caption, m.Caption)
			assert.Equal(t, c.want.Rating, m.Rating)
			assert.ElementsMatch(t, c.want.Keywords, m.Keywords)

			// A sidecar tells the same.
			sidecar := filepath.Join(t.TempDir(), "a.xmp")
			if strings.HasPrefix(name, "XMP") || name == "letters of any sort" {
				out, err := exec.CommandContext(t.Context(), "exiftool", "-q", "-tagsFromFile", file, "-xmp:all",
					sidecar).CombinedOutput()
				require.NoError(t, err, "%s", out)
				packet, err := os.ReadFile(sidecar)
				require.NoError(t, err)
				m = probe.XMP(packet)
				assert.Equal(t, c.want.Caption, m.Caption)
				assert.Equal(t, c.want.Rating, m.Rating)
			}
		})
	}
}

// Whatever a sidecar says, what is read of it is bounded and can stand in a name.
func FuzzXMP(f *testing.F) {
	f.Add([]byte(`<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmp:Rating="4"><dc:description><rdf:Alt><rdf:li>a</rdf:li></rdf:Alt></dc:description></rdf:Description></rdf:RDF></x:xmpmeta>`))
	f.Add([]byte(strings.Repeat("<a>", 5000)))
	f.Add([]byte("<!DOCTYPE x [<!ENTITY a \"aaaa\">]><x>&a;</x>"))
	f.Fuzz(func(t *testing.T, packet []byte) {
		m := probe.XMP(packet)
		assert.LessOrEqual(t, len(m.Caption), 2000)
		assert.LessOrEqual(t, len(m.Keywords), 200)
		assert.True(t, m.Rating >= 0 && m.Rating <= 5)
		assert.Equal(t, strings.ToValidUTF8(m.Caption, ""), m.Caption)
	})
}

package naming_test

import (
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/core/naming"
)

var taken = time.Date(2026, 3, 4, 23, 59, 0, 0, time.FixedZone("", -3600))

func TestLayouts(t *testing.T) {
	it := naming.Item{Name: "IMG_0001.JPG", Device: "galley-phone", Kind: media.Photo, TakenAt: taken}
	assert.Equal(t, "2026/03/IMG_0001.JPG", naming.Path("{year}/{month}/{name}", it))
	assert.Equal(t, "galley-phone/photo/2026-03-04/IMG_0001.JPG",
		naming.Path("{device}/{kind}/{year}-{month}-{day}/{name}", it))
	it.Source, it.Folder, it.TakenAt = "/srv/Boats/Restoration", "Old Margery/deck: port", taken.Add(-90*time.Second)
	assert.Equal(t, "Restoration/Old Margery/deck_ port/23.57.30 IMG_0001.JPG",
		naming.Path("{source}/{folder}/{hour}.{minute}.{second} {name}", it))
	for _, none := range []string{"", ".", "/", "./."} {
		it.Folder = none
		assert.Equal(t, "Restoration/IMG_0001.JPG", naming.Path("{source}/{folder}/{name}", it), "no folder is none")
		assert.Equal(t, "IMG_0001.JPG", naming.Path("{folder}/{name}", it))
	}
	it.Folder = "../../etc/.ssh"
	assert.Equal(t, "x/etc/_ssh/IMG_0001.JPG", naming.Path("x/{folder}/{name}", it), "nothing leaves the place")
	it.Folder = "{name}/{year}"
	assert.NotContains(t, naming.Path("{folder}/{name}", it), "IMG_0001.JPG/")
	it.Folder = ""
	it.Name = "{year}.jpg"
	assert.Equal(t, "2026/{year}.jpg", naming.Path("{year}/{name}", it), "a file's name is not a layout")
}

func TestUnsafeNames(t *testing.T) {
	for in, want := range map[string]string{
		"a/b\\c:d*e?.jpg":  "a_b_c_d_e_.jpg",
		"line\nbreak.jpg":  "line_break.jpg",
		`"quoted" 50%.jpg`: "_quoted_ 50%.jpg",
		"tide 🌊.jpg":       "tide 🌊.jpg",
		"cafe\u0301.jpg":   "café.jpg",
		"bad\xff\xfe.jpg":  "bad_.jpg",
		".hidden.jpg":      "_hidden.jpg",
		"..":               "_",
		"ends. . ":         "ends",
		"con.jpg":          "_con.jpg",
		"COM1":             "_COM1",
		"":                 "_",
		" ":                "_",
	} {
		assert.Equal(t, want, naming.Safe(in), "%q", in)
	}
	long := naming.Safe(strings.Repeat("é", 200) + ".jpeg")
	assert.LessOrEqual(t, len(long), 255)
	assert.True(t, strings.HasSuffix(long, "é.jpeg"), long)
}

func TestAnyNameBecomesSafe(t *testing.T) {
	hash := strings.Repeat("3fa9c2d1", 8)
	rapid.Check(t, func(t *rapid.T) {
		raw := string(rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "bytes"))
		if rapid.Bool().Draw(t, "text") {
			raw = rapid.String().Draw(t, "text")
		}
		p := naming.Path("{year}/{name}", naming.Item{Name: raw, TakenAt: taken})
		for _, p := range []string{p, naming.Clash(p, hash, 1), naming.Clash(p, hash, 2)} {
			dir, name, found := strings.Cut(p, "/")
			require.True(t, found && dir == "2026", "%q", p)
			require.NotContains(t, name, "/")
			require.True(t, utf8.ValidString(name))
			require.LessOrEqual(t, len(name), 255)
			require.NotEmpty(t, name)
			require.False(t, strings.HasPrefix(name, "."), "%q", name)
			require.NotContains(t, []string{".", " "}, name[len(name)-1:])
			require.False(t, strings.ContainsFunc(name, unicode.IsControl), "%q", name)
		}
		require.Equal(t, naming.Safe(raw), naming.Safe(naming.Safe(raw)))
	})
}

func TestAClashIsNamedByItsContent(t *testing.T) {
	a, b := strings.Repeat("3fa9c2d1", 8), strings.Repeat("77e01b52", 8)
	p := "2026/03/IMG_0001.JPG"
	assert.Equal(t, "2026/03/IMG_0001 (3fa9c2d1).JPG", naming.Clash(p, a, 1))
	assert.Equal(t, "2026/03/IMG_0001 (3fa9c2d13fa9c2d1).JPG", naming.Clash(p, a, 2))
	assert.NotEqual(t, naming.Clash(p, a, 1), naming.Clash(p, b, 1))
}

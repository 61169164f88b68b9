package naming_test

import (
	"path"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/core/naming"
	"yardtide/core/plan"
)

func TestEveryTokenOfALayout(t *testing.T) {
	it := naming.Item{Name: "IMG_4031.JPG", Device: "deck-phone", Source: "DCIM/Camera", Folder: "Boats/Wren",
		Kind:    media.Photo,
		TakenAt: time.Date(2026, 5, 4, 9, 8, 7, 0, time.UTC), Camera: " Yard  3 ", Caption: "Launching the\n Wren: at last"}
	for layout, want := range map[string]string{
		"{year}/{month}/{name}":                "2026/05/IMG_4031.JPG",
		"{camera}/{day}-{hour}{minute}/{name}": "Yard 3/04-0908/IMG_4031.JPG",
		"{device}/{source}/{folder}/{name}":    "deck-phone/Camera/Boats/Wren/IMG_4031.JPG",
		"{kind}/{sequence}":                    "photo/4031.JPG",
		"picks/{year}/{caption}":               "picks/2026/Launching the Wren_ at last.JPG",
		"{caption} ({sequence})":               "Launching the Wren_ at last (4031).JPG",
		"{year}{month}{day}-{second}":          "20260504-07.JPG",
		"{sequence}-{name}":                    "4031-IMG_4031.JPG",
	} {
		assert.NoError(t, plan.CheckLayout(layout), layout)
		assert.Equal(t, want, naming.Path(layout, it), layout)
	}
	bare := naming.Item{Name: "sail.mov", TakenAt: it.TakenAt}
	assert.Equal(t, "no-camera/sail/0000.mov", naming.Path("{camera}/{caption}/{sequence}", bare), "what nobody knows")
	assert.Equal(t, "00012345.jpg", naming.Path("{sequence}", naming.Item{Name: "a1-9900012345x.jpg"}),
		"the last digits, at most eight")
	assert.Equal(t, "0000", naming.Path("{sequence}", naming.Item{Name: "keel"}))
	for _, layout := range []string{"{year}/{month}", "{name}/{year}", "{name}/{name}", "{moon}/{name}", "{year}/",
		"/{name}", "a//{name}", "../{name}", "{kind}/{camera}", "{year"} {
		assert.Error(t, plan.CheckLayout(layout), layout)
	}
	assert.Error(t, plan.CheckOwnLayout("{year}/{caption}"), "captions are known only later")
}

func TestPartsHaveTheNameOfTheirMainFile(t *testing.T) {
	for _, c := range []struct{ at, main, part, want string }{
		{"2026/05/IMG_1.JPG", "IMG_1.JPG", "IMG_1.CR2", "2026/05/IMG_1.CR2"},
		{"2026/05/IMG_1 (3fa9c2d1).JPG", "IMG_1.JPG", "IMG_1.CR2", "2026/05/IMG_1 (3fa9c2d1).CR2"},
		{"2026/05/IMG_1 (3fa9c2d1).JPG", "IMG_1.JPG", "IMG_1.JPG.xmp", "2026/05/IMG_1 (3fa9c2d1).JPG.xmp"},
		{"2026/05/IMG_1 (3fa9c2d1).JPG", "IMG_1.JPG", "IMG_1.xmp", "2026/05/IMG_1 (3fa9c2d1).xmp"},
		{"2026/05/IMG_1.jpg", "IMG_1.HEIC", "IMG_1.MOV", "2026/05/IMG_1.MOV"},
		{"a.b.jpg", "a.b.jpg", "a.b.mov", "a.b.mov"},
		{"2026/05/4031.JPG", "IMG_4031.JPG", "IMG_4031.CR2", "2026/05/4031.CR2"},
	} {
		assert.Equal(t, c.want, naming.Beside(c.at, c.main, c.part))
	}
}

// Whatever people write into captions, and cameras into headers, every name on the path is
// one that every storage takes.
func TestNoCaptionMakesAPath(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		it := naming.Item{Name: rapid.String().Draw(rt, "name"),
			Caption: rapid.StringMatching(`[\x00-\x20a./\\:{}é🛶]{0,400}`).Draw(rt, "caption"),
			Camera:  rapid.String().Draw(rt, "camera"), TakenAt: time.Unix(0, 0)}
		to := naming.Path("picks/{camera}/{caption}", it)
		parts := strings.Split(to, "/")
		assert.Len(rt, parts, 3, "%q", to)
		for _, part := range parts {
			assert.Equal(rt, naming.Safe(part), part)
		}
		beside := naming.Beside(to, it.Name, it.Name+".xmp")
		assert.Equal(rt, path.Dir(to), path.Dir(beside))
		assert.Equal(rt, naming.Safe(path.Base(beside)), path.Base(beside))
	})
}

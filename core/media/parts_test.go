package media_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"yardtide/core/media"
)

func TestFilesOfOneShotAreOneItem(t *testing.T) {
	photo, raw, clip, xmp := func(n string) media.File { return media.File{Name: n, Kind: media.Photo} },
		func(n string) media.File { return media.File{Name: n, Kind: media.Raw} },
		func(n string, s int64, pair string) media.File {
			return media.File{Name: n, Kind: media.Video, Seconds: s, Pair: pair}
		}, func(n string) media.File { return media.File{Name: n, Kind: media.Document} }
	paired := photo("IMG_1.HEIC")
	paired.Pair = "one"
	for name, c := range map[string]struct {
		files []media.File
		want  []int
	}{
		"alone":                       {[]media.File{photo("IMG_1.JPG")}, []int{-1}},
		"a raw and its picture":       {[]media.File{raw("IMG_1.CR2"), photo("IMG_1.JPG")}, []int{1, -1}},
		"a raw alone, with a sidecar": {[]media.File{raw("IMG_1.CR2"), xmp("IMG_1.xmp")}, []int{-1, 0}},
		"sidecars of both names": {[]media.File{photo("IMG_1.JPG"), xmp("IMG_1.JPG.xmp"), xmp("IMG_1.xmp")},
			[]int{-1, 0, 0}},
		"a sidecar of the raw": {[]media.File{photo("IMG_1.JPG"), raw("IMG_1.CR2"), xmp("IMG_1.CR2.xmp")},
			[]int{-1, 0, 0}},
		"a still and its clip":    {[]media.File{photo("IMG_1.HEIC"), clip("IMG_1.MOV", 3, "")}, []int{-1, 0}},
		"told by what is in both": {[]media.File{paired, clip("IMG_1.MOV", 60, "one")}, []int{-1, 0}},
		"of different shots":      {[]media.File{paired, clip("IMG_1.MOV", 3, "two")}, []int{-1, -1}},
		"a film of the same name": {[]media.File{photo("IMG_1.JPG"), clip("IMG_1.MP4", 300, "")}, []int{-1, -1}},
		"nobody knows how long":   {[]media.File{photo("IMG_1.JPG"), clip("IMG_1.MP4", 0, "")}, []int{-1, -1}},
		"a clip and its sidecar":  {[]media.File{clip("IMG_1.MP4", 300, ""), xmp("IMG_1.xmp")}, []int{-1, 0}},
		"two pictures are two": {[]media.File{photo("IMG_1.JPG"), photo("IMG_1.HEIC"), raw("IMG_1.DNG")},
			[]int{-1, -1, 1}},
		"a sidecar alone": {[]media.File{xmp("IMG_1.xmp")}, []int{-1}},
		"a film and the picture's own": {[]media.File{photo("IMG_1.JPG"), clip("IMG_1.MP4", 300, ""),
			xmp("IMG_1.MP4.xmp")}, []int{-1, -1, 1}},
		"a screenshot with a sidecar":     {[]media.File{{Name: "a.png", Kind: media.Graphic}, xmp("a.xmp")}, []int{-1, 0}},
		"a raw and a screenshot are two":  {[]media.File{{Name: "a.png", Kind: media.Graphic}, raw("a.dng")}, []int{-1, -1}},
		"sound is an item of its own":     {[]media.File{photo("a.jpg"), {Name: "a.wav", Kind: media.Audio}}, []int{-1, -1}},
		"a document that is no sidecar":   {[]media.File{photo("a.jpg"), xmp("a.txt")}, []int{-1, -1}},
		"a sidecar that holds a picture?": {[]media.File{photo("a.xmp"), photo("a.jpg")}, []int{1, -1}},
	} {
		assert.Equal(t, c.want, media.Parts(c.files), name)
	}
	for name, want := range map[string]string{"IMG_1.JPG": "IMG_1", "IMG_1.JPG.xmp": "IMG_1", "IMG_1.XMP": "IMG_1",
		"a.b.jpg": "a.b", "none": "none", ".hidden": ".hidden", ".xmp": ".xmp", "keel of 3.4 m.xmp": "keel of 3",
		"ü.heic": "ü"} {
		assert.Equal(t, want, media.Stem(name), name)
	}
}

// Whatever lies there in whatever order: a part belongs to a main file, no main file to
// another, and the order of the files does not matter.
func TestPartsAreOneLevelDeep(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		files := rapid.SliceOfNDistinct(rapid.Custom(func(rt *rapid.T) media.File {
			return media.File{Name: "a." + rapid.SampledFrom([]string{"jpg", "heic", "cr2", "dng", "mov", "mp4", "xmp",
				"jpg.xmp", "cr2.xmp", "mov.xmp", "txt"}).Draw(rt, "name"),
				Kind: rapid.SampledFrom(media.Kinds).Draw(rt, "kind"), Seconds: int64(rapid.IntRange(0, 9).Draw(rt, "seconds")),
				Pair: rapid.SampledFrom([]string{"", "one", "two"}).Draw(rt, "pair")}
		}), 0, 8, func(f media.File) string { return f.Name }).Draw(rt, "files")
		of := media.Parts(files)
		for i, main := range of {
			if main >= 0 {
				assert.NotEqual(rt, i, main)
				assert.Equal(rt, -1, of[main], "%v", files)
			}
		}
		turned := slices.Clone(files)
		slices.SortFunc(turned, func(a, b media.File) int { return strings.Compare(b.Name, a.Name) })
		again := media.Parts(turned)
		for i, f := range turned {
			was := of[slices.IndexFunc(files, func(o media.File) bool { return o.Name == f.Name })]
			if was < 0 {
				assert.Equal(rt, -1, again[i])
			} else {
				assert.Equal(rt, files[was].Name, turned[again[i]].Name)
			}
		}
	})
}

package media

import (
	"path"
	"strings"
)

// byEnding is what files are by the ending of their name, as far as they are pictures or clips.
var byEnding = func() map[string]Kind {
	m := map[string]Kind{}
	for kind, endings := range map[Kind]string{
		Photo:   "jpg jpeg jpe jfif heic heif avif webp tif tiff jxl",
		Raw:     "dng cr2 cr3 crw nef nrw arw srf sr2 raf orf rw2 pef srw x3f 3fr iiq mrw erf kdc",
		Graphic: "png gif bmp",
		Video:   "mp4 mov m4v mkv avi 3gp 3g2 mts m2ts webm mpg mpeg wmv mod",
	} {
		for _, e := range strings.Fields(endings) {
			m["."+e] = kind
		}
	}
	return m
}()

// OfName is the kind of a picture or clip by the ending of its name; ok is false for every other name. What a
// file holds may be something else: where that matters, its content tells.
func OfName(name string) (k Kind, ok bool) {
	k, ok = byEnding[strings.ToLower(path.Ext(name))]
	return k, ok
}

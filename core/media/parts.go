package media

import (
	"path"
	"slices"
	"strings"
)

// Companion is a sort of file that belongs to another: both are parts of one item.
type Companion string

// The companions.
const (
	RawBeside  Companion = "raw"     // the raw of a picture that the camera also developed
	ClipBeside Companion = "clip"    // the seconds around a still
	Sidecar    Companion = "sidecar" // what programs wrote down about it (XMP)
)

// Companions lists them all.
var Companions = []Companion{RawBeside, ClipBeside, Sidecar}

// CompanionOf is which companion a part of a kind is.
func CompanionOf(k Kind) Companion {
	switch k {
	case Raw:
		return RawBeside
	case Video:
		return ClipBeside
	}
	return Sidecar
}

// File is one of a folder, as its companions are found.
type File struct {
	Name    string
	Kind    Kind
	Seconds int64  // how long it lasts, 0 when that is not known
	Pair    string // what a camera wrote into a still and its clip alike, "" for nothing
}

// mostStill is how long the clip of a still lasts at most, in seconds, where nothing in it
// tells whose it is.
const mostStill = 6

const sidecarEnding = ".xmp"

// IsSidecar tells a sidecar by its name.
func IsSidecar(name string) bool {
	return len(name) > len(sidecarEnding) && strings.EqualFold(name[len(name)-len(sidecarEnding):], sidecarEnding)
}

// Stem is the part of a name that an item's files have in common: IMG_1 of IMG_1.JPG, of
// IMG_1.CR2 and of IMG_1.JPG.xmp.
func Stem(name string) string {
	if IsSidecar(name) {
		if bare := name[:len(name)-len(sidecarEnding)]; path.Ext(bare) != "" && len(path.Ext(bare)) <= 6 {
			name = bare
		}
	}
	if stem := strings.TrimSuffix(name, path.Ext(name)); stem != "" {
		return stem
	}
	return name
}

// Parts tells of files in one folder whose stems are the same whose part each is: the place
// of its main file among them, or -1 for a main file. A picture is before its raw, and both
// before a clip; of two pictures each is an item, and the first has the companions.
func Parts(files []File) []int {
	of := make([]int, len(files))
	order := make([]int, len(files))
	for i := range files {
		of[i], order[i] = -1, i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(files[a].Name, files[b].Name) })
	first := func(is func(f File) bool) int {
		for _, i := range order {
			if is(files[i]) && !IsSidecar(files[i].Name) {
				return i
			}
		}
		return -1
	}
	still := first(func(f File) bool { return f.Kind == Photo })
	main := still
	for _, k := range []Kind{Raw, Graphic, Video} {
		if main < 0 {
			main = first(func(f File) bool { return f.Kind == k })
		}
	}
	if main < 0 {
		return of
	}
	for i, f := range files {
		switch {
		case i == main:
		case IsSidecar(f.Name):
			of[i] = main
			bare := f.Name[:len(f.Name)-len(sidecarEnding)]
			if own := first(func(o File) bool { return o.Name == bare }); own >= 0 {
				of[i] = own
			}
		case f.Kind == Raw && still >= 0:
			of[i] = still
		case f.Kind == Video && still >= 0 && isClipOf(f, files[still]):
			of[i] = still
		}
	}
	for i := range of { // the sidecar of a raw is a part of what the raw is a part of
		if of[i] >= 0 && of[of[i]] >= 0 {
			of[i] = of[of[i]]
		}
	}
	return of
}

// isClipOf tells whether a clip is that of a still of its name.
func isClipOf(clip, still File) bool {
	if clip.Pair != "" && still.Pair != "" {
		return clip.Pair == still.Pair
	}
	return clip.Seconds > 0 && clip.Seconds <= mostStill || clip.Pair != "" && clip.Seconds == 0
}

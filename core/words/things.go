package words

import (
	"slices"

	"yardtide/core/gate"
	"yardtide/core/media"
)

// Files are files, whatever they are: "1 file", "1,204 files".
func Files(n int64) string {
	if n == 1 {
		return "1 file"
	}
	return gate.Count(n) + " files"
}

// Things are items as a person calls them, by the kinds that are among them:
// "12 pictures", "1 clip", "3 pictures and clips", "4 files".
func Things(n int64, kinds ...media.Kind) string {
	of := func(these ...media.Kind) bool {
		return !slices.ContainsFunc(kinds, func(k media.Kind) bool { return !slices.Contains(these, k) })
	}
	one, many := "file", "files"
	switch {
	case len(kinds) > 0 && of(media.Pictures...):
		one, many = "picture", "pictures"
	case len(kinds) > 0 && of(media.Video):
		one, many = "clip", "clips"
	case of(append(slices.Clone(media.Pictures), media.Video)...):
		one, many = "picture or clip", "pictures and clips"
	}
	if n == 1 {
		return "1 " + one
	}
	return gate.Count(n) + " " + many
}

package words

import (
	"strings"

	"github.com/dustin/go-humanize"

	"slices"

	"yardtide/core/forecast"
	"yardtide/core/media"
)

// Bytes writes a size for people, in decimal units: "45 MB".
func Bytes(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

// Between tells where a total of bytes lies: "9.8 GB to 11 GB", or "9.8 GB" where that is one number in words.
func Between(r forecast.Range) string {
	if low, high := Bytes(r.Low), Bytes(r.High); low != high {
		return low + " to " + high
	}
	return Bytes(r.Likely)
}

// Sentence writes an error's text, or another's, as a sentence.
func Sentence(text string) string { return strings.ToUpper(text[:1]) + text[1:] + "." }

// And joins words as a sentence does: "shed, locker and attic".
func And(words []string) string { return joined(words, "and") }

// joined joins words with commas, and the last with another word.
func joined(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

// Are tells what there is: "are a, b and c", "is a", "is none".
func Are(words []string) string {
	switch len(words) {
	case 0:
		return "is none"
	case 1:
		return "is " + words[0]
	}
	return "are " + And(words)
}

// Count writes a number for people: "1,204".
func Count(n int64) string { return humanize.Comma(n) }

// Files are files, whatever they are: "1 file", "1,204 files".
func Files(n int64) string { return counted(n, "file", "files") }

// counted writes a number of things: "1 file", "1,204 files".
func counted(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(n) + " " + many
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
	return Count(n) + " " + many
}

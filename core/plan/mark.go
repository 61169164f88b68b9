package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardtide/core/media"
)

// Also sends items that carry a mark to a second layout at the same destination.
type Also struct {
	When   Mark   `json:"when"`
	Layout string `json:"layout"`
}

// Clash is what happens where something else has an item's name.
type Clash string

// What a rule can say of that.
const (
	NameClash Clash = "name" // it goes under a name that says so
	SkipClash Clash = "skip" // it is not sent
)

// Mark is what people give their best in whatever program they like. Its zero value asks
// for none.
type Mark struct {
	Captioned bool
	Rated     int    // so many stars at least, 0 for no matter
	Keyword   string // written in any case
	Marked    bool   // by the keeper
	Set       string // of the keeper's, by its name
}

// Marked are the kinds that carry marks.
var Marked = []media.Kind{media.Photo, media.Raw, media.Graphic, media.Video}

const mostStars = 5

// ParseMark reads one: "captioned", "rated 4", "keyword regatta", "marked", "set Launch day".
func ParseMark(s string) (m Mark, err error) {
	word, rest, _ := strings.Cut(strings.TrimSpace(s), " ")
	rest = strings.TrimSpace(rest)
	switch {
	case word == "captioned" && rest == "":
		return Mark{Captioned: true}, nil
	case word == "rated":
		if n, err := strconv.Atoi(rest); err == nil && n >= 1 && n <= mostStars {
			return Mark{Rated: n}, nil
		}
		return m, wrong("would be such as \"rated 4\", from 1 to 5", "%q is no rating", s)
	case word == "keyword" && rest != "":
		return Mark{Keyword: rest}, nil
	case word == "marked" && rest == "":
		return Mark{Marked: true}, nil
	case word == "set" && rest != "":
		return Mark{Set: rest}, nil
	}
	return m, wrong(`would be captioned, "rated 4", "keyword regatta", marked or "set Launch day"`, "%q is no mark", s)
}

// String writes it as a plan has it.
func (m Mark) String() string {
	switch {
	case m.Captioned:
		return "captioned"
	case m.Rated > 0:
		return fmt.Sprintf("rated %d", m.Rated)
	case m.Keyword != "":
		return "keyword " + m.Keyword
	case m.Marked:
		return "marked"
	case m.Set != "":
		return "set " + m.Set
	}
	return ""
}

// MarshalText writes it as a plan has it.
func (m Mark) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads one as a plan has it; "" is none.
func (m *Mark) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*m = Mark{}
		return nil
	}
	*m, err = ParseMark(string(text))
	return err
}

// Fits tells whether an item's marks have it.
func (m Mark) Fits(marks media.Marks) bool {
	switch {
	case m.Captioned:
		return strings.TrimSpace(marks.Caption) != ""
	case m.Rated > 0:
		return marks.Rating >= m.Rated
	case m.Keyword != "":
		return slices.ContainsFunc(marks.Keywords,
			func(k string) bool { return strings.EqualFold(strings.TrimSpace(k), m.Keyword) })
	case m.Marked:
		return marks.Keeper.Marked
	case m.Set != "":
		return slices.Contains(marks.Keeper.Sets, m.Set)
	}
	return false
}

package plan

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yardtide/core/media"
)

// Rendition is the form in which items are sent: reduced to limits of its own. Each may be
// left out.
type Rendition struct {
	LongEdge   int        `json:"long-edge,omitempty"`
	Megapixels Megapixels `json:"megapixels,omitempty"`
	Quality    int        `json:"quality,omitempty"`
	// Height and FPS are of clips.
	Height int   `json:"height,omitempty"`
	FPS    int   `json:"fps,omitempty"`
	Codec  Codec `json:"codec,omitempty"`
	// Bitrate is of clips: it takes the place of what quality would make of them.
	Bitrate Bitrate `json:"bitrate,omitempty"`
	Format  Format  `json:"format,omitempty"`
	Facts   Facts   `json:"facts,omitempty"`
	Colours Colours `json:"colours,omitempty"`
}

// Codec is how a clip is written.
type Codec string

// The codecs a rendition can name.
const (
	H264 Codec = "h264"
	H265 Codec = "h265"
)

// Megapixels is a number of millions of pixels.
type Megapixels float64

// Format is what a picture becomes.
type Format string

// The formats a rendition can name.
const (
	KeepFormat Format = "keep"
	JPEG       Format = "jpeg"
	Both       Format = "both" // HEIC goes as shot, and a JPEG beside
)

// Facts is what of a file's facts goes with it.
type Facts string

// What a rendition can say of facts.
const (
	AllFacts Facts = "all"
	NoPlace  Facts = "no place"  // all but where it was taken
	TimeOnly Facts = "time only" // none but when it was taken, and what its colours mean
)

// Colours is what becomes of a picture's colours.
type Colours string

// What a rendition can say of colours.
const (
	KeepColours Colours = "keep"
	SRGB        Colours = "srgb"
)

// Bitrate is bits in a second.
type Bitrate int64

var BitrateForm = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) ?(k|M)bit/s$`)

const leastBitrate, mostBitrate = 100_000, 200_000_000

// ParseBitrate reads one: "4 Mbit/s", "800 kbit/s".
func ParseBitrate(s string) (Bitrate, error) {
	m := BitrateForm.FindStringSubmatch(s)
	if m == nil {
		return 0, wrong("would be such as 4 Mbit/s or 800 kbit/s", "%q is no number of bits a second", s)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if n *= map[string]float64{"k": 1e3, "M": 1e6}[m[2]]; err != nil || n < leastBitrate || n > mostBitrate {
		return 0, wrong("would be from 100 kbit/s to 200 Mbit/s", "%q is out of reach", s)
	}
	return Bitrate(n), nil
}

// String writes it as a plan has it, "" for none.
func (b Bitrate) String() string {
	switch {
	case b == 0:
		return ""
	case b < 1_000_000:
		return strconv.FormatFloat(float64(b)/1e3, 'f', -1, 64) + " kbit/s"
	}
	return strconv.FormatFloat(float64(b)/1e6, 'f', -1, 64) + " Mbit/s"
}

// MarshalText writes it as a plan has it.
func (b Bitrate) MarshalText() ([]byte, error) { return []byte(b.String()), nil }

// UnmarshalText reads one as a plan has it; "" is none.
func (b *Bitrate) UnmarshalText(text []byte) (err error) {
	if *b = 0; len(text) > 0 {
		*b, err = ParseBitrate(string(text))
	}
	return err
}

// DefaultQuality is used by a rendition that names none.
const DefaultQuality = 82

// AsShot is what a plan calls the form in which nothing is changed.
const AsShot = "as shot"

// Reducible are the kinds that a rule may send in another form than as shot.
var Reducible = []media.Kind{media.Photo, media.Graphic, media.Video}

// Limits tells whether a rendition says anything of a kind.
func (r Rendition) Limits(k media.Kind) bool {
	if k == media.Video {
		return r.Height > 0 || r.FPS > 0 || r.Bitrate > 0 || r.Facts != ""
	}
	return r.LongEdge > 0 || r.Megapixels > 0 || r.Format != "" || r.Facts != "" || r.Colours != ""
}

// ClipSize is how large a clip of w by h pixels becomes: as it is, where its shorter edge is
// within the limit; else of the same shape, with even edges, as codecs want them.
func (r Rendition) ClipSize(w, h int) (int, int) {
	short := min(w, h)
	if r.Height == 0 || short <= r.Height {
		return w, h
	}
	even := func(n int) int { return max(2, int(math.Round(float64(n)*float64(r.Height)/float64(short)/2))*2) }
	return even(w), even(h)
}

// String tells what it asks for: "at most 2560 px, quality 82". Two that ask for the same
// are told alike.
func (r Rendition) String() string {
	var said []string
	if r.LongEdge > 0 {
		said = append(said, fmt.Sprintf("at most %d px", r.LongEdge))
	}
	if r.Megapixels > 0 {
		said = append(said, fmt.Sprintf("at most %s megapixels", r.Megapixels))
	}
	if r.Height > 0 {
		said = append(said, fmt.Sprintf("clips at most %d lines", r.Height))
	}
	if r.FPS > 0 {
		said = append(said, fmt.Sprintf("clips at most %d pictures a second", r.FPS))
	}
	if r.Codec == H265 {
		said = append(said, "clips as H.265")
	}
	if r.Bitrate > 0 {
		said = append(said, "clips at most "+r.Bitrate.String())
	}
	switch r.Format {
	case JPEG:
		said = append(said, "as JPEG")
	case Both:
		said = append(said, "HEIC as shot and as JPEG")
	}
	switch r.Facts {
	case NoPlace:
		said = append(said, "without the place")
	case TimeOnly:
		said = append(said, "with nothing told but the time")
	}
	if r.Colours == SRGB {
		said = append(said, "in sRGB")
	}
	return strings.Join(append(said, fmt.Sprintf("quality %d", r.QualityOrDefault())), ", ")
}

// String writes it as a plan has it.
func (m Megapixels) String() string { return strconv.FormatFloat(float64(m), 'f', -1, 64) }

// QualityOrDefault is how much of the detail a JPEG keeps.
func (r Rendition) QualityOrDefault() int {
	if r.Quality == 0 {
		return DefaultQuality
	}
	return r.Quality
}

// InForm tells in which form something goes, as a plan and a sentence have it: "as shot", "as family".
func InForm(form string) string {
	if form == AsShot {
		return form
	}
	return "as " + form
}

// Places are a rule's destinations as a plan has them, each with the form of its own: "locker as family".
func (r Rule) Places() []string {
	said := slices.Clone(r.To)
	for i, to := range said {
		if form := r.As[to]; form != "" {
			said[i] += " " + InForm(form)
		}
	}
	return said
}

// sent is the rendition in which a rule sends a kind to a destination, "" for as shot.
func (p *Plan) sent(rule string, kind media.Kind, destination string) string {
	r := p.Rules[rule]
	switch own := r.As[destination]; {
	case own == AsShot:
		return ""
	case own != "" && slices.Contains(Reducible, kind) && p.Renditions[own].Limits(kind):
		return own
	}
	return r.Send[kind]
}

// Form is the rendition in which a rule sends a kind to a shelf of a destination; made is false for
// what goes as shot.
func (p *Plan) Form(rule string, kind media.Kind, destination string, on Shelf) (r Rendition, made bool) {
	name := p.sent(rule, kind, destination)
	switch {
	case on == Small:
		name = p.Rules[rule].Quick()
	case on == Preview:
		name = p.Rules[rule].Previews
	}
	if name == "" {
		return r, false
	}
	r, made = p.Renditions[name]
	if on == Beside {
		r.Format = JPEG
	}
	if r.Facts != TimeOnly { // what the copy itself does not tell, nothing beside it tells
		if own := p.Renditions[p.sent(rule, kind, destination)]; own.Facts != "" {
			r.Facts = own.Facts
		}
	}
	return r, made
}

// Withholds are the kinds of which a rule does not tell everything at each of its destinations.
func (p *Plan) Withholds(rule string) (kinds []media.Kind) {
	for _, k := range Reducible {
		if slices.ContainsFunc(p.Rules[rule].To, func(to string) bool {
			name := p.sent(rule, k, to)
			return name != "" && p.Renditions[name].Facts != ""
		}) {
			kinds = append(kinds, k)
		}
	}
	return kinds
}

// Whole tells whether a rule sends a kind as shot to one of its destinations at least.
func (p *Plan) Whole(rule string, kind media.Kind) bool {
	return slices.ContainsFunc(p.Rules[rule].To, func(to string) bool { return p.sent(rule, kind, to) == "" })
}

// Size is how large a picture of w by h pixels becomes: as large as it is, where it is
// within the limits; else of the same shape, each edge at least one pixel.
func (r Rendition) Size(w, h int) (int, int) {
	scale := 1.0
	if long := max(w, h); r.LongEdge > 0 && long > r.LongEdge {
		scale = float64(r.LongEdge) / float64(long)
	}
	if all := float64(w) * float64(h); r.Megapixels > 0 && all > float64(r.Megapixels)*1e6 {
		scale = min(scale, math.Sqrt(float64(r.Megapixels)*1e6/all))
	}
	if scale >= 1 {
		return w, h
	}
	// Rounded down where a limit is on their product.
	edge := func(n int) int {
		scaled := float64(n) * scale
		if r.LongEdge > 0 && math.Round(scaled) <= float64(r.LongEdge) && r.Megapixels == 0 {
			return max(1, int(math.Round(scaled)))
		}
		return max(1, int(scaled+1e-9))
	}
	return edge(w), edge(h)
}

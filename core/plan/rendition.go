package plan

import (
	"fmt"
	"maps"
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
	LongEdge   int        `json:"long-edge,omitempty" jsonschema:"minimum=16,maximum=65535,description=Pixels of a picture's longer edge\\, at most."`
	Megapixels Megapixels `json:"megapixels,omitempty" jsonschema:"description=Millions of pixels\\, at most."`
	Quality    int        `json:"quality,omitempty" jsonschema:"minimum=30,maximum=100,default=82,description=How much of the detail a JPEG keeps."`
	// Height and FPS are of clips.
	Height int   `json:"height,omitempty" jsonschema:"minimum=144,maximum=4320,description=Of clips: pixels of the shorter edge\\, at most\\, such as 1080 or 720."`
	FPS    int   `json:"fps,omitempty" jsonschema:"minimum=1,maximum=240,description=Of clips: pictures a second\\, at most."`
	Codec  Codec `json:"codec,omitempty" jsonschema:"enum=h264,enum=h265,default=h264,description=Of clips: how they are written. h265 takes fewer bytes\\, more time\\, and is not shown everywhere."`
	// Bitrate is of clips: it takes the place of what quality would make of them.
	Bitrate Bitrate `json:"bitrate,omitempty" jsonschema:"description=Of clips: how much a second of them may take."`
	Format  Format  `json:"format,omitempty" jsonschema:"enum=keep,enum=jpeg,enum=both,default=keep,description=jpeg: pictures of other formats become JPEG\\, unless something in them is transparent. both: HEIC goes as shot\\, and a JPEG of it beside."`
	Facts   Facts   `json:"facts,omitempty" jsonschema:"enum=all,enum=no place,enum=time only,default=all,description=no place: where it was taken is left out. time only: everything but when it was taken and its colours."`
	Colours Colours `json:"colours,omitempty" jsonschema:"enum=keep,enum=srgb,default=keep,description=srgb: colours of other profiles are converted to those that every screen shows."`
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

var bitrateForm = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) ?(k|M)bit/s$`)

const leastBitrate, mostBitrate = 100_000, 200_000_000

// ParseBitrate reads one: "4 Mbit/s", "800 kbit/s".
func ParseBitrate(s string) (Bitrate, error) {
	m := bitrateForm.FindStringSubmatch(s)
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

const (
	leastEdge                       = 16
	leastQuality                    = 30
	leastMegapixels, mostMegapixels = 0.01, 1000
	leastHeight, mostHeight         = 144, 4320
	mostFPS                         = 240
)

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

// Check tells what is wrong with a rendition that was not read from a plan.
func (r Rendition) Check() error {
	switch {
	case r.Height != 0 && (r.Height < leastHeight || r.Height > mostHeight):
		return EditError{fmt.Sprintf("height would be a number from %d to %d", leastHeight, mostHeight)}
	case r.FPS < 0 || r.FPS > mostFPS:
		return EditError{fmt.Sprintf("fps would be a number from 1 to %d", mostFPS)}
	case r.Codec != "" && r.Codec != H264 && r.Codec != H265:
		return EditError{"codec would be h264 or h265"}
	case r.LongEdge != 0 && (r.LongEdge < leastEdge || r.LongEdge > 65535):
		return EditError{fmt.Sprintf("long-edge would be a number from %d to 65535", leastEdge)}
	case r.Megapixels != 0 && !(r.Megapixels >= leastMegapixels && r.Megapixels <= mostMegapixels):
		return EditError{"megapixels would be a number such as 3 or 0.5, from 0.01 to 1000"}
	case r.Quality != 0 && (r.Quality < leastQuality || r.Quality > 100):
		return EditError{fmt.Sprintf("quality would be a number from %d to 100", leastQuality)}
	case r.Bitrate != 0 && (r.Bitrate < leastBitrate || r.Bitrate > mostBitrate):
		return EditError{"bitrate would be such as 4 Mbit/s, from 100 kbit/s to 200 Mbit/s"}
	case r.Format != "" && r.Format != JPEG && r.Format != Both:
		return EditError{"format would be jpeg or both"}
	case r.Facts != "" && r.Facts != NoPlace && r.Facts != TimeOnly:
		return EditError{"facts would be no place or time only"}
	case r.Colours != "" && r.Colours != SRGB:
		return EditError{"colours would be srgb"}
	case !r.Limits(media.Photo) && !r.Limits(media.Video):
		return EditError{"a rendition has a limit: long-edge or megapixels for pictures, height or fps for clips"}
	}
	return nil
}

// written is a rendition as a plan has it, on one line.
func (r Rendition) written() string {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	megapixels := ""
	if r.Megapixels > 0 {
		megapixels = r.Megapixels.String()
	}
	return flowMap([][2]string{{"long-edge", number(r.LongEdge)}, {"megapixels", megapixels}, {"height", number(r.Height)}, {"fps", number(r.FPS)}, {"codec", string(r.Codec)}, {"bitrate", r.Bitrate.String()}, {"quality", number(r.Quality)}, {"format", string(r.Format)}, {"facts", string(r.Facts)}, {"colours", string(r.Colours)}})
}

func writtenSend(send map[media.Kind]string) string {
	var fields [][2]string
	for _, k := range slices.Sorted(maps.Keys(send)) {
		fields = append(fields, [2]string{string(k), quoted(send[k])})
	}
	return flowMap(fields)
}

// sendOf is in which form kinds go after a change, of those that a rule takes; nil for all
// as shot.
func sendOf(had, change map[media.Kind]string, take []media.Kind) map[media.Kind]string {
	of := map[media.Kind]string{}
	maps.Copy(of, had)
	maps.Copy(of, change)
	maps.DeleteFunc(of, func(k media.Kind, name string) bool { return !slices.Contains(take, k) || name == "" || name == AsShot })
	if len(of) == 0 {
		return nil
	}
	return of
}

// WithRendition puts a rendition into a plan's text, in the place of one of its name; the
// rest stays byte for byte. The error is an EditError, or Problems where the plan would
// have mistakes.
func WithRendition(text, name string, r Rendition) (string, error) {
	want, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	if !IsName(name) {
		return "", EditError{fmt.Sprintf("%q cannot be the name of a rendition; it would be letters, digits, dots and dashes, at most 63", name)}
	}
	if err := r.Check(); err != nil {
		return "", err
	}
	if want.Renditions[name] == r {
		return text, nil
	}
	after, err := setValue(text, []string{"renditions", name}, r.written())
	if err != nil {
		return "", err
	}
	all := maps.Clone(want.Renditions)
	if all == nil {
		all = map[string]Rendition{}
	}
	all[name] = r
	want.Renditions = all
	return after, agrees(after, want, errByHand)
}

// WithoutRendition takes out a rendition that no rule uses.
func WithoutRendition(text, name string) (string, error) {
	want, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	if _, there := want.Renditions[name]; !there {
		return "", EditError{fmt.Sprintf("the plan has no rendition %q", name)}
	}
	for _, rule := range keys(want.Rules) {
		if want.Rules[rule].Uses(name) {
			return "", EditError{fmt.Sprintf("the rule %s sends as %s", rule, name)}
		}
	}
	path := []string{"renditions", name}
	if len(want.Renditions) == 1 {
		path, want.Renditions = path[:1], nil
	} else {
		want.Renditions = maps.Clone(want.Renditions)
		delete(want.Renditions, name)
	}
	after, err := setValue(text, path, "")
	if err != nil {
		return "", err
	}
	return after, agrees(after, want, errByHand)
}

// Form is the rendition in which a rule sends a kind to a shelf; made is false for what goes
// as shot.
func (p *Plan) Form(rule string, kind media.Kind, on Shelf) (r Rendition, made bool) {
	name := p.Rules[rule].Send[kind]
	switch {
	case on == Small:
		name = p.Rules[rule].quick()
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
		if own := p.Renditions[p.Rules[rule].Send[kind]]; own.Facts != "" {
			r.Facts = own.Facts
		}
	}
	return r, made
}

// Withholds are the kinds of which a rule does not tell everything.
func (p *Plan) Withholds(rule string) (kinds []media.Kind) {
	for _, k := range Reducible {
		if name := p.Rules[rule].Send[k]; name != "" && p.Renditions[name].Facts != "" {
			kinds = append(kinds, k)
		}
	}
	return kinds
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

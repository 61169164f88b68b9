// Package probe reads what a media file is and when it was taken, from its
// content and its header only: never from its name, and never more than a few
// pages of it.
package probe

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bep/imagemeta"
	"github.com/gabriel-vasile/mimetype"

	"yardtide/core/media"
	"yardtide/engine/scan"
)

// File is what probe needs of an open file.
type File interface {
	io.ReadSeeker
	io.ReaderAt
}

// Read tells the facts of a file of a size. modified is used when the header
// has no time; zone is assumed for header times without one. Damaged headers are
// not errors: the facts say where the time came from. The error is one of reading.
func Read(f File, size int64, modified time.Time, zone *time.Location) (facts media.Facts, err error) {
	head := make([]byte, min(size, 4096))
	if _, err := f.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return media.Facts{}, fmt.Errorf("reading the first bytes: %w", err)
	}
	facts.ContentType = contentType(head)
	facts.Kind = media.KindOf(facts.ContentType, false)
	taken := taken{}
	switch {
	case facts.Kind == media.Photo || facts.Kind == media.Graphic || facts.Kind == media.Raw:
		var h header
		if h, err = exifHeader(f, facts.ContentType); h.raw {
			facts.ContentType = "image/x-raw"
		}
		taken, facts.Camera, facts.Kind = h.taken, h.model, media.KindOf(facts.ContentType, h.camera)
	case facts.ContentType == "video/mp4" || facts.ContentType == "video/quicktime" || facts.ContentType == "video/3gpp":
		taken, facts.Seconds, facts.Pair, err = movieTime(f, size)
	}
	if err == nil && (facts.ContentType == "image/jpeg" || facts.ContentType == "image/heic") {
		facts.Pair, err = stillPair(f, size)
	}
	if err != nil {
		return media.Facts{}, fmt.Errorf("reading the header: %w", err)
	}
	facts.TakenAt, facts.TakenFrom = taken.resolve(zone)
	if facts.TakenAt.IsZero() {
		facts.TakenAt, facts.TakenFrom = modified.In(zone), media.FromFile
	}
	return facts, nil
}

// Sniff is the kind of a file by its first bytes alone, "" where it cannot be read: enough to tell a picture from what
// is none.
func Sniff(path string) media.Kind {
	f, err := scan.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return ""
	}
	return media.KindOf(contentType(head[:n]), false)
}

// own are types that the library does not know or takes for another, by their
// first bytes (raw files are TIFF or ISO media inside).
var own = []struct {
	at          int
	magic       string
	contentType string
}{
	{4, "ftypcrx ", "image/x-canon-cr3"},
	{8, "CR\x02\x00", "image/x-canon-cr2"},
	{0, "FUJIFILMCCD-RAW", "image/x-fuji-raf"},
	{0, "IIRO", "image/x-olympus-orf"},
	{0, "IIU\x00", "image/x-panasonic-rw2"},
}

func contentType(head []byte) string {
	for _, o := range own {
		if len(head) >= o.at+len(o.magic) && string(head[o.at:o.at+len(o.magic)]) == o.magic {
			return o.contentType
		}
	}
	if transportStream(head, 0, 188) || transportStream(head, 4, 192) {
		return "video/mp2t"
	}
	base, _, _ := strings.Cut(mimetype.Detect(head).String(), ";")
	return base
}

// transportStream looks for the sync byte of MPEG transport packets (ISO/IEC
// 13818-1, 2.4.3.2) at four steps.
func transportStream(head []byte, at, step int) bool {
	for n := range 4 {
		if i := at + n*step; i >= len(head) || head[i] != 0x47 {
			return false
		}
	}
	return true
}

// taken is a time as headers have it: a wall clock that may lack its zone.
type taken struct {
	wall   time.Time // in UTC, or in the zone when zoned
	zoned  bool
	offset string // EXIF "+01:00" beside the wall clock
}

func (t taken) resolve(zone *time.Location) (time.Time, media.TimeFrom) {
	if t.wall.IsZero() {
		return time.Time{}, ""
	}
	if t.zoned {
		return t.wall, media.FromHeader
	}
	if off, err := time.Parse("-07:00", t.offset); err == nil {
		_, seconds := off.Zone()
		return inZone(t.wall, time.FixedZone("", seconds)), media.FromHeader
	}
	return inZone(t.wall, zone), media.FromHeaderNZ
}

func inZone(wall time.Time, zone *time.Location) time.Time {
	y, m, d := wall.Date()
	return time.Date(y, m, d, wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), zone)
}

var exifFormats = map[string]imagemeta.ImageFormat{
	"image/jpeg": imagemeta.JPEG,
	"image/png":  imagemeta.PNG,
	"image/webp": imagemeta.WebP,
	"image/tiff": imagemeta.TIFF,

	"image/x-canon-cr2": imagemeta.TIFF,
	"image/heic":        imagemeta.HEIF,
	"image/heif":        imagemeta.HEIF,
	"image/avif":        imagemeta.AVIF,
}

// header is what a picture's header tells of how it came about.
type header struct {
	taken  taken
	camera bool // it has facts that only a camera writes
	model  string
	raw    bool // a TIFF that holds what the sensor saw
}

// cameraTags are written by cameras, and by no program that draws.
var cameraTags = []string{"Make", "Model", "DateTimeOriginal"}

// exifHeader reads DateTimeOriginal with its offset and sub-seconds, or DateTime
// (EXIF 2.32, 4.6.5), and what tells a camera's picture and a raw file. A header that
// cannot be read tells nothing.
func exifHeader(f File, contentType string) (h header, err error) {
	found, err := exif(f, contentType, append([]string{"OffsetTimeOriginal", "SubSecTimeOriginal", "DateTime",
		"OffsetTime", "ModifyDate", "DNGVersion", "SubfileType", "PhotometricInterpretation"}, cameraTags...)...)
	if err != nil {
		return header{}, err
	}
	tags := map[string]string{}
	for name, v := range found {
		if s, ok := v.(string); ok {
			tags[name] = strings.TrimSpace(strings.Trim(s, "\x00"))
		}
	}
	h.camera = slices.ContainsFunc(cameraTags, func(name string) bool { return tags[name] != "" })
	h.model = strings.ToValidUTF8(tags["Model"], "")
	h.raw = contentType == "image/tiff" && isRaw(found)
	for _, field := range []struct{ time, offset string }{{"DateTimeOriginal", "OffsetTimeOriginal"},
		{"DateTime", "OffsetTime"}, {"ModifyDate", "OffsetTime"}} {
		wall, err := time.Parse("2006:01:02 15:04:05", tags[field.time])
		if err != nil || wall.Year() < 1900 { // cameras without a clock write zeros
			continue
		}
		if sub := tags["SubSecTimeOriginal"]; sub != "" && field.time == "DateTimeOriginal" {
			if part, err := time.ParseDuration("0." + sub + "s"); err == nil {
				wall = wall.Add(part)
			}
		}
		h.taken = taken{wall: wall, offset: tags[field.offset]}
		break
	}
	return h, nil
}

// isRaw tells a raw file by the first folder of its TIFF header: a DNG says so
// (DNG 1.7, tag 0xC612); of others that a camera wrote it is only a preview (TIFF 6.0,
// NewSubfileType, bit 0), or the sensor's own mosaic (TIFF/EP, photometric 32803).
func isRaw(tags map[string]any) bool {
	if _, dng := tags["DNGVersion"]; dng {
		return true
	}
	_, made := tags["Make"]
	sub, _ := number(tags["SubfileType"])
	colours, _ := number(tags["PhotometricInterpretation"])
	return made && (sub&1 == 1 || colours == 32803)
}

// exif reads some tags of a header, the first of each name. One that cannot be read
// has none; the error is one of reading the file.
func exif(f File, contentType string, names ...string) (map[string]any, error) {
	format, known := exifFormats[contentType]
	if !known {
		return nil, nil
	}
	tags := map[string]any{}
	file := &pages{f: f}
	defer file.letGo()
	err := decode(imagemeta.Options{
		R:               file,
		ImageFormat:     format,
		Sources:         imagemeta.EXIF,
		ShouldHandleTag: func(tag imagemeta.TagInfo) bool { return slices.Contains(names, tag.Tag) },
		HandleTag: func(tag imagemeta.TagInfo) error {
			if _, had := tags[tag.Tag]; !had {
				tags[tag.Tag] = tag.Value
			}
			return nil
		},
	})
	var read readError
	if errors.As(err, &read) {
		return nil, read.err
	}
	return tags, nil
}

// View is how a picture's file wants to be seen.
type View struct {
	// Orientation is how its pixels are turned, 1 to 8 (EXIF 2.32, 4.6.4, tag
	// 0x0112); 1 where the header has none.
	Orientation int
	// Preview is the small JPEG that the camera put into the header, nil without one.
	Preview []byte
}

// mostPreview is more than a camera's preview can take: it lies in one segment of
// the header.
const mostPreview = 64 << 10

// ReadView reads how a picture wants to be seen.
func ReadView(f File, contentType string) (View, error) {
	tags, err := exif(f, contentType, "Orientation", "ThumbnailOffset", "ThumbnailLength")
	v := View{Orientation: 1}
	if n, ok := number(tags["Orientation"]); ok && n >= 1 && n <= 8 {
		v.Orientation = n
	}
	at, hasAt := number(tags["ThumbnailOffset"])
	length, hasLength := number(tags["ThumbnailLength"])
	if err != nil || contentType != "image/jpeg" || !hasAt || !hasLength {
		return v, err
	}
	if at <= 0 || length <= 0 || length > mostPreview {
		return v, nil
	}
	preview := make([]byte, length)
	switch _, err := f.ReadAt(preview, int64(at)); {
	case errors.Is(err, io.EOF): // it points behind the end
	case err != nil:
		return v, fmt.Errorf("reading the camera's preview: %w", err)
	default:
		v.Preview = preview
	}
	return v, nil
}

// number is a tag's value as a number.
func number(v any) (int, bool) {
	switch n := v.(type) {
	case uint16:
		return int(n), true
	case uint32:
		return int(min(n, 1<<30)), true
	case int:
		return n, true
	}
	return 0, false
}

// decode calls the library and turns a panic on a damaged header into an
// error: data from outside must not end the process.
func decode(o imagemeta.Options) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the header made the reader panic: %v", p)
		}
	}()
	_, err = imagemeta.Decode(o)
	return err
}

// readError tells an error of the disk from a damaged header.
type readError struct{ err error }

func (e readError) Error() string { return e.err.Error() }

// pages puts a buffer under the library's many small seeks.
type pages struct {
	f   File
	at  int64
	buf *bufio.Reader // nil when it does not stand where the next byte is read
	own *bufio.Reader
}

// buffers are used again: a folder of many files would make one for each.
var buffers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 8<<10) }}

// letGo gives the buffer back.
func (p *pages) letGo() {
	if p.own != nil {
		p.own.Reset(nil)
		buffers.Put(p.own)
		p.buf, p.own = nil, nil
	}
}

func (p *pages) Read(b []byte) (int, error) {
	if p.buf == nil {
		if _, err := p.f.Seek(p.at, io.SeekStart); err != nil {
			return 0, readError{err}
		}
		if p.own == nil {
			p.own = buffers.Get().(*bufio.Reader)
		}
		p.own.Reset(p.f)
		p.buf = p.own
	}
	n, err := p.buf.Read(b)
	p.at += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		err = readError{err}
	}
	return n, err
}

func (p *pages) Seek(offset int64, whence int) (int64, error) {
	to := offset
	switch whence {
	case io.SeekCurrent:
		to += p.at
	case io.SeekEnd:
		end, err := p.f.Seek(0, io.SeekEnd)
		if err != nil {
			return 0, readError{err}
		}
		to += end
		p.buf = nil
	}
	if to < 0 {
		return 0, errors.New("a header points before the start of the file")
	}
	if skip := to - p.at; p.buf != nil && skip >= 0 && skip <= int64(p.buf.Buffered()) {
		if _, err := p.buf.Discard(int(skip)); err != nil {
			return 0, readError{err}
		}
	} else {
		p.buf = nil
	}
	p.at = to
	return to, nil
}

// Package probe reads what a media file is and when it was taken, from its
// content and its header only: never from its name, and never more than a few
// pages of it.
package probe

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/bep/imagemeta"
	"github.com/gabriel-vasile/mimetype"

	"yardtide/core/media"
)

// File is what probe needs of an open file.
type File interface {
	io.ReadSeeker
	io.ReaderAt
}

// Read tells the facts of a file of a size. modified is used when the header
// has no time; zone is assumed for header times without one. ok is false for
// what is not media. Damaged headers are not errors: the facts say where the
// time came from. The error is one of reading.
func Read(f File, size int64, modified time.Time, zone *time.Location) (facts media.Facts, ok bool, err error) {
	head := make([]byte, min(size, 4096))
	if _, err := f.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return media.Facts{}, false, fmt.Errorf("reading the first bytes: %w", err)
	}
	facts.ContentType = contentType(head)
	if facts.Kind, ok = media.KindOf(facts.ContentType); !ok {
		return facts, false, nil
	}
	taken := taken{}
	switch {
	case facts.Kind == media.Photo:
		taken, err = exifTime(f, facts.ContentType)
	case facts.ContentType == "video/mp4" || facts.ContentType == "video/quicktime" || facts.ContentType == "video/3gpp":
		taken, err = movieTime(f, size)
	}
	if err != nil {
		return media.Facts{}, false, fmt.Errorf("reading the header: %w", err)
	}
	facts.TakenAt, facts.TakenFrom = taken.resolve(zone)
	if facts.TakenAt.IsZero() {
		facts.TakenAt, facts.TakenFrom = modified.In(zone), media.FromFile
	}
	return facts, true, nil
}

// own are types that the library does not know or takes for another, by their
// first bytes (raw files are TIFF or ISO media inside).
var own = []struct {
	at          int
	magic       string
	contentType string
}{
	{4, "ftypcrx ", "image/x-canon-cr3"},
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
	"image/heic": imagemeta.HEIF,
	"image/heif": imagemeta.HEIF,
	"image/avif": imagemeta.AVIF,
}

// exifTime reads DateTimeOriginal with its offset and sub-seconds, or
// DateTime (EXIF 2.32, 4.6.5). A header that cannot be read has no time.
func exifTime(f File, contentType string) (t taken, err error) {
	format, known := exifFormats[contentType]
	if !known {
		return taken{}, nil
	}
	tags := map[string]string{}
	err = decode(imagemeta.Options{
		R:           &pages{f: f},
		ImageFormat: format,
		Sources:     imagemeta.EXIF,
		ShouldHandleTag: func(tag imagemeta.TagInfo) bool {
			switch tag.Tag {
			case "DateTimeOriginal", "OffsetTimeOriginal", "SubSecTimeOriginal", "DateTime", "OffsetTime", "ModifyDate":
				return true
			}
			return false
		},
		HandleTag: func(tag imagemeta.TagInfo) error {
			if s, ok := tag.Value.(string); ok && tags[tag.Tag] == "" {
				tags[tag.Tag] = strings.TrimSpace(strings.Trim(s, "\x00"))
			}
			return nil
		},
	})
	var read readError
	if errors.As(err, &read) {
		return taken{}, read.err
	}
	for _, field := range []struct{ time, offset string }{{"DateTimeOriginal", "OffsetTimeOriginal"}, {"DateTime", "OffsetTime"}, {"ModifyDate", "OffsetTime"}} {
		wall, err := time.Parse("2006:01:02 15:04:05", tags[field.time])
		if err != nil || wall.Year() < 1900 { // cameras without a clock write zeros
			continue
		}
		if sub := tags["SubSecTimeOriginal"]; sub != "" && field.time == "DateTimeOriginal" {
			if part, err := time.ParseDuration("0." + sub + "s"); err == nil {
				wall = wall.Add(part)
			}
		}
		return taken{wall: wall, offset: tags[field.offset]}, nil
	}
	return taken{}, nil
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
	buf *bufio.Reader
}

func (p *pages) Read(b []byte) (int, error) {
	if p.buf == nil {
		if _, err := p.f.Seek(p.at, io.SeekStart); err != nil {
			return 0, readError{err}
		}
		p.buf = bufio.NewReaderSize(p.f, 8<<10)
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

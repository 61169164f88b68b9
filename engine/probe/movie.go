package probe

import (
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"time"
)

// This file reads the capture time from MP4 and QuickTime headers: boxes of
// ISO/IEC 14496-12 and the metadata list of the QuickTime file format. The
// QuickTime creation date key is preferred, as it has a zone; mvhd is UTC.

const (
	maxBoxes = 4096      // a file with more is damaged
	maxMeta  = 256 << 10 // bytes of metadata that are looked at
)

// mp4Epoch is 1904-01-01 (ISO/IEC 14496-12, 8.2.2.3).
var mp4Epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)

type box struct{ from, to int64 } // of the payload

// movieTime reads the time of a movie and how many seconds it lasts; zero when the
// header has none or is damaged or cut short. The error is one of reading.
func movieTime(f io.ReaderAt, size int64) (t taken, lasts int64, pair string, err error) {
	moov, ok, err := find(f, 0, size, "moov")
	if err != nil || !ok {
		return taken{}, 0, "", err
	}
	if t, lasts, err = movieHeader(f, moov); err != nil {
		return taken{}, 0, "", err
	}
	date, pair, err := keyed(f, moov)
	if err != nil {
		return taken{}, 0, "", err
	}
	if at := keyedDate(date); !at.wall.IsZero() {
		t = at
	}
	return t, lasts, pair, nil
}

// movieHeader reads when a movie was made and how many seconds it lasts (ISO/IEC
// 14496-12, 8.2.2).
func movieHeader(f io.ReaderAt, moov box) (t taken, lasts int64, err error) {
	mvhd, ok, err := find(f, moov.from, moov.to, "mvhd")
	if err != nil || !ok {
		return taken{}, 0, err
	}
	head, err := bytesAt(f, mvhd.from, min(mvhd.to, mvhd.from+32))
	if err != nil || len(head) < 12 {
		return taken{}, 0, err
	}
	made, scale, length := uint64(binary.BigEndian.Uint32(head[4:])), uint64(0), uint64(0)
	switch {
	case head[0] == 1:
		made = binary.BigEndian.Uint64(head[4:])
		if len(head) == 32 {
			scale, length = uint64(binary.BigEndian.Uint32(head[20:])), binary.BigEndian.Uint64(head[24:])
		}
	case len(head) >= 20:
		scale, length = uint64(binary.BigEndian.Uint32(head[12:])), uint64(binary.BigEndian.Uint32(head[16:]))
	}
	if scale > 0 && length/scale < mostSeconds { // all ones stands for unknown
		lasts = int64(length / scale)
	}
	if made == 0 || made > 1<<34 {
		return taken{}, lasts, nil
	}
	wall := mp4Epoch.Add(time.Duration(made) * time.Second)
	if wall.Year() < 1971 { // written by software that took 1970 for the epoch, or a clock never set
		return taken{}, lasts, nil
	}
	return taken{wall: wall, zoned: true}, lasts, nil
}

// mostSeconds is longer than any clip lasts: a month.
const mostSeconds = 31 * 24 * 3600

// The names of the metadata that are read.
const (
	keyDate = "com.apple.quicktime.creationdate"
	keyPair = "com.apple.quicktime.content.identifier" // also in the still of a clip
)

// mostPair is more than such an identifier takes.
const mostPair = 128

// keyed reads two texts from moov/meta (or moov/udta/meta): "keys" lists names, "ilst"
// holds values by their number.
func keyed(f io.ReaderAt, moov box) (date, pair string, err error) {
	meta, ok, err := find(f, moov.from, moov.to, "meta")
	if err == nil && !ok {
		var udta box
		if udta, ok, err = find(f, moov.from, moov.to, "udta"); err == nil && ok {
			meta, ok, err = find(f, udta.from, udta.to, "meta")
		}
	}
	if err != nil || !ok || meta.to-meta.from > maxMeta {
		return "", "", err
	}
	// A QuickTime meta is a plain box; an ISO one begins with version and flags.
	if _, plain, err := find(f, meta.from, meta.to, "hdlr"); err != nil {
		return "", "", err
	} else if !plain {
		meta.from += 4
	}
	keys, ok, err := find(f, meta.from, meta.to, "keys")
	if err != nil || !ok {
		return "", "", err
	}
	list, err := bytesAt(f, keys.from, keys.to)
	if err != nil {
		return "", "", err
	}
	ilst, ok, err := find(f, meta.from, meta.to, "ilst")
	if err != nil || !ok {
		return "", "", err
	}
	for at, n := 8, 1; at+8 <= len(list); n++ {
		size := int(binary.BigEndian.Uint32(list[at:]))
		if size < 8 || at+size > len(list) {
			break
		}
		into := map[string]*string{keyDate: &date, keyPair: &pair}[string(list[at+8:at+size])]
		if at += size; into == nil {
			continue
		}
		if *into, err = value(f, ilst, n); err != nil {
			return "", "", err
		}
	}
	if len(pair) > mostPair {
		pair = ""
	}
	return date, pair, nil
}

// value is the text of a number in a list of metadata.
func value(f io.ReaderAt, ilst box, number int) (string, error) {
	var id [4]byte
	binary.BigEndian.PutUint32(id[:], uint32(number))
	entry, ok, err := find(f, ilst.from, ilst.to, string(id[:]))
	if err != nil || !ok {
		return "", err
	}
	data, ok, err := find(f, entry.from, entry.to, "data")
	if err != nil || !ok || data.to-data.from < 8 {
		return "", err
	}
	text, err := bytesAt(f, data.from+8, data.to)
	return strings.TrimSpace(string(text)), err
}

func keyedDate(text string) taken {
	for _, form := range []string{"2006-01-02T15:04:05-0700", time.RFC3339} {
		if wall, err := time.Parse(form, text); err == nil {
			return taken{wall: wall, zoned: true}
		}
	}
	return taken{}
}

// find looks for a box between two offsets, one level deep.
func find(f io.ReaderAt, from, to int64, kind string) (box, bool, error) {
	for n := 0; from+8 <= to && n < maxBoxes; n++ {
		head, err := bytesAt(f, from, min(from+16, to))
		if err != nil || len(head) < 8 {
			return box{}, false, err
		}
		size, payload := int64(binary.BigEndian.Uint32(head)), from+8
		switch size {
		case 0: // to the end
			size = to - from
		case 1: // a 64-bit size follows
			if len(head) < 16 {
				return box{}, false, nil
			}
			size, payload = int64(binary.BigEndian.Uint64(head[8:])), from+16
		}
		if size < payload-from || size > to-from {
			return box{}, false, nil // damaged or cut short
		}
		if string(head[4:8]) == kind {
			return box{payload, from + size}, true, nil
		}
		from += size
	}
	return box{}, false, nil
}

// bytesAt reads a span; less than asked for at the file's end.
func bytesAt(f io.ReaderAt, from, to int64) ([]byte, error) {
	if to <= from || to-from > maxMeta {
		return nil, nil
	}
	b := make([]byte, to-from)
	n, err := f.ReadAt(b, from)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return b[:n], err
}

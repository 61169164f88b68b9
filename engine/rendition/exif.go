package rendition

import (
	"bytes"
	"encoding/binary"
	"regexp"
	"slices"
	"strconv"
)

// exifHead begins a segment with EXIF (EXIF 2.32, 4.7.2).
const exifHead = "Exif\x00\x00"

// facts are what a picture's header tells, to be written into the smaller one.
type facts struct {
	kept        []segment
	orientation int // 1 where it tells none
}

// readFacts takes facts as a header has them. What is damaged is kept as it is.
func readFacts(kept []segment) facts {
	f := facts{kept: kept, orientation: 1}
	for _, s := range kept {
		if tiff, is := exifOf(s); is {
			walk(tiff, func(folder int, e entry) {
				if n, ok := e.number(tiff); folder == 0 && e.tag == tagOrientation && ok && n >= 1 && n <= 8 {
					f.orientation = int(n)
				}
			})
			break
		}
	}
	return f
}

func exifOf(s segment) ([]byte, bool) {
	tiff, is := bytes.CutPrefix(s.content, []byte(exifHead))
	return tiff, is && s.marker == markerAPP1
}

// segments are those of a picture of another size, that stands upright: what a camera wrote
// stays where it is, as maker notes point into it.
func (f facts) segments(was, now Pixels) []segment {
	all := slices.Clone(f.kept)
	if f.orientation >= 5 {
		was.W, was.H = was.H, was.W
	}
	for i, s := range all {
		tiff, is := exifOf(s)
		if packet, isXMP := bytes.CutPrefix(s.content, []byte(xmpHead)); isXMP && s.marker == markerAPP1 {
			all[i].content = append([]byte(xmpHead), resizedXMP(packet, was, now)...)
		}
		if !is {
			continue
		}
		own := slices.Clone(tiff)
		walk(own, func(folder int, e entry) {
			switch {
			case e.tag == tagOrientation:
				e.set(own, 1)
			case e.tag == tagWidth && folder == exifFolder, e.tag == tagImageWidth && folder == 0:
				e.set(own, uint32(now.W))
			case e.tag == tagHeight && folder == exifFolder, e.tag == tagImageHeight && folder == 0:
				e.set(own, uint32(now.H))
			}
		})
		all[i].content = append([]byte(exifHead), withoutPreview(own)...)
	}
	return all
}

// The tags that are read or set (EXIF 2.32, 4.6).
const (
	tagImageWidth  = 0x0100
	tagImageHeight = 0x0101
	tagOrientation = 0x0112
	tagPreviewAt   = 0x0201
	tagPreviewLong = 0x0202
	tagExif        = 0x8769
	tagWidth       = 0xa002
	tagHeight      = 0xa003

	exifFolder = -1 // how walk calls the folder that tagExif points to
)

// entry is one of a TIFF folder (TIFF 6.0, section 2).
type entry struct {
	order binary.ByteOrder
	tag   uint16
	kind  uint16
	count uint32
	value int // where it stands
	start int // where its folder does
}

func (e entry) number(tiff []byte) (uint32, bool) {
	switch {
	case e.count != 1:
		return 0, false
	case e.kind == 3:
		return uint32(e.order.Uint16(tiff[e.value:])), true
	case e.kind == 4:
		return e.order.Uint32(tiff[e.value:]), true
	}
	return 0, false
}

func (e entry) set(tiff []byte, n uint32) {
	switch {
	case e.count != 1:
	case e.kind == 3 && n <= 0xffff:
		e.order.PutUint16(tiff[e.value:], uint16(n))
	case e.kind == 4:
		e.order.PutUint32(tiff[e.value:], n)
	}
}

// mostEntries is more than a folder has.
const mostEntries = 4096

// walk goes through the entries of the folders that matter: the first is 0, that of the
// preview 1, and exifFolder. It returns where the first points to the next, 0 where it has
// no place for that.
func walk(tiff []byte, each func(folder int, e entry)) (nextAt int) {
	if len(tiff) < 8 {
		return 0
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch string(tiff[:2]) {
	case "II":
	case "MM":
		order = binary.BigEndian
	default:
		return 0
	}
	entries := func(at int, folder int) (next int) {
		if at < 8 || at+2 > len(tiff) {
			return 0
		}
		n := int(order.Uint16(tiff[at:]))
		if n > mostEntries || at+2+12*n > len(tiff) {
			return 0
		}
		for k := range n {
			from := at + 2 + 12*k
			each(folder, entry{order, order.Uint16(tiff[from:]), order.Uint16(tiff[from+2:]), order.Uint32(tiff[from+4:]),
				from + 8, at})
		}
		if end := at + 2 + 12*n; end+4 <= len(tiff) {
			return end
		}
		return 0
	}
	first := int(order.Uint32(tiff[4:]))
	exif := 0
	inner := each
	each = func(folder int, e entry) {
		if n, ok := e.number(tiff); folder == 0 && e.tag == tagExif && ok {
			exif = int(n)
		}
		inner(folder, e)
	}
	if nextAt = entries(first, 0); nextAt > 0 {
		if second := int(order.Uint32(tiff[nextAt:])); second != 0 && second != first {
			entries(second, 1)
		}
	}
	if exif != 0 {
		entries(exif, exifFolder)
	}
	return nextAt
}

// withoutPreview takes the camera's small preview out: it shows the larger picture, not yet
// turned. Where it ends the segment, its bytes go, too.
func withoutPreview(tiff []byte) []byte {
	var at, long uint32
	nextAt := walk(tiff, func(folder int, e entry) {
		if n, ok := e.number(tiff); ok && folder == 1 {
			switch e.tag {
			case tagPreviewAt:
				at = n
			case tagPreviewLong:
				long = n
			}
		}
	})
	if nextAt == 0 {
		return tiff
	}
	copy(tiff[nextAt:nextAt+4], []byte{0, 0, 0, 0})
	if end := int64(at) + int64(long); at > 8 && int(at) > nextAt && end >= int64(len(tiff))-4 && end <= int64(len(tiff)) {
		return tiff[:at]
	}
	return tiff
}

// What XMP tells of a picture's turn and size: as attributes and as elements (EXIF 2.32 for XMP;
// Photo Sphere XMP Metadata).
var (
	xmpTurn   = regexp.MustCompile(`(tiff:Orientation\s*(?:=\s*["']|>)\s*)\d+`)
	xmpWidth  = regexp.MustCompile(`((?:GPano:(?:CroppedAreaImageWidthPixels|FullPanoWidthPixels|CroppedAreaLeftPixels)|exif:PixelXDimension|tiff:ImageWidth)\s*(?:=\s*["']|>)\s*)(\d+)`)
	xmpHeight = regexp.MustCompile(`((?:GPano:(?:CroppedAreaImageHeightPixels|FullPanoHeightPixels|CroppedAreaTopPixels)|exif:PixelYDimension|tiff:ImageLength)\s*(?:=\s*["']|>)\s*)(\d+)`)
)

// resizedXMP is XMP of a picture that stands upright now, and has another size.
func resizedXMP(packet []byte, was, now Pixels) []byte {
	scaled := func(by *regexp.Regexp, packet []byte, was, now int) []byte {
		return by.ReplaceAllFunc(packet, func(match []byte) []byte {
			parts := by.FindSubmatch(match)
			n, err := strconv.ParseInt(string(parts[2]), 10, 32)
			if err != nil || was <= 0 {
				return match
			}
			return strconv.AppendInt(bytes.Clone(parts[1]), (n*int64(now)+int64(was)/2)/int64(was), 10)
		})
	}
	packet = xmpTurn.ReplaceAll(packet, []byte("${1}1"))
	return scaled(xmpHeight, scaled(xmpWidth, packet, was.W, now.W), was.H, now.H)
}

package rendition

import (
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"regexp"
	"slices"
	"strings"

	"yardtide/core/plan"
)

// This file leaves out what a rendition says shall not be told: where a picture was taken,
// or everything but when. What cannot be told apart goes whole.

// withheld are facts without those that shall not be told.
func (f facts) withheld(want plan.Facts) facts {
	if want == "" {
		return f
	}
	kept := f.kept
	f.kept = nil
	for _, s := range kept {
		tiff, isExif := exifOf(s)
		switch {
		case s.marker == markerAPP2: // what its colours mean
			f.kept = append(f.kept, s)
		case isExif && want == plan.TimeOnly:
			if own := timeOnly(tiff); own != nil {
				f.kept = append(f.kept, segment{markerAPP1, append([]byte(exifHead), own...)})
			}
		case want == plan.TimeOnly:
		case isExif:
			f.kept = append(f.kept, segment{markerAPP1, append([]byte(exifHead), withoutGPS(tiff)...)})
		case s.marker == markerAPP1 && bytes.HasPrefix(s.content, []byte(xmpHead)):
			if packet := xmpWithoutPlace(s.content[len(xmpHead):]); packet != nil {
				f.kept = append(f.kept, segment{markerAPP1, append([]byte(xmpHead), packet...)})
			}
		case s.marker == markerAPP13:
			if content := captionsWithoutPlace(s.content); content != nil {
				f.kept = append(f.kept, segment{markerAPP13, content})
			}
		case s.marker == markerCOM:
			f.kept = append(f.kept, s)
		}
	}
	return f
}

// xmpHead begins a segment with XMP (ISO 16684-3, 1.1.3).
const xmpHead = "http://ns.adobe.com/xap/1.0/\x00"

const (
	tagGPS      = 0x8825
	tagTime     = 0x9003 // DateTimeOriginal
	tagZone     = 0x9011 // OffsetTimeOriginal
	tagPart     = 0x9291 // SubSecTimeOriginal
	mostTimeTag = 64
)

// withoutGPS is TIFF whose folder of the place is empty, and not pointed to.
func withoutGPS(tiff []byte) []byte {
	own := slices.Clone(tiff)
	var gps, at int
	var order binary.ByteOrder
	walk(own, func(folder int, e entry) {
		if n, ok := e.number(own); folder == 0 && e.tag == tagGPS && ok {
			gps, at, order = int(n), e.value-8, e.order
		}
	})
	if order == nil {
		return own
	}
	zero := func(from, n int) {
		if from >= 0 && n >= 0 && from < len(own) {
			clear(own[from:min(len(own), from+n)])
		}
	}
	if gps >= 8 && gps+2 <= len(own) {
		n := int(order.Uint16(own[gps:]))
		for k := range min(n, mostEntries) {
			from := gps + 2 + 12*k
			if from+12 > len(own) {
				break
			}
			count, each := int64(order.Uint32(own[from+4:])), int64(8)
			if kind := int(order.Uint16(own[from+2:])); kind < len(typeSize) {
				each = typeSize[kind]
			}
			if long := count * each; long > 4 && long <= int64(len(own)) {
				zero(int(order.Uint32(own[from+8:])), int(long))
			}
		}
		zero(gps, 2+12*min(n, mostEntries))
	}
	// The entry goes; those behind it, and where the next folder is, move up.
	first := int(order.Uint32(own[4:]))
	n := int(order.Uint16(own[first:]))
	end := first + 2 + 12*n + 4
	if end > len(own) {
		end = first + 2 + 12*n
	}
	copy(own[at:], own[at+12:end])
	zero(end-12, 12)
	order.PutUint16(own[first:], uint16(n-1))
	return own
}

// typeSize is how many bytes a value of each type takes (TIFF 6.0, section 2).
var typeSize = []int64{1, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8}

// timeOnly is TIFF that tells nothing but when a picture was taken, nil where the other
// does not tell.
func timeOnly(tiff []byte) []byte {
	type tag struct {
		number uint16
		text   []byte
	}
	var tags []tag
	walk(tiff, func(folder int, e entry) {
		if folder != exifFolder || e.kind != 2 || e.count == 0 || e.count > mostTimeTag || e.tag != tagTime && e.tag != tagZone && e.tag != tagPart {
			return
		}
		from := e.value
		if e.count > 4 {
			from = int(e.order.Uint32(tiff[e.value:]))
		}
		if end := from + int(e.count); from >= 0 && end <= len(tiff) {
			tags = append(tags, tag{e.tag, tiff[from:end]})
		}
	})
	if len(tags) == 0 {
		return nil
	}
	slices.SortFunc(tags, func(a, b tag) int { return int(a.number) - int(b.number) })
	b := binary.BigEndian
	out := append([]byte("MM\x00\x2a"), 0, 0, 0, 8)
	out = b.AppendUint16(out, 2) // its entries: turned, and where the rest is
	for _, e := range [][3]uint32{{tagOrientation, 3, 1 << 16}, {tagExif, 4, 38}} {
		out = b.AppendUint16(b.AppendUint16(out, uint16(e[0])), uint16(e[1]))
		out = b.AppendUint32(b.AppendUint32(out, 1), e[2])
	}
	out = b.AppendUint32(out, 0)
	out = b.AppendUint16(out, uint16(len(tags)))
	behind := len(out) + 12*len(tags) + 4
	var texts []byte
	for _, t := range tags {
		out = b.AppendUint16(b.AppendUint16(out, t.number), 2)
		out = b.AppendUint32(out, uint32(len(t.text)))
		if len(t.text) <= 4 {
			out = append(out, append(slices.Clone(t.text), 0, 0, 0, 0)[:4]...)
			continue
		}
		out = b.AppendUint32(out, uint32(behind+len(texts)))
		texts = append(texts, t.text...)
		if len(texts)%2 == 1 {
			texts = append(texts, 0)
		}
	}
	return append(b.AppendUint32(out, 0), texts...)
}

// inPlaces tells whether a name of XMP tells where something is (ISO 16684-2; IPTC Photo
// Metadata 2023, 12 and 13).
func inPlaces(n xml.Name) bool {
	return strings.HasPrefix(n.Local, "GPS") || slices.Contains([]string{"City", "State", "Country", "CountryCode", "Location", "LocationCreated", "LocationShown", "Sublocation", "WorldRegion"}, n.Local)
}

var placeAttribute = regexp.MustCompile(`\s[\w.-]+:(?:GPS\w*|City|State|Country|CountryCode|Location|Sublocation|WorldRegion)\s*=\s*(?:"[^"]*"|'[^']*')`)

// xmpWithoutPlace is a packet of XMP in which nothing tells where something is, of the same
// length; nil where that cannot be seen to be so.
func xmpWithoutPlace(packet []byte) []byte {
	own := slices.Clone(packet)
	blank := func(from, to int64) {
		for i := from; i < to && i < int64(len(own)); i++ {
			own[i] = ' '
		}
	}
	d := xml.NewDecoder(bytes.NewReader(packet))
	depth, hidden := 0, int64(-1)
	for hiddenDepth := 0; ; {
		from := d.InputOffset()
		token, err := d.Token()
		if token == nil || err != nil {
			break
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			if hidden < 0 && inPlaces(t.Name) {
				hidden, hiddenDepth = from, depth
			}
			for _, at := range placeAttribute.FindAllIndex(packet[from:d.InputOffset()], -1) {
				blank(from+int64(at[0]), from+int64(at[1]))
			}
		case xml.EndElement:
			if hidden >= 0 && depth == hiddenDepth {
				blank(hidden, d.InputOffset())
				hidden = -1
			}
			depth--
		}
	}
	if tellsPlace(own) {
		return nil
	}
	return own
}

// tellsPlace tells whether XMP may tell where something is: also where it cannot be read.
func tellsPlace(packet []byte) bool {
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimRight(packet, " \t\r\n\x00")))
	for {
		token, err := d.Token()
		if token == nil {
			return err == nil || err.Error() != "EOF"
		}
		if t, is := token.(xml.StartElement); is {
			if inPlaces(t.Name) || slices.ContainsFunc(t.Attr, func(a xml.Attr) bool { return inPlaces(a.Name) }) {
				return true
			}
		}
	}
}

// photoshopHead begins a segment with captions (Adobe Photoshop File Formats; IIM 4.2 in it).
const photoshopHead = "Photoshop 3.0\x00"

// placeSets are the data sets of IIM's second record that tell where something is.
var placeSets = []byte{26, 27, 90, 92, 95, 100, 101}

// captionsWithoutPlace is a segment of captions without the place; nil where it cannot be
// read. Of its resources the captions alone stay: others may hold what was left out.
func captionsWithoutPlace(content []byte) []byte {
	rest, is := bytes.CutPrefix(content, []byte(photoshopHead))
	if !is {
		return nil
	}
	out := []byte(photoshopHead)
	for len(rest) > 0 {
		if len(rest) < 12 || string(rest[:4]) != "8BIM" {
			return nil
		}
		id, name := binary.BigEndian.Uint16(rest[4:]), int(rest[6])
		head := 6 + (name+2)&^1
		if head+4 > len(rest) {
			return nil
		}
		long := int(binary.BigEndian.Uint32(rest[head:]))
		if long < 0 || head+4+long > len(rest) {
			return nil
		}
		if id == 0x0404 {
			sets, ok := withoutSets(rest[head+4 : head+4+long])
			if !ok {
				return nil
			}
			out = append(out, rest[:head]...)
			out = append(binary.BigEndian.AppendUint32(out, uint32(len(sets))), sets...)
			if len(sets)%2 == 1 {
				out = append(out, 0)
			}
		}
		rest = rest[min(len(rest), (head+4+long+1)&^1):]
	}
	return out
}

// withoutSets are the data sets of IIM that do not tell where something is.
func withoutSets(iim []byte) (out []byte, ok bool) {
	for len(iim) > 0 {
		if len(iim) < 5 || iim[0] != 0x1c || iim[3]&0x80 != 0 {
			return out, len(bytes.Trim(iim, "\x00")) == 0
		}
		end := 5 + int(binary.BigEndian.Uint16(iim[3:]))
		if end > len(iim) {
			return nil, false
		}
		if iim[1] != 2 || !bytes.Contains(placeSets, iim[2:3]) {
			out = append(out, iim[:end]...)
		}
		iim = iim[end:]
	}
	return out, true
}

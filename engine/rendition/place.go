package rendition

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/xml"
	"slices"
	"strings"

	"yardtide/core/plan"
)

// This file writes what a picture tells anew, from lists of what is kept, where a rendition
// says that the place, or all but the time, shall not be told. A list of what to take out is
// never complete: programs write the place under names of their own. So whatever is on no list
// here is left out: maker notes, embedded previews, XMP of other vendors. Free text is kept
// under "no place" (titles, captions, keywords), and may hold anything.

// withheld are facts written anew from what is kept.
func (f facts) withheld(want plan.Facts) facts {
	if want == "" {
		return f
	}
	all := f.kept
	f.kept = nil
	for _, s := range all {
		tiff, isExif := exifOf(s)
		switch {
		case s.marker == markerAPP2 && bytes.HasPrefix(s.content, []byte(profileHead)): // what its colours mean
			f.kept = append(f.kept, s)
		case isExif:
			if own := keptExif(tiff, want); own != nil {
				f.kept = append(f.kept, segment{markerAPP1, append([]byte(exifHead), own...)})
			}
		case s.marker == markerAPP1 && bytes.HasPrefix(s.content, []byte(xmpHead)):
			if packet := keptXMP(s.content[len(xmpHead):], want); packet != nil {
				f.kept = append(f.kept, segment{markerAPP1, append([]byte(xmpHead), packet...)})
			}
		case s.marker == markerAPP13 && want == plan.NoPlace:
			if content := keptCaptions(s.content); content != nil {
				f.kept = append(f.kept, segment{markerAPP13, content})
			}
		}
	}
	return f
}

// xmpHead begins a segment with XMP (ISO 16684-3, 1.1.3).
const xmpHead = "http://ns.adobe.com/xap/1.0/\x00"

// Tags that tell when a picture was taken, and how it is turned (EXIF 2.32, 4.6).
var timeTags = map[int][]uint16{
	0:          {tagOrientation},
	exifFolder: {0x9003, 0x9004, 0x9010, 0x9011, 0x9012, 0x9290, 0x9291, 0x9292},
}

// Tags that are kept under "no place", beside those: what is seen, with what it was taken and
// how, who made it, and its caption (TIFF 6.0; EXIF 2.32, 4.6.3 to 4.6.6).
var keptTags = map[int][]uint16{
	0: {
		0x010e /* caption */, 0x010f, 0x0110 /* make, model */, 0x011a, 0x011b, 0x0128 /* density */, 0x0131, /* software */
		0x0132 /* time */, 0x013b /* artist */, 0x013e, 0x013f, 0x0211, 0x0213, 0x0214, 0x8298, /* rights */
		tagImageWidth, tagImageHeight,
	},
	exifFolder: {
		0x829a, 0x829d, 0x8822, 0x8824, 0x8827, 0x8830, 0x8831, 0x8832, 0x8833, 0x9000, 0x9101, 0x9102, 0x9201, 0x9202,
		0x9203, 0x9204, 0x9205, 0x9206, 0x9207, 0x9208, 0x9209, 0x920a, 0x9214,
		0xa000, 0xa001, tagWidth, tagHeight, 0xa20b, 0xa20e, 0xa20f, 0xa210, 0xa214, 0xa215, 0xa217, 0xa300, 0xa301, 0xa401,
		0xa402, 0xa403, 0xa404, 0xa405, 0xa406, 0xa407, 0xa408, 0xa409, 0xa40a, 0xa40c,
		0xa432, 0xa433, 0xa434, /* lens */
	},
}

const (
	mostKeptValue = 4 << 10 // bytes of one value that is kept
	mostTimeValue = 64
)

// typeSize is how many bytes a value of each type takes (TIFF 6.0, section 2).
var typeSize = []int64{1, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8}

// keptExif is TIFF written anew with the tags that are kept; nil where there are none.
func keptExif(tiff []byte, want plan.Facts) []byte {
	values := map[int][]kept{}
	var order binary.ByteOrder
	walk(tiff, func(folder int, e entry) {
		isTime := slices.Contains(timeTags[folder], e.tag)
		if !isTime && (want == plan.TimeOnly || !slices.Contains(keptTags[folder], e.tag)) {
			return
		}
		value, ok := e.bytes(tiff)
		if !ok || len(value) > mostKeptValue || isTime && len(value) > mostTimeValue {
			return
		}
		if slices.ContainsFunc(values[folder], func(k kept) bool { return k.tag == e.tag }) {
			return // twice: the first is what programs read
		}
		order = e.order
		values[folder] = append(values[folder], kept{e.tag, e.kind, e.count, value})
	})
	if len(values[0])+len(values[exifFolder]) == 0 {
		return nil
	}
	return writeTIFF(order, values[0], values[exifFolder])
}

// kept is one entry of a TIFF folder that is written anew.
type kept struct {
	tag, kind uint16
	count     uint32
	value     []byte
}

// bytes is an entry's value, wherever it lies.
func (e entry) bytes(tiff []byte) ([]byte, bool) {
	if int(e.kind) >= len(typeSize) || e.kind == 0 {
		return nil, false
	}
	long := int64(e.count) * typeSize[e.kind]
	from := int64(e.value)
	if long > 4 {
		if e.value+4 > len(tiff) {
			return nil, false
		}
		from = int64(e.order.Uint32(tiff[e.value:]))
	}
	if from < 0 || long < 0 || from+long > int64(len(tiff)) {
		return nil, false
	}
	return tiff[from : from+long], true
}

// writeTIFF writes a first folder and that of EXIF (TIFF 6.0, section 2).
func writeTIFF(order binary.ByteOrder, first, exif []kept) []byte {
	b := binary.AppendByteOrder(binary.BigEndian)
	out := []byte("MM\x00\x2a\x00\x00\x00\x08")
	if order == binary.ByteOrder(binary.LittleEndian) {
		b = binary.LittleEndian
		out = []byte("II\x2a\x00\x08\x00\x00\x00")
	}
	if len(exif) > 0 { // where it lies is known below
		first = append(slices.Clone(first), kept{tagExif, 4, 1, make([]byte, 4)})
	}
	exifAt := 0
	for _, folder := range [][]kept{first, exif} {
		if len(folder) == 0 {
			continue
		}
		slices.SortFunc(folder, func(a, b kept) int { return cmp.Compare(a.tag, b.tag) })
		out = b.AppendUint16(out, uint16(len(folder)))
		behind := len(out) + 12*len(folder) + 4
		var values []byte
		for _, k := range folder {
			out = b.AppendUint32(b.AppendUint16(b.AppendUint16(out, k.tag), k.kind), k.count)
			if k.tag == tagExif {
				exifAt = len(out)
			}
			if len(k.value) <= 4 {
				out = append(out, append(slices.Clone(k.value), 0, 0, 0, 0)[:4]...)
				continue
			}
			out = b.AppendUint32(out, uint32(behind+len(values)))
			values = append(values, k.value...)
			if len(values)%2 == 1 {
				values = append(values, 0)
			}
		}
		out = append(b.AppendUint32(out, 0), values...)
		if exifAt > 0 && len(exif) > 0 {
			copy(out[exifAt:], b.AppendUint32(nil, uint32(len(out))))
			exifAt = 0
		}
	}
	return out
}

// Namespaces of XMP (ISO 16684-1, 8; EXIF 2.32 for XMP; IPTC Photo Metadata 2023).
const (
	nsRDF       = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
	nsDC        = "http://purl.org/dc/elements/1.1/"
	nsXMP       = "http://ns.adobe.com/xap/1.0/"
	nsPhotoshop = "http://ns.adobe.com/photoshop/1.0/"
	nsTIFF      = "http://ns.adobe.com/tiff/1.0/"
	nsEXIF      = "http://ns.adobe.com/exif/1.0/"
)

// keptProperties are the properties of XMP that are kept under "no place", by namespace, with
// the prefix under which they are written.
var keptProperties = map[string]struct {
	prefix string
	names  []string
}{
	nsDC:        {"dc", []string{"title", "description", "creator", "rights", "subject"}},
	nsXMP:       {"xmp", []string{"Rating", "Label", "CreateDate", "ModifyDate", "CreatorTool"}},
	nsPhotoshop: {"photoshop", []string{"DateCreated", "Headline", "Credit"}},
	nsTIFF:      {"tiff", []string{"Make", "Model", "Orientation"}},
	nsEXIF:      {"exif", []string{"DateTimeOriginal", "DateTimeDigitized", "ExposureTime", "FNumber", "FocalLength"}},
}

// timeProperties are those that tell when.
var timeProperties = []xml.Name{{Space: nsXMP, Local: "CreateDate"}, {Space: nsPhotoshop, Local: "DateCreated"},
	{Space: nsEXIF, Local: "DateTimeOriginal"}}

const (
	mostProperties = 64       // of a packet
	mostTexts      = 512      // of a property, such as keywords
	mostXMPText    = 16 << 10 // bytes of one text
)

func keptProperty(name xml.Name, want plan.Facts) (prefix string, is bool) {
	of, known := keptProperties[name.Space]
	if !known || !slices.Contains(of.names, name.Local) || want == plan.TimeOnly &&
		!slices.Contains(timeProperties, name) {
		return "", false
	}
	return of.prefix, true
}

// property is one of XMP: a text, or a list of texts in a container of RDF.
type property struct {
	name      xml.Name
	container string // Bag, Seq or Alt, "" for a text
	texts     []string
}

// keptXMP is a packet of XMP written anew with the properties that are kept; nil where there
// are none, or the packet cannot be read.
func keptXMP(packet []byte, want plan.Facts) []byte {
	properties, ok := readXMP(packet, want)
	if !ok || len(properties) == 0 {
		return nil
	}
	var out bytes.Buffer
	out.WriteString(`<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="` + nsRDF + `"><rdf:Description rdf:about=""`)
	spaces := map[string]bool{}
	for _, p := range properties {
		if !spaces[p.name.Space] {
			spaces[p.name.Space] = true
			out.WriteString(` xmlns:` + keptProperties[p.name.Space].prefix + `="` + p.name.Space + `"`)
		}
	}
	out.WriteString(">")
	for _, p := range properties {
		tag := keptProperties[p.name.Space].prefix + ":" + p.name.Local
		out.WriteString("<" + tag + ">")
		if p.container == "" {
			_ = xml.EscapeText(&out, []byte(strings.Join(p.texts, " "))) // a buffer takes all
		} else {
			out.WriteString("<rdf:" + p.container + ">")
			for _, text := range p.texts {
				out.WriteString("<rdf:li")
				if p.container == "Alt" {
					out.WriteString(` xml:lang="x-default"`)
				}
				out.WriteString(">")
				_ = xml.EscapeText(&out, []byte(text)) // a buffer takes all
				out.WriteString("</rdf:li>")
			}
			out.WriteString("</rdf:" + p.container + ">")
		}
		out.WriteString("</" + tag + ">")
	}
	out.WriteString(`</rdf:Description></rdf:RDF></x:xmpmeta>`)
	return out.Bytes()
}

// readXMP reads the properties that are kept: as attributes of a description, as texts, and as
// lists of texts. Whatever is nested deeper is none of them.
func readXMP(packet []byte, want plan.Facts) (all []property, ok bool) {
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimRight(packet, " \t\r\n\x00")))
	var path []xml.Name
	var now *property
	at := 0 // how deep the property is that is being read
	add := func(p property) {
		if len(all) < mostProperties && len(p.texts) > 0 &&
			!slices.ContainsFunc(all, func(o property) bool { return o.name == p.name }) {
			all = append(all, p)
		}
	}
	inDescription := func() bool {
		return len(path) > 0 && path[len(path)-1] == xml.Name{Space: nsRDF, Local: "Description"} && len(path) >= 2 &&
			path[len(path)-2] == xml.Name{Space: nsRDF, Local: "RDF"}
	}
	for {
		token, err := d.Token()
		if token == nil || err != nil {
			return all, err == nil || err.Error() == "EOF"
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(path) > 32 {
				return nil, false
			}
			if _, is := keptProperty(t.Name, want); is && now == nil && inDescription() {
				now, at = &property{name: t.Name}, len(path)
			} else if now != nil && t.Name.Space == nsRDF && len(path) == at+1 &&
				slices.Contains([]string{"Bag", "Seq", "Alt"}, t.Name.Local) {
				now.container, now.texts = t.Name.Local, nil
			}
			path = append(path, t.Name)
			if inDescription() {
				for _, a := range t.Attr {
					if _, is := keptProperty(a.Name, want); is && len(a.Value) <= mostXMPText {
						add(property{name: a.Name, texts: []string{a.Value}})
					}
				}
			}
		case xml.EndElement:
			path = path[:max(0, len(path)-1)]
			if now != nil && len(path) == at {
				add(*now)
				now = nil
			}
		case xml.CharData:
			text := strings.TrimSpace(string(t))
			if now == nil || text == "" || len(text) > mostXMPText || len(now.texts) >= mostTexts {
				continue
			}
			isText := now.container == "" && len(path) == at+1
			isItem := now.container != "" && len(path) == at+3 && path[len(path)-1] == xml.Name{Space: nsRDF, Local: "li"}
			if isText || isItem {
				now.texts = append(now.texts, text)
			}
		}
	}
}

// photoshopHead begins a segment with captions (Adobe Photoshop File Formats; IIM 4.2 in it).
const photoshopHead = "Photoshop 3.0\x00"

// keptSets are the data sets of IIM that are kept, as record and number (IIM 4.2): its
// character set, title, keywords, dates and times, who made it, headline, credit, rights and
// caption.
var keptSets = [][2]byte{{1, 90}, {2, 5}, {2, 25}, {2, 55}, {2, 60}, {2, 62}, {2, 63}, {2, 80}, {2, 85}, {2, 105},
	{2, 110}, {2, 115}, {2, 116}, {2, 120}, {2, 122}}

// keptCaptions is a segment of captions with the data sets that are kept; nil where there are
// none, or it cannot be read. Other resources than captions are left out.
func keptCaptions(content []byte) []byte {
	rest, is := bytes.CutPrefix(content, []byte(photoshopHead))
	if !is {
		return nil
	}
	var sets []byte
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
			own, ok := readSets(rest[head+4 : head+4+long])
			if !ok {
				return nil
			}
			sets = append(sets, own...)
		}
		rest = rest[min(len(rest), (head+4+long+1)&^1):]
	}
	if len(sets) == 0 {
		return nil
	}
	out := append([]byte(photoshopHead), "8BIM\x04\x04\x00\x00"...)
	out = append(binary.BigEndian.AppendUint32(out, uint32(len(sets))), sets...)
	if len(sets)%2 == 1 {
		out = append(out, 0)
	}
	return out
}

// readSets are the data sets of IIM that are kept.
func readSets(iim []byte) (out []byte, ok bool) {
	for len(iim) > 0 {
		if len(iim) < 5 || iim[0] != 0x1c || iim[3]&0x80 != 0 {
			return out, len(bytes.Trim(iim, "\x00")) == 0
		}
		end := 5 + int(binary.BigEndian.Uint16(iim[3:]))
		if end > len(iim) {
			return nil, false
		}
		if slices.Contains(keptSets, [2]byte{iim[1], iim[2]}) {
			out = append(out, iim[:end]...)
		}
		iim = iim[end:]
	}
	return out, true
}

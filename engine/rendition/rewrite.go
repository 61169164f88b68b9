package rendition

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"yardtide/core/plan"
)

// This file writes a picture anew with other facts and the very same samples: one that is
// within the limits, or cannot be made smaller, and that shall not tell everything.

// rewriteJPEG writes the segments of a JPEG that its samples need, with facts of their own.
// What follows its end, and segments that nobody here knows, are left out.
func rewriteJPEG(src Source, want Want, out *limited) (Made, error) {
	whole := io.NewSectionReader(src.F, 0, src.Size)
	h, err := readHeader(whole)
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	if clip, err := holdsClip(src.F, src.Size); err != nil || clip {
		return Made{}, errors.Join(asShot("it holds a moving picture, which tells more"), err)
	}
	f := readFacts(h.kept)
	orientation := f.orientation
	kept := f.withheld(want.Facts).kept
	if orientation != 1 && !hasExif(kept) {
		kept = append(kept, segment{markerAPP1, append([]byte(exifHead), turned(orientation)...)})
	}
	made := Made{Pixels: Pixels{h.w, h.h}, From: Pixels{h.w, h.h}, ContentType: "image/jpeg"}
	if orientation >= 5 {
		made.Pixels = Pixels{h.h, h.w}
	}
	if _, err := out.Write([]byte{0xff, 0xd8}); err != nil {
		return made, err
	}
	if _, err := whole.Seek(2, io.SeekStart); err != nil {
		return made, err
	}
	w := bufio.NewWriter(out)
	if err := copySamples(bufio.NewReaderSize(whole, 64<<10), w, kept); err != nil {
		return made, err
	}
	return made, w.Flush()
}

func hasExif(kept []segment) bool {
	for _, s := range kept {
		if _, is := exifOf(s); is {
			return true
		}
	}
	return false
}

// turned is TIFF that tells how a picture is turned, and nothing else.
func turned(orientation int) []byte {
	return []byte{'M', 'M', 0, 0x2a, 0, 0, 0, 8, 0, 1, 0x01, 0x12, 0, 3, 0, 0, 0, 1, 0, byte(orientation), 0, 0, 0, 0, 0,
		0}
}

// copySamples copies a JPEG from its first segment to its end (ITU-T T.81, B.1.1), with
// segments of facts in the place of those that it has.
func copySamples(in *bufio.Reader, out *bufio.Writer, facts []segment) error {
	damaged := errors.Join(asShot("it is cut short or damaged"))
	told := false
	for {
		b, err := in.ReadByte()
		if err != nil {
			return damaged
		}
		if b != 0xff {
			if told { // within a scan
				if err := out.WriteByte(b); err != nil {
					return err
				}
				continue
			}
			return damaged
		}
		marker, err := in.ReadByte()
		for ; err == nil && marker == 0xff; marker, err = in.ReadByte() { // fill bytes
		}
		if err != nil {
			return damaged
		}
		switch {
		case marker == 0 || marker >= 0xd0 && marker <= 0xd7 || marker == 0x01:
			if _, err := out.Write([]byte{0xff, marker}); err != nil {
				return err
			}
			continue
		case marker == 0xd9:
			_, err := out.Write([]byte{0xff, 0xd9})
			return err
		}
		var length [2]byte
		if _, err := io.ReadFull(in, length[:]); err != nil {
			return damaged
		}
		n := int(binary.BigEndian.Uint16(length[:])) - 2
		if n < 0 {
			return damaged
		}
		content := make([]byte, n)
		if _, err := io.ReadFull(in, content); err != nil {
			return damaged
		}
		isFact := marker >= 0xe1 && marker <= 0xef && marker != 0xee || marker == markerCOM // 0xee tells of colours
		if !told && marker != 0xe0 {
			told = true
			for _, s := range facts {
				if err := writeSegment(out, s); err != nil {
					return err
				}
			}
		}
		if isFact || marker == 0xe0 && !bytes.HasPrefix(content, []byte("JFIF\x00")) {
			continue
		}
		if err := writeSegment(out, segment{marker, content}); err != nil {
			return err
		}
	}
}

func writeSegment(out io.Writer, s segment) error {
	if len(s.content)+2 > 0xffff {
		return asShot("what it tells does not fit into a JPEG")
	}
	if _, err := out.Write([]byte{0xff, s.marker, byte((len(s.content) + 2) >> 8), byte(len(s.content) + 2)}); err != nil {
		return err
	}
	_, err := out.Write(s.content)
	return err
}

// seenItems are the kinds of items of a HEIF file that are seen, or say how (ISO/IEC 23008-12;
// AV1 Image File Format, 2): pictures, and what is made of several.
var seenItems = map[string]bool{"hvc1": true, "av01": true, "jpeg": true, "grid": true, "iden": true, "iovl": true,
	"tmap": true}

// seenBoxes are the boxes of its header that are needed to see it, or say how.
var seenBoxes = map[string]bool{"hdlr": true, "dinf": true, "pitm": true, "iinf": true, "iref": true, "iprp": true,
	"idat": true, "iloc": true, "grpl": true}

// rewriteHEIF writes a HEIC or AVIF picture with other facts, each as long as it was, so that
// nothing in it moves. What nobody here knows is not written at all.
func rewriteHEIF(src Source, want Want, out *limited) (Made, error) {
	more := asShot("it holds more than a picture and what is known to be told of it")
	head, err := readHEIF(src.F, src.Size)
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	in, err := readWithin(src.F, src.Size)
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	if !allKnown(in) {
		return Made{}, more
	}
	type patch struct {
		at      int64
		content []byte
	}
	var patches []patch
	for item, kind := range in.kinds {
		if seenItems[kind] {
			continue
		}
		content, err := in.content(src.F, src.Size, item)
		switch {
		case err != nil:
			return Made{}, err
		case content == nil || kind != "Exif" && kind != "mime":
			return Made{}, more
		case kind == "Exif":
			content = exifItem(content, want.Facts)
		default:
			content = mimeItem(content, want.Facts)
		}
		patches = append(patches, patch{int64(in.where[item][0]), content})
	}
	free, err := freeIn(src.F, src.Size)
	if err != nil {
		return Made{}, more
	}
	for _, one := range free {
		patches = append(patches, patch{one[0], make([]byte, one[1])})
	}
	slices.SortFunc(patches, func(a, b patch) int { return cmp.Compare(a.at, b.at) })
	made := Made{Pixels: Pixels{head.w, head.h}, From: Pixels{head.w, head.h}, ContentType: src.ContentType}
	at := int64(0)
	for _, p := range append(patches, patch{at: src.Size}) {
		if p.at < at {
			return made, more // they lie over each other
		}
		if _, err := io.Copy(out, io.NewSectionReader(src.F, at, p.at-at)); err != nil {
			return made, fmt.Errorf("writing the picture anew: %w", err)
		}
		if _, err := out.Write(p.content); err != nil {
			return made, fmt.Errorf("writing the picture anew: %w", err)
		}
		at = p.at + int64(len(p.content))
	}
	return made, nil
}

// allKnown tells whether a file holds only boxes that are known, and describes nothing in a
// property.
func allKnown(in within) bool {
	known, described := true, false
	for kind := range in.boxes {
		known = known && seenBoxes[kind]
	}
	known = known && itemsCounted(in.boxes["iinf"]) == uint64(len(in.kinds))
	err := eachBox(in.boxes["iprp"], func(kind string, content []byte) {
		if kind == "ipco" {
			known = known && eachBox(content, func(kind string, _ []byte) {
				described = described || kind == "udes" || kind == "altt" || kind == "uuid"
			}) == nil
		}
	})
	return err == nil && known && !described
}

// itemsCounted is how many items a header says there are (ISO/IEC 14496-12, 8.11.6).
func itemsCounted(iinf []byte) uint64 {
	c := cursor{b: iinf}
	version := c.number(1)
	c.number(3)
	return c.number(2 + 2*int(min(version, 1)))
}

// freeIn is where a HEIF file has room that nobody needs, as it may hold what was left out
// before. The error is for a file with other boxes than a picture has.
func freeIn(f io.ReaderAt, size int64) (free [][2]int64, err error) {
	headers := 0
	err = eachBoxAt(f, size, func(kind string, from, long int64) error {
		switch kind {
		case "ftyp", "mdat":
		case "meta":
			headers++
		case "free", "skip":
			if long > mostFact {
				return errHEIF
			}
			free = append(free, [2]int64{from, long})
		default:
			return errHEIF
		}
		return nil
	})
	if headers != 1 {
		err = errors.Join(err, errHEIF)
	}
	return free, err
}

// exifItem is an Exif item of the same length with other facts.
func exifItem(content []byte, want plan.Facts) []byte {
	own := make([]byte, len(content))
	at := tiffIn(content)
	if at < 0 {
		return own
	}
	copy(own, content[:4])
	tiff := keptExif(content[at:], want)
	if at+len(tiff) <= len(own) {
		if at == 10 { // its head, as most write it
			copy(own[4:], exifHead)
		}
		copy(own[at:], tiff)
	}
	return own
}

// mimeItem is XMP of the same length that tells what is kept, and room where it is anything
// else, or would be longer.
func mimeItem(content []byte, want plan.Facts) []byte {
	own := bytes.Repeat([]byte{' '}, len(content))
	if packet := keptXMP(content, want); isXMP(content) && len(packet) <= len(own) {
		copy(own, packet)
	}
	return own
}

// seenChunks are those of a PNG that its samples need, or its movement, beside those whose
// name begins with a capital letter.
var seenChunks = map[string]bool{"tRNS": true, "iCCP": true, "sRGB": true, "gAMA": true, "cHRM": true, "cICP": true,
	"pHYs": true, "sBIT": true, "bKGD": true, "acTL": true, "fcTL": true, "fdAT": true}

// rewritePNG writes the chunks of a PNG that its samples need, with facts of their own.
func rewritePNG(src Source, want Want, out *limited) (Made, error) {
	in := bufio.NewReaderSize(io.NewSectionReader(src.F, 0, src.Size), 64<<10)
	all, err := readChunks(io.NewSectionReader(src.F, 0, src.Size))
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	seen, err := SizeOf(src)
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	f := readFacts(all.exif())
	f = f.withheld(want.Facts)
	own := all.withheld(want.Facts, f)
	made := Made{Pixels: seen, From: seen, ContentType: "image/png"}
	head := make([]byte, 8)
	if _, err := io.ReadFull(in, head); err != nil {
		return made, asShot("it cannot be read as a picture: %v", err)
	}
	if _, err := out.Write(head); err != nil {
		return made, err
	}
	for first := true; ; first = false {
		if _, err := io.ReadFull(in, head); err != nil {
			return made, asShot("it is cut short")
		}
		length, kind := int64(binary.BigEndian.Uint32(head)), string(head[4:])
		if kind[0] >= 'a' && !seenChunks[kind] {
			if _, err := io.CopyN(io.Discard, in, length+4); err != nil {
				return made, asShot("it is cut short")
			}
			continue
		}
		if _, err := out.Write(head); err != nil {
			return made, err
		}
		if _, err := io.CopyN(out, in, length+4); err != nil {
			return made, asShot("it is cut short")
		}
		if kind == "IEND" {
			return made, nil
		}
		if first { // behind IHDR
			for _, c := range own.kept {
				if !seenChunks[c.kind] {
					if _, err := out.Write(c.written()); err != nil {
						return made, err
					}
				}
			}
		}
	}
}

// withheld are the chunks of a PNG without those that shall not be told; f are the facts
// that its camera wrote, without those.
func (all chunks) withheld(want plan.Facts, f facts) chunks {
	if want == "" {
		return all
	}
	kept := all.kept
	all.kept = nil
	for _, c := range kept {
		switch c.kind {
		case "eXIf":
			if len(f.kept) > 0 {
				c.content = f.kept[0].content[len(exifHead):]
				all.kept = append(all.kept, c)
			}
		case "tEXt", "zTXt", "iTXt":
			if text := keptText(c, want); text != nil {
				all.kept = append(all.kept, chunk{c.kind, text})
			}
		case "tIME":
			all.kept = append(all.kept, c)
		default:
			if seenChunks[c.kind] {
				all.kept = append(all.kept, c)
			}
		}
	}
	return all
}

// keptKeys are the keys of a PNG's texts that are kept (PNG, third edition, 11.3.3.2): who made
// it, when, and free text.
var keptKeys = []string{"Title", "Author", "Description", "Copyright", "Creation Time"}

// keptText is a text of a PNG whose key is kept, or the XMP of one that tells what is kept;
// nil for any other.
func keptText(c chunk, want plan.Facts) []byte {
	key, text, _ := bytes.Cut(c.content, []byte{0})
	switch {
	case string(key) == "Creation Time", want == plan.NoPlace && slices.Contains(keptKeys, string(key)):
		return c.content
	case string(key) != "XML:com.adobe.xmp" || c.kind != "iTXt" || len(text) < 4 || text[0] != 0: // or compressed
		return nil
	}
	from := packetAt(text)
	if from < 0 {
		return nil
	}
	packet := keptXMP(text[from:], want)
	if packet == nil {
		return nil
	}
	return append(append(bytes.Clone(key), 0, 0, 0, 0, 0), packet...)
}

// packetAt is where an iTXt's text begins, behind its key: after two flags, a language and
// a translated key (PNG, third edition, 11.3.3.4); -1 where it has none.
func packetAt(text []byte) int {
	at := 2
	for range 2 {
		n := bytes.IndexByte(text[min(at, len(text)):], 0)
		if n < 0 {
			return -1
		}
		at += n + 1
	}
	return at
}

// mostInflated bounds what comes of a compressed chunk.
const mostInflated = 4 << 20

// segments are facts of a PNG as a JPEG has them: its XMP and its profile.
func (all chunks) segments() (kept []segment) {
	inflate := func(b []byte) []byte {
		r, err := zlib.NewReader(bytes.NewReader(b))
		if err != nil {
			return nil
		}
		out, err := io.ReadAll(io.LimitReader(r, mostInflated))
		if err != nil {
			return nil
		}
		return out
	}
	for _, c := range all.kept {
		key, rest, _ := bytes.Cut(c.content, []byte{0})
		switch {
		case c.kind == "iCCP" && len(rest) > 1:
			kept = append(kept, heif{profile: inflate(rest[1:])}.segments()...)
		case c.kind == "iTXt" && string(key) == "XML:com.adobe.xmp" && len(rest) > 2:
			if at := packetAt(rest); at >= 0 {
				packet := rest[at:]
				if rest[0] == 1 {
					packet = inflate(packet)
				}
				if packet != nil {
					kept = append(kept, heif{xmp: packet}.segments()...)
				}
			}
		}
	}
	return kept
}

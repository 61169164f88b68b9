package rendition

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"

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
	if clip, err := holdsClip(io.NewSectionReader(src.F, 0, src.Size)); err != nil || clip {
		return Made{}, errors.Join(asShot("it holds a moving picture, which tells more"), err)
	}
	f := readFacts(h.kept)
	orientation := f.orientation
	f = f.withheld(want.Facts)
	var kept []segment
	for _, s := range f.kept {
		if tiff, is := exifOf(s); is { // it stays turned as it is
			own := withoutPreview(append([]byte(nil), tiff...))
			walk(own, func(folder int, e entry) {
				if folder == 0 && e.tag == tagOrientation {
					e.set(own, uint32(orientation))
				}
			})
			s.content = append([]byte(exifHead), own...)
		}
		kept = append(kept, s)
	}
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
	return []byte{'M', 'M', 0, 0x2a, 0, 0, 0, 8, 0, 1, 0x01, 0x12, 0, 3, 0, 0, 0, 1, 0, byte(orientation), 0, 0, 0, 0, 0, 0}
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

// seenChunks are those of a PNG that its samples need, or its movement, beside those whose
// name begins with a capital letter.
var seenChunks = map[string]bool{"tRNS": true, "iCCP": true, "sRGB": true, "gAMA": true, "cHRM": true, "cICP": true, "pHYs": true, "sBIT": true, "bKGD": true, "acTL": true, "fcTL": true, "fdAT": true}

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
	orientation := f.orientation
	f = f.withheld(want.Facts)
	own := all.withheld(want.Facts, f)
	for i, c := range own.kept {
		if c.kind == "eXIf" { // it stays turned as it is
			walk(c.content, func(folder int, e entry) {
				if folder == 0 && e.tag == tagOrientation {
					e.set(own.kept[i].content, uint32(orientation))
				}
			})
		}
	}
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
			if text := textWithoutPlace(c); want == plan.NoPlace && text != nil {
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

// textWithoutPlace is a text of a PNG that does not tell the place; nil where that cannot
// be seen to be so.
func textWithoutPlace(c chunk) []byte {
	key, text, _ := bytes.Cut(c.content, []byte{0})
	switch {
	case bytes.HasPrefix(key, []byte("Raw profile")): // a whole EXIF, IPTC or XMP in it
		return nil
	case string(key) != "XML:com.adobe.xmp":
		return c.content
	case c.kind != "iTXt" || len(text) < 4 || text[0] != 0: // compressed
		return nil
	}
	from := packetAt(text)
	if from < 0 {
		return nil
	}
	packet := xmpWithoutPlace(text[from:])
	if packet == nil {
		return nil
	}
	out := append(append(bytes.Clone(key), 0), text[:from]...)
	return append(out, packet...)
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

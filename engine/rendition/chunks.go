package rendition

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
)

// chunk is one of a PNG (PNG, third edition, 5.3).
type chunk struct {
	kind    string
	content []byte
}

// written is a chunk as it stands in a file.
func (c chunk) written() []byte {
	out := binary.BigEndian.AppendUint32(nil, uint32(len(c.content)))
	out = append(append(out, c.kind...), c.content...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[4:]))
}

// chunks are what of a PNG is beside its samples.
type chunks struct {
	kept  []chunk
	moves bool
}

// what must survive of a PNG: its profile, its texts and what a camera wrote.
var keptChunks = map[string]bool{"iCCP": true, "sRGB": true, "gAMA": true, "cHRM": true, "cICP": true, "pHYs": true,
	"tEXt": true, "zTXt": true, "iTXt": true, "tIME": true, "eXIf": true}

const pngHead = "\x89PNG\r\n\x1a\n"

// readChunks reads them all, up to a bound.
func readChunks(r io.Reader) (all chunks, err error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(r, head); err != nil || string(head) != pngHead {
		return all, errors.New("it does not begin as a PNG")
	}
	held := 0
	for {
		if _, err := io.ReadFull(r, head); err != nil {
			return all, err
		}
		length, kind := binary.BigEndian.Uint32(head), string(head[4:])
		switch {
		case kind == "IEND":
			return all, nil
		case kind == "acTL":
			all.moves = true
		}
		if !keptChunks[kind] {
			if _, err := io.CopyN(io.Discard, r, int64(length)+4); err != nil {
				return all, err
			}
			continue
		}
		if held += int(min(length, mostHeader)); held > mostHeader || length > mostHeader {
			return all, errors.New("its texts are longer than they may be")
		}
		content := make([]byte, length+4)
		if _, err := io.ReadFull(r, content); err != nil {
			return all, err
		}
		all.kept = append(all.kept, chunk{kind, content[:length]})
	}
}

// exif is what a camera wrote, as a JPEG would hold it, with the profile and the texts of
// XMP left out: those stay as they are.
func (c chunks) exif() []segment {
	for _, one := range c.kept {
		if one.kind == "eXIf" {
			return []segment{{markerAPP1, append([]byte(exifHead), one.content...)}}
		}
	}
	return nil
}

// writePNG writes a PNG as the encoder made it, with what must survive behind its header.
func writePNG(out *limited, encoded []byte, all chunks, facts []segment) error {
	const ihdr = 8 + 8 + 13 + 4
	var head bytes.Buffer
	head.Write(encoded[:ihdr])
	for _, one := range all.kept {
		if one.kind == "eXIf" {
			if len(facts) == 0 {
				continue
			}
			one.content = facts[0].content[len(exifHead):]
		}
		head.Write(one.written())
	}
	if err := out.room(head.Len() + len(encoded) - ihdr); err != nil {
		return err
	}
	_, err := out.Write(head.Bytes())
	if err == nil {
		_, err = out.Write(encoded[ihdr:])
	}
	if err != nil {
		return fmt.Errorf("writing the smaller picture: %w", err)
	}
	return nil
}

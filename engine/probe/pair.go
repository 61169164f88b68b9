package probe

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
)

// Some phones take a still and a clip together, and write one identifier into both: into
// the clip as a key, into the still among the maker notes.

// makerNotes begins those notes: a TIFF folder follows, whose values lie from here on.
const makerNotes = "Apple iOS\x00\x00\x01MM"

const (
	tagIdentifier = 0x0011
	mostHead      = 64 << 10 // of a file, in which the notes lie
)

// stillPair reads the identifier of a still, "" where it has none.
func stillPair(f io.ReaderAt, size int64) (string, error) {
	head := make([]byte, min(size, mostHead))
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	at := bytes.Index(head[:n], []byte(makerNotes))
	if at < 0 {
		return "", nil
	}
	notes := head[at:n]
	entries := len(makerNotes)
	if len(notes) < entries+2 {
		return "", nil
	}
	for k := range int(binary.BigEndian.Uint16(notes[entries:])) {
		e := entries + 2 + 12*k
		if e+12 > len(notes) {
			break
		}
		if binary.BigEndian.Uint16(notes[e:]) != tagIdentifier || binary.BigEndian.Uint16(notes[e+2:]) != 2 {
			continue
		}
		long, from := int64(binary.BigEndian.Uint32(notes[e+4:])), int64(binary.BigEndian.Uint32(notes[e+8:]))
		if long > 4 && long <= mostPair && from+long <= int64(len(notes)) {
			return strings.TrimRight(string(notes[from:from+long]), "\x00 "), nil
		}
	}
	return "", nil
}

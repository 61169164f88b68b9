// Package library reads what the originals of a closed library are told from smaller versions by (core/library): the
// frames of pictures, how they look, and whether a folder is such a library at all. It writes nothing.
package library

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"os"
	"path/filepath"
	"regexp"

	"yardtide/core/likeness"
	"yardtide/core/media"
	"yardtide/engine/face"
	"yardtide/engine/probe"
	"yardtide/engine/rendition"
	"yardtide/engine/scan"
)

// Frame tells the pixels of a picture by its own frame: what EXIF says of them is left over in smaller versions. Zeros
// are of what cannot be told; the error is one of reading.
func Frame(f probe.File, size int64, contentType string) (w, h int, err error) {
	if contentType == "image/heic" || contentType == "image/heif" {
		w, h, err = rendition.HEIFFrame(f, size)
	} else {
		var c image.Config
		c, _, err = image.DecodeConfig(bufio.NewReader(io.NewSectionReader(f, 0, size)))
		w, h = c.Width, c.Height
	}
	var disk *os.PathError
	switch {
	case errors.As(err, &disk):
		return 0, 0, fmt.Errorf("reading the frame: %w", err)
	case err != nil || w <= 0 || h <= 0 || w > 1<<17 || h > 1<<17:
		return 0, 0, nil
	}
	return w, h, nil
}

// Look tells how a picture looks, zero where that cannot be told. The error is face.ErrAway, or one of the context.
func Look(ctx context.Context, f probe.File, size int64, contentType string) (likeness.Fine, error) {
	small, err := face.Picture(ctx, f, contentType, size)
	switch {
	case errors.Is(err, face.ErrNone):
		return likeness.Fine{}, nil
	case err != nil:
		return likeness.Fine{}, err
	}
	img, err := jpeg.Decode(bytes.NewReader(small))
	if err != nil {
		return likeness.Fine{}, nil
	}
	return likeness.FineOf(img), nil
}

// Text writes a look; "-" is of none.
func Text(f likeness.Fine) string {
	if f == (likeness.Fine{}) {
		return "-"
	}
	var b [32]byte
	for i := range b {
		b[i] = byte(f[i/8] >> (8 * (i % 8)))
	}
	return hex.EncodeToString(b[:])
}

// Read reads a look as Text writes it; zero for any other text.
func Read(text string) (f likeness.Fine) {
	b, err := hex.DecodeString(text)
	if err != nil || len(b) != 32 {
		return likeness.Fine{}
	}
	for i := range b {
		f[i/8] |= uint64(b[i]) << (8 * (i % 8))
	}
	return f
}

// What a closed library is known by.
const (
	sqlite    = "SQLite format 3\x00" // begins a database (sqlite.org/fileformat.html, 1.3)
	mostFirst = 60                    // files and folders that are looked at, in the library and in each of its folders
)

// ending is that of a folder's name which the system may show as one file.
var ending = regexp.MustCompile(`^[^.].*\.[A-Za-z][A-Za-z0-9_-]{1,24}$`)

// Closed tells whether a folder is one that a program keeps its pictures in, and the system may show as one file: the
// system says so, or its name has an ending, as a file's, and a database or a list of properties lies in it or one
// below.
func Closed(dir string) bool {
	return shownAsFile(dir) || ending.MatchString(filepath.Base(dir)) && kept(dir, 1)
}

// Kept tells whether a database or a list of properties lies in a folder, whatever it is called, or one below.
func Kept(dir string) bool { return kept(dir, 1) }

func kept(dir string, below int) bool {
	list, err := os.ReadDir(dir)
	if err != nil {
		return false
	}
	for _, e := range list[:min(len(list), mostFirst)] {
		switch name := e.Name(); {
		case e.IsDir():
			if below > 0 && kept(filepath.Join(dir, name), below-1) {
				return true
			}
		case name == "Info.plist" || e.Type().IsRegular() && mayBeDatabase(name) && scan.Begins(filepath.Join(dir, name), sqlite):
			return true
		}
	}
	return false
}

// mayBeDatabase tells whether a file is looked into for a database: not where its name says that it is media.
func mayBeDatabase(name string) bool {
	_, is := media.OfName(name)
	return !is
}

// Package rendition makes the form in which an item is sent, where that is not as shot:
// a smaller picture, upright, with the facts of the larger. What it cannot make smaller
// without losing something is sent as shot: it says why. It sends nothing, and decides
// nothing of when.
package rendition

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"io"

	_ "image/gif" // whose size is told

	"yardtide/core/plan"
	"yardtide/engine/ffmpeg"
	"yardtide/engine/probe"
	"yardtide/engine/work"
)

// Source is the file of a picture or a clip.
type Source struct {
	F           probe.File
	Size        int64
	ContentType string
	// Path is where it lies, and Scratch a folder for what is not whole: clips are made by
	// another program, of the file itself.
	Path, Scratch string
	// Progress is told how much of a clip is made, from 0 to 1; nil where nobody asks.
	Progress func(share float64)
	// Piece is how many seconds of a clip are made at most, to tell what the whole would come to; 0 for all of it.
	Piece float64
}

// Pixels are a picture's edges.
type Pixels struct{ W, H int }

// Megapixels is how many millions of pixels there are.
func (p Pixels) Megapixels() float64 { return float64(p.W) * float64(p.H) / 1e6 }

// Made is what was made of a picture.
type Made struct {
	Pixels             // as it is seen
	From        Pixels // of the file, before it was turned
	ContentType string
	Bytes       int64
	Piece       float64 // which share of a clip it is, where only a piece was made; 0 for the whole
}

// Whole is how many bytes the whole of it would come to.
func (m Made) Whole() int64 {
	if m.Piece == 0 {
		return m.Bytes
	}
	return int64(float64(m.Bytes) / m.Piece)
}

// AsShot tells that an item is sent as shot, and why.
type AsShot struct {
	Why  string
	Fits bool // it is within the limits: nothing else could be made of it
}

// errFits tells that a picture or a clip is within the limits.
var errFits = AsShot{Why: "it is within the limits", Fits: true}

func (e AsShot) Error() string { return "it is sent as shot: " + e.Why }

// Refused tells that an item may not be sent at all in the form that was asked for: as
// shot it would tell what was to be left out, and nothing else can be made of it.
type Refused struct{ Why string }

func (e Refused) Error() string { return "it is not sent: " + e.Why }

func asShot(format string, args ...any) error { return AsShot{Why: fmt.Sprintf(format, args...)} }

// mostMemory is how large the planes of a picture may be that is reduced, in bytes; a header
// that claims more is not believed.
const mostMemory = 112 << 20

// Reduce makes the form of a picture that a rendition asks for. The error is AsShot where
// there is none that is smaller, and Refused where as shot it would tell what shall not be
// told.
//
// It stands behind other programs while it works.
func Reduce(ctx context.Context, src Source, r plan.Rendition, out io.Writer) (made Made, err error) {
	work.Quiet(func() { made, err = form(ctx, src, r, out) })
	return made, err
}

func form(ctx context.Context, src Source, r plan.Rendition, out io.Writer) (Made, error) {
	want, limited := Want{r}, &limited{most: src.Size, out: out}
	if r.Facts != "" { // what is left out may be shorter than how that is written
		limited.most += 1 << 16
	}
	made, err := reduce(ctx, src, want, limited)
	if errors.Is(err, errLarger) {
		err = asShot("reduced it would be no smaller")
	}
	var as AsShot
	if errors.As(err, &as) && r.Facts != "" && limited.n == 0 {
		made, err = rewrite(src, want, limited)
		if errors.As(err, &as) || errors.Is(err, errLarger) {
			err = Refused{"what it tells cannot be taken out of it, as " + as.Why}
		}
	}
	made.Bytes = limited.n
	return made, err
}

func reduce(ctx context.Context, src Source, want Want, out *limited) (Made, error) {
	switch src.ContentType {
	case "image/jpeg":
		return reduceJPEG(ctx, src, want, out)
	case "image/png":
		return reducePNG(ctx, src, want, out)
	case "image/heic", "image/heif":
		return reduceHEIC(ctx, src, want, out)
	case "image/gif", "image/apng", "image/vnd.mozilla.apng":
		return Made{}, asShot("it may move")
	}
	if ffmpeg.Reads(src.ContentType) && src.Path != "" {
		return reduceClip(ctx, src, want, out)
	}
	return Made{}, asShot("%s is not reduced", src.ContentType)
}

// rewrite writes an item with the same samples and other facts.
func rewrite(src Source, want Want, out *limited) (Made, error) {
	switch src.ContentType {
	case "image/jpeg":
		return rewriteJPEG(src, want, out)
	case "image/png", "image/apng", "image/vnd.mozilla.apng":
		return rewritePNG(src, want, out)
	case "image/heic", "image/heif", "image/avif":
		return rewriteHEIF(src, want, out)
	}
	return Made{}, asShot("%s is not written here", src.ContentType)
}

// SizeOf is how large a picture is as it is seen.
func SizeOf(src Source) (Pixels, error) {
	if src.ContentType == "image/heic" || src.ContentType == "image/heif" {
		h, err := readHEIF(src.F, src.Size)
		return Pixels{h.w, h.h}, err
	}
	c, _, err := image.DecodeConfig(io.NewSectionReader(src.F, 0, src.Size))
	if err != nil {
		return Pixels{}, err
	}
	view, err := probe.ReadView(src.F, src.ContentType)
	if err != nil {
		return Pixels{}, err
	}
	if view.Orientation >= 5 {
		return Pixels{c.Height, c.Width}, nil
	}
	return Pixels{c.Width, c.Height}, nil
}

// Want is what a rendition asks for.
type Want struct{ plan.Rendition }

func (w Want) size(seen Pixels) Pixels {
	width, height := w.Size(seen.W, seen.H)
	return Pixels{width, height}
}

func (w Want) quality() int {
	if w.Quality == 0 {
		return plan.DefaultQuality
	}
	return w.Quality
}

// errLarger ends the writing of what is no smaller than what was shot.
var errLarger = errors.New("it is no smaller than as shot")

// limited writes less than a number of bytes.
type limited struct {
	out     io.Writer
	n, most int64
}

// room is an error where so many bytes more would be too many: nothing is written then.
func (l *limited) room(n int) error {
	if l.n+int64(n) >= l.most {
		return errLarger
	}
	return nil
}

func (l *limited) Write(p []byte) (int, error) {
	if l.n += int64(len(p)); l.n >= l.most {
		return 0, errLarger
	}
	return l.out.Write(p)
}

// Bytes is what Reduce makes, held in memory.
func Bytes(ctx context.Context, src Source, r plan.Rendition) ([]byte, Made, error) {
	var out bytes.Buffer
	made, err := Reduce(ctx, src, r, &out)
	return out.Bytes(), made, err
}

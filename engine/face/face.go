// Package face makes small pictures of items, for lists and stories, and keeps
// them in a cache with a bound on its size. It is not for what is sent.
package face

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"image/jpeg"
	"io"
	"time"

	_ "image/gif" // the formats that are shown
	_ "image/png"

	scaler "golang.org/x/image/draw"
	_ "golang.org/x/image/webp"

	"yardtide/engine/ffmpeg"
	"yardtide/engine/probe"
	"yardtide/engine/rendition"
)

// Edge is the long edge of a face in pixels, at most.
const Edge = 320

const (
	quality    = 78
	goodEdge   = 160       // from which the camera's own preview will do
	mostPixels = 120 << 20 // a larger picture has no face: it would take too much memory
	mostBytes  = 256 << 20 // nor has a larger file
)

// ErrNone tells that there is nothing to show of a file: its format is not known
// here, or it is damaged.
var ErrNone = errors.New("there is no picture of it")

// ErrAway tells that the file cannot be read now.
var ErrAway = errors.New("the file cannot be read now")

// Picture makes the face of a photo, as JPEG, upright. It reads from f only; the
// error is ErrNone when it cannot be shown.
func Picture(ctx context.Context, f probe.File, contentType string, size int64) ([]byte, error) {
	view, err := probe.ReadView(f, contentType)
	if err != nil {
		return nil, err
	}
	if contentType == "image/heic" || contentType == "image/heif" {
		img, err := rendition.HEIC(ctx, rendition.Source{F: f, Size: size, ContentType: contentType})
		var as rendition.AsShot
		if errors.As(err, &as) {
			return nil, ErrNone
		}
		if err != nil {
			return nil, err
		}
		return encode(shrink(img))
	}
	whole, _, err := image.DecodeConfig(bufio.NewReader(io.NewSectionReader(f, 0, size)))
	known := err == nil && whole.Width > 0 && whole.Height > 0
	if preview, ok := cameras(view.Preview, whole, known); ok {
		if b := preview.Bounds(); view.Orientation == 1 && isWhole(view.Preview, b.Dx(), b.Dy()) {
			return view.Preview, nil // it is one already
		}
		return encode(rendition.Upright(preview, view.Orientation))
	}
	if !known || int64(whole.Width)*int64(whole.Height) > mostPixels || size > mostBytes {
		return nil, ErrNone
	}
	img, _, err := image.Decode(bufio.NewReaderSize(io.NewSectionReader(f, 0, size), 256<<10))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNone, err)
	}
	return encode(rendition.Upright(shrink(img), view.Orientation))
}

// cameras is the preview that the camera made, if it is good: large enough, and of
// the shape of the whole (some have bars above and below).
func cameras(preview []byte, whole image.Config, known bool) (image.Image, bool) {
	if preview == nil {
		return nil, false
	}
	small, err := jpeg.DecodeConfig(bytes.NewReader(preview))
	if err != nil || max(small.Width, small.Height) < goodEdge || max(small.Width, small.Height) > 4*Edge {
		return nil, false
	}
	if known {
		// a/b and c/d differ by less than a fiftieth
		a, b := small.Width*whole.Height, small.Height*whole.Width
		if 50*max(a-b, b-a) > max(a, b) {
			return nil, false
		}
	}
	img, err := jpeg.Decode(bytes.NewReader(preview))
	if err != nil {
		return nil, false
	}
	if b := img.Bounds(); max(b.Dx(), b.Dy()) <= Edge {
		return img, true
	}
	return shrink(img), true
}

// isWhole tells whether a preview was not shrunk.
func isWhole(preview []byte, w, h int) bool {
	c, err := jpeg.DecodeConfig(bytes.NewReader(preview))
	return err == nil && c.Width == w && c.Height == h
}

// shrink scales a picture down to Edge; a smaller one stays.
func shrink(img image.Image) image.Image {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	if most := max(w, h); most > Edge {
		w, h = max(1, w*Edge/most), max(1, h*Edge/most)
	}
	to := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(to, to.Bounds(), image.White, image.Point{}, draw.Src) // under what is transparent
	scaler.BiLinear.Scale(to, to.Bounds(), img, b, scaler.Over, nil)
	return to
}

func encode(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}); err != nil {
		return nil, fmt.Errorf("writing a small picture: %w", err)
	}
	return b.Bytes(), nil
}

// clipTime is how long a frame of a clip may take.
const clipTime = 20 * time.Second

// Clip makes the face of a video with ffmpeg: a frame of its first second. The
// error is ErrNone without ffmpeg and for what it cannot read.
func Clip(ctx context.Context, path, contentType string) ([]byte, error) {
	if !ffmpeg.Reads(contentType) {
		return nil, ErrNone
	}
	ctx, cancel := context.WithTimeout(ctx, clipTime)
	defer cancel()
	command := ffmpeg.Make(ctx, path, contentType, "-map", "0:v:0", "-frames:v", "1", "-vf",
		fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease", Edge, Edge), "-threads", "1", "-f", "mjpeg", "-q:v",
		"4", "pipe:1")
	var out bytes.Buffer
	command.Stdout = &out
	if err := ffmpeg.Run(command); err != nil || out.Len() == 0 {
		if ctx.Err() != nil {
			return nil, ErrAway // not in this time
		}
		return nil, ErrNone
	}
	return out.Bytes(), nil
}

package rendition

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"image/jpeg"
	"io"
	"math"

	"yardtide/core/plan"
	"yardtide/engine/probe"
)

// Compared is a picture as shot and as a rendition makes it.
type Compared struct {
	AsShot Shown
	Made   Shown
	Why    string // it goes as shot, "" when it does not
	// Before and After are the same detail of both, as JPEG: as many pixels as the file has
	// there, and as many as are left of them.
	Before, After []byte
}

// Shown is how large a picture is.
type Shown struct {
	Pixels
	Bytes int64
}

// detail is how wide and high the part is that is shown of a picture, in its own pixels.
var detail = Pixels{960, 640}

// Compare makes both, and shows the detail around a point: 0, 0 is the corner above at the
// left, 1, 1 that below at the right. The error is AsShot for what is no picture that can be
// shown.
func Compare(ctx context.Context, src Source, r plan.Rendition, x, y float64) (Compared, error) {
	var c Compared
	whole, err := seen(ctx, src)
	if err != nil {
		return c, err
	}
	c.AsShot = Shown{Pixels{whole.Bounds().Dx(), whole.Bounds().Dy()}, src.Size}
	at := func(p Pixels) image.Rectangle {
		scaleX, scaleY := float64(p.W)/float64(c.AsShot.W), float64(p.H)/float64(c.AsShot.H)
		w, h := min(detail.W, c.AsShot.W), min(detail.H, c.AsShot.H)
		left := min(max(0, int(x*float64(c.AsShot.W))-w/2), c.AsShot.W-w)
		top := min(max(0, int(y*float64(c.AsShot.H))-h/2), c.AsShot.H-h)
		scaled := func(n int, by float64) int { return int(math.Round(float64(n) * by)) }
		return image.Rect(scaled(left, scaleX), scaled(top, scaleY), max(scaled(left+w, scaleX), scaled(left, scaleX)+1),
			max(scaled(top+h, scaleY), scaled(top, scaleY)+1))
	}
	if c.Before, err = crop(whole, at(c.AsShot.Pixels)); err != nil {
		return c, err
	}
	b, made, err := Bytes(ctx, src, r)
	var as AsShot
	if errors.As(err, &as) {
		c.Made, c.Why, c.After = c.AsShot, as.Why, c.Before
		return c, nil
	}
	if err != nil {
		return c, err
	}
	small, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return c, fmt.Errorf("reading what was made: %w", err)
	}
	c.Made = Shown{made.Pixels, made.Bytes}
	c.After, err = crop(small, at(made.Pixels))
	return c, err
}

// seen is a picture as it is seen, upright.
func seen(ctx context.Context, src Source) (image.Image, error) {
	if src.ContentType == "image/heic" || src.ContentType == "image/heif" {
		return HEIC(ctx, src)
	}
	whole := func() io.Reader { return io.NewSectionReader(src.F, 0, src.Size) }
	config, _, err := image.DecodeConfig(whole())
	if err != nil {
		return nil, asShot("it cannot be read as a picture: %v", err)
	}
	if int64(config.Width)*int64(config.Height)*4 > 4*mostMemory {
		return nil, asShot("it would take too much memory")
	}
	img, _, err := image.Decode(&cancelled{ctx: ctx, r: whole()})
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		return nil, asShot("it cannot be read as a picture: %v", err)
	}
	view, err := probe.ReadView(src.F, src.ContentType)
	if err != nil {
		return nil, err
	}
	return Upright(img, view.Orientation), nil
}

// Upright turns a picture as an orientation says (EXIF 2.32, 4.6.4).
func Upright(img image.Image, orientation int) image.Image {
	if orientation <= 1 || orientation > 8 {
		return img
	}
	p := upright(planeOf(img), orientation)
	return &image.RGBA{Pix: p.pix, Stride: p.stride, Rect: image.Rect(0, 0, p.w, p.h)}
}

// planeOf are the colours of a picture, weighed by how much of them is seen.
func planeOf(img image.Image) plane[uint8] {
	all, is := img.(*image.RGBA)
	b := img.Bounds()
	if !is {
		all = image.NewRGBA(b)
		draw.Draw(all, b, img, b.Min, draw.Src)
	}
	return plane[uint8]{pix: all.Pix, stride: all.Stride, w: b.Dx(), h: b.Dy(), channels: 4, extentW: float64(b.Dx()),
		extentH: float64(b.Dy())}
}

// crop is a part of a picture, as JPEG of a quality at which nothing more is seen to be lost.
func crop(img image.Image, part image.Rectangle) ([]byte, error) {
	part = part.Add(img.Bounds().Min).Intersect(img.Bounds())
	out := image.NewRGBA(image.Rect(0, 0, part.Dx(), part.Dy()))
	draw.Draw(out, out.Rect, image.White, image.Point{}, draw.Src)
	draw.Draw(out, out.Rect, img, part.Min, draw.Over)
	var b bytes.Buffer
	if err := jpeg.Encode(&b, out, &jpeg.Options{Quality: 95}); err != nil {
		return nil, fmt.Errorf("writing a part of a picture: %w", err)
	}
	return b.Bytes(), nil
}

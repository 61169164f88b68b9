package rendition

import (
	"bufio"
	"context"
	"encoding/binary"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"io"

	"yardtide/core/plan"
)

// reducePNG makes a smaller PNG; where the rendition asks for JPEG and nothing is
// transparent, a JPEG.
func reducePNG(ctx context.Context, src Source, want Want, out *limited) (Made, error) {
	whole := func() io.Reader { return bufio.NewReaderSize(io.NewSectionReader(src.F, 0, src.Size), 64<<10) }
	c, err := png.DecodeConfig(whole())
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	deep := c.ColorModel == color.RGBA64Model || c.ColorModel == color.NRGBA64Model || c.ColorModel == color.Gray16Model
	each := int64(8) // decoded, and as it is resized
	if deep {
		each = 16
	}
	if int64(c.Width)*int64(c.Height)*each > mostMemory {
		return Made{}, asShot("it would take too much memory")
	}
	chunks, err := readChunks(whole())
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	if chunks.moves {
		return Made{}, asShot("it moves")
	}
	facts := readFacts(chunks.exif())
	colours, err := chunks.conversion(want)
	if err != nil {
		return Made{}, err
	}
	made := Made{From: Pixels{c.Width, c.Height}, ContentType: "image/png"}
	seen := made.From
	if facts.orientation >= 5 {
		seen = Pixels{c.Height, c.Width}
	}
	made.Pixels = want.size(seen)
	toJPEG := want.Format == plan.JPEG
	if made.Pixels == seen && !toJPEG && colours == nil {
		return Made{}, errFits
	}
	img, err := png.Decode(&cancelled{ctx: ctx, r: whole()})
	if ctx.Err() != nil {
		return Made{}, context.Cause(ctx)
	}
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	clear := !opaque(img)
	if made.Pixels == seen && clear && colours == nil {
		return Made{}, errFits
	}
	lying := made.Pixels
	if facts.orientation >= 5 {
		lying = Pixels{lying.H, lying.W}
	}
	small, err := shrinkRGBA(ctx, img, lying, facts.orientation, deep)
	if err == nil {
		err = colours.convertSeen(ctx, small)
	}
	if err != nil {
		return Made{}, err
	}
	facts = facts.withheld(want.Facts).in(colours)
	chunks = chunks.withheld(want.Facts, facts).in(colours)
	return writeReduced(ctx, small, made, facts, chunks, want, toJPEG && !clear, out)
}

// writeReduced writes a smaller picture as a PNG, or as a JPEG, with what is told of it.
func writeReduced(ctx context.Context, small image.Image, made Made, facts facts, chunks chunks, want Want,
	toJPEG bool, out *limited) (Made, error) {
	if toJPEG {
		facts.kept = append(facts.kept, chunks.segments()...)
		made.ContentType = "image/jpeg"
		body, err := encode(ctx, func(w io.Writer) error {
			return jpeg.Encode(w, small, &jpeg.Options{Quality: want.quality()})
		})
		if err != nil {
			return Made{}, err
		}
		return made, writeJPEG(out, facts.segments(made.From, made.Pixels), body)
	}
	encoder := png.Encoder{CompressionLevel: png.BestCompression}
	body, err := encode(ctx, func(w io.Writer) error { return encoder.Encode(w, small) })
	if err != nil {
		return Made{}, err
	}
	return made, writePNG(out, body, chunks, facts.segments(made.From, made.Pixels))
}

func opaque(img image.Image) bool {
	o, tells := img.(interface{ Opaque() bool })
	return tells && o.Opaque()
}

// shrinkRGBA makes a picture of a size. Colours are weighed by how much of them is seen, so
// that what is transparent colours no edge.
func shrinkRGBA(ctx context.Context, img image.Image, to Pixels, orientation int, deep bool) (draw.RGBA64Image, error) {
	b := img.Bounds()
	if deep {
		all := image.NewRGBA64(b)
		draw.Draw(all, b, img, b.Min, draw.Src)
		from := newPlane[uint16](b.Dx(), b.Dy(), 4)
		for i := range from.pix {
			from.pix[i] = binary.BigEndian.Uint16(all.Pix[2*i:])
		}
		p, err := resize(ctx, from, to.W, to.H, float64(to.W), float64(to.H))
		if err != nil {
			return nil, err
		}
		p = upright(p, orientation)
		small := image.NewRGBA64(image.Rect(0, 0, p.w, p.h))
		for i, v := range p.pix {
			if i%4 != 3 {
				v = min(v, p.pix[i|3]) // no colour is more than is seen of it
			}
			binary.BigEndian.PutUint16(small.Pix[2*i:], v)
		}
		return small, nil
	}
	p, err := resize(ctx, planeOf(img), to.W, to.H, float64(to.W), float64(to.H))
	if err != nil {
		return nil, err
	}
	p = upright(p, orientation)
	for i := range p.pix {
		if i%4 != 3 {
			p.pix[i] = min(p.pix[i], p.pix[i|3])
		}
	}
	return &image.RGBA{Pix: p.pix, Stride: p.stride, Rect: image.Rect(0, 0, p.w, p.h)}, nil
}

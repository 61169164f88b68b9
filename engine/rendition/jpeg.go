package rendition

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
)

// segment is one marker segment of a JPEG with its content (ITU-T T.81, B.1.1.4).
type segment struct {
	marker  byte
	content []byte
}

const (
	markerAPP1  = 0xe1 // EXIF and XMP
	markerAPP2  = 0xe2 // colour profiles, and further pictures in the file
	markerAPP13 = 0xed // captions (IPTC)
	markerCOM   = 0xfe
)

// header is what stands before a JPEG's samples.
type header struct {
	w, h        int
	components  int
	progressive bool
	samples     int64 // of all components
	kept        []segment
}

// mostHeader bounds what is read before the samples begin.
const mostHeader = 16 << 20

// readHeader reads the segments before the first scan. What says nothing that must survive
// is not kept.
func readHeader(r io.Reader) (h header, err error) {
	in := &counted{r: r, left: mostHeader}
	var two [2]byte
	next := func(n int) ([]byte, error) {
		b := make([]byte, n)
		_, err := io.ReadFull(in, b)
		return b, err
	}
	if _, err := io.ReadFull(in, two[:]); err != nil || two != [2]byte{0xff, 0xd8} {
		return h, errors.Join(errors.New("it does not begin as a JPEG"), err)
	}
	for {
		if _, err := io.ReadFull(in, two[:]); err != nil {
			return h, err
		}
		for two[0] == 0xff && two[1] == 0xff { // fill bytes
			one, err := next(1)
			if err != nil {
				return h, err
			}
			two[1] = one[0]
		}
		marker := two[1]
		if two[0] != 0xff || marker == 0xd9 {
			return h, errors.New("its header is damaged")
		}
		if marker == 0x01 || marker >= 0xd0 && marker <= 0xd7 {
			continue
		}
		length, err := next(2)
		if err != nil {
			return h, err
		}
		n := int(binary.BigEndian.Uint16(length)) - 2
		if n < 0 {
			return h, errors.New("its header is damaged")
		}
		content, err := next(n)
		if err != nil {
			return h, err
		}
		switch {
		case marker == 0xda:
			if h.w == 0 || h.h == 0 {
				return h, errors.New("its header does not tell its size")
			}
			return h, nil
		case marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc:
			if err := h.frame(marker, content); err != nil {
				return h, err
			}
		case marker == markerAPP1,
			marker == markerAPP2 && bytes.HasPrefix(content, []byte("ICC_PROFILE\x00")),
			marker == markerAPP13, marker == markerCOM:
			h.kept = append(h.kept, segment{marker, content})
		}
	}
}

// frame reads a frame header (ITU-T T.81, B.2.2).
func (h *header) frame(marker byte, b []byte) error {
	if len(b) < 6 || len(b) < 6+3*int(b[5]) {
		return errors.New("its header is damaged")
	}
	h.h, h.w, h.components, h.progressive = int(binary.BigEndian.Uint16(b[1:])), int(binary.BigEndian.Uint16(b[3:])),
		int(b[5]), marker == 0xc2
	most := [2]int64{1, 1}
	for c := range h.components {
		most[0], most[1] = max(most[0], int64(b[7+3*c]>>4)), max(most[1], int64(b[7+3*c]&15))
	}
	for c := range h.components {
		h.samples += int64(h.w) * int64(h.h) * int64(b[7+3*c]>>4) * int64(b[7+3*c]&15) / (most[0] * most[1])
	}
	return nil
}

// memory is about how many bytes it takes to decode it: progressive ones keep their
// coefficients until the end.
func (h header) memory() int64 {
	if h.progressive {
		return 5 * h.samples
	}
	return h.samples
}

// counted reads so many bytes at most.
type counted struct {
	r    io.Reader
	left int
}

func (c *counted) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, errors.New("its header is longer than one may be")
	}
	n, err := c.r.Read(p[:min(len(p), c.left)])
	c.left -= n
	return n, err
}

// cancelled reads until the context ends.
type cancelled struct {
	ctx context.Context
	r   io.Reader
	n   int64
}

func (c *cancelled) Read(p []byte) (int, error) {
	if c.ctx.Err() != nil {
		return 0, context.Cause(c.ctx)
	}
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// reduceJPEG makes a smaller JPEG, upright, with the facts of the larger.
func reduceJPEG(ctx context.Context, src Source, want Want, out *limited) (Made, error) {
	h, err := readHeader(io.NewSectionReader(src.F, 0, src.Size))
	switch {
	case err != nil:
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	case h.components == 4:
		return Made{}, asShot("its colours are those of print")
	case h.memory() > mostMemory:
		return Made{}, asShot("it would take too much memory")
	}
	facts := readFacts(h.kept)
	colours, err := want.conversion(facts.profile())
	if err != nil {
		return Made{}, err
	}
	made := Made{From: Pixels{h.w, h.h}}
	seen := made.From
	if facts.orientation >= 5 {
		seen = Pixels{h.h, h.w}
	}
	if made.Pixels = want.size(seen); made.Pixels == seen && colours == nil {
		return Made{}, errFits
	}
	in := &cancelled{ctx: ctx, r: io.NewSectionReader(src.F, 0, src.Size)}
	img, err := jpeg.Decode(in)
	if ctx.Err() != nil {
		return Made{}, context.Cause(ctx)
	}
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	if clip, err := holdsClip(src.F, src.Size); err != nil {
		return Made{}, fmt.Errorf("reading what follows the picture: %w", err)
	} else if clip {
		return Made{}, asShot("it holds a moving picture, which would be lost")
	}
	return asJPEG(ctx, img, made, want, facts, colours, out)
}

// asJPEG writes a picture as a JPEG of the size of made, upright, with its facts.
func asJPEG(ctx context.Context, img image.Image, made Made, want Want, f facts, colours *conversion,
	out *limited) (Made, error) {
	made.ContentType = "image/jpeg"
	small, err := shrink(ctx, img, made.Pixels, f.orientation)
	if err == nil {
		small, err = colours.convert(ctx, small)
	}
	if err != nil {
		return Made{}, err
	}
	body, err := encode(ctx, func(w io.Writer) error {
		return jpeg.Encode(w, small, &jpeg.Options{Quality: want.quality()})
	})
	if err != nil {
		return Made{}, err
	}
	return made, writeJPEG(out, f.withheld(want.Facts).in(colours).segments(made.From, made.Pixels), body)
}

// encode is what an encoder writes. It stops when the context ends: encoders go on after a
// write that failed, so that only a panic makes them stop.
func encode(ctx context.Context, encoder func(io.Writer) error) (written []byte, err error) {
	w := &ending{ctx: ctx}
	defer func() {
		if p := recover(); p != nil {
			if p != any(w) {
				panic(p)
			}
			written, err = nil, context.Cause(ctx)
		}
	}()
	if err := encoder(w); err != nil {
		return nil, fmt.Errorf("writing what was made of the picture: %w", err)
	}
	return w.Bytes(), nil
}

// ending panics with itself when it is written to after its context's end.
type ending struct {
	bytes.Buffer
	ctx context.Context
}

func (e *ending) Write(p []byte) (int, error) {
	if e.ctx.Err() != nil {
		panic(e)
	}
	return e.Buffer.Write(p)
}

// writeJPEG writes a JPEG as the encoder made it, with segments at its head.
func writeJPEG(out *limited, kept []segment, encoded []byte) error {
	var head bytes.Buffer
	head.Write(encoded[:2])
	for _, s := range kept {
		if len(s.content)+2 > 0xffff {
			return asShot("what it tells does not fit into a JPEG")
		}
		_ = writeSegment(&head, s) // a buffer never fails
	}
	if err := out.room(head.Len() + len(encoded) - 2); err != nil {
		return err
	}
	_, err := out.Write(head.Bytes())
	if err == nil {
		_, err = out.Write(encoded[2:])
	}
	if err != nil {
		return fmt.Errorf("writing the smaller picture: %w", err)
	}
	return nil
}

// shrink makes a picture of a size, upright, of the planes of another.
func shrink(ctx context.Context, img image.Image, to Pixels, orientation int) (image.Image, error) {
	lying := to // before it is turned
	if orientation >= 5 {
		lying = Pixels{to.H, to.W}
	}
	small := func(p plane[uint8], w, h int, extentW, extentH float64) (plane[uint8], error) {
		p.channels = 1
		r, err := resize(ctx, p, w, h, extentW, extentH)
		if err != nil {
			return r, err
		}
		return upright(r, orientation), nil
	}
	b := img.Bounds()
	whole := plane[uint8]{w: b.Dx(), h: b.Dy(), extentW: float64(b.Dx()), extentH: float64(b.Dy())}
	switch src := img.(type) {
	case *image.Gray:
		whole.pix, whole.stride = src.Pix, src.Stride
		y, err := small(whole, lying.W, lying.H, float64(lying.W), float64(lying.H))
		return &image.Gray{Pix: y.pix, Stride: y.stride, Rect: image.Rect(0, 0, to.W, to.H)}, err
	case *image.YCbCr:
		whole.pix, whole.stride = src.Y, src.YStride
		y, err := small(whole, lying.W, lying.H, float64(lying.W), float64(lying.H))
		if err != nil {
			return nil, err
		}
		across, down := halved(src.SubsampleRatio)
		colours := plane[uint8]{
			stride: src.CStride, w: (b.Dx() + across - 1) / across, h: (b.Dy() + down - 1) / down,
			extentW: float64(b.Dx()) / float64(across), extentH: float64(b.Dy()) / float64(down),
		}
		var made [2]plane[uint8]
		for i, pix := range [][]uint8{src.Cb, src.Cr} {
			colours.pix = pix
			if made[i], err = small(colours, (lying.W+1)/2, (lying.H+1)/2, float64(lying.W)/2, float64(lying.H)/2); err != nil {
				return nil, err
			}
		}
		return &image.YCbCr{Y: y.pix, YStride: y.stride, Cb: made[0].pix, Cr: made[1].pix, CStride: made[0].stride,
			SubsampleRatio: image.YCbCrSubsampleRatio420, Rect: image.Rect(0, 0, to.W, to.H)}, nil
	}
	return nil, asShot("its colours are of a kind that is not reduced")
}

// halved tells how many samples of a picture one of its colours covers, across and down
// (JFIF 1.02: they lie in the middle of those).
func halved(r image.YCbCrSubsampleRatio) (across, down int) {
	switch r {
	case image.YCbCrSubsampleRatio422:
		return 2, 1
	case image.YCbCrSubsampleRatio420:
		return 2, 2
	case image.YCbCrSubsampleRatio440:
		return 1, 2
	case image.YCbCrSubsampleRatio411:
		return 4, 1
	case image.YCbCrSubsampleRatio410:
		return 4, 2
	}
	return 1, 1
}

// holdsClip tells whether a clip lies behind a picture, as phones put one there that moves: a
// first box (ISO/IEC 14496-12, 4.3) behind the picture's end. What looks like one among its
// samples is none.
func holdsClip(f io.ReaderAt, size int64) (bool, error) {
	in := bufio.NewReaderSize(io.NewSectionReader(f, 2, max(0, size-2)), 64<<10)
	if err := skipPicture(in); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return false, nil // it has no end: nothing lies behind it
	} else if err != nil {
		return false, fmt.Errorf("reading to the end of the picture: %w", err)
	}
	const head = 12 // length, kind and brand
	buffer, kept := make([]byte, 64<<10), 0
	for {
		n, err := in.Read(buffer[kept:])
		n += kept
		for rest := buffer[:n]; len(rest) >= head; {
			at := bytes.Index(rest, []byte("ftyp"))
			if at < 0 {
				break
			}
			if at >= 4 && at+8 <= len(rest) {
				long := binary.BigEndian.Uint32(rest[at-4:])
				brand := rest[at+4 : at+8]
				if long >= 8 && long <= 4096 && bytes.IndexFunc(brand, func(r rune) bool { return r < ' ' || r > '~' }) < 0 {
					return true, nil
				}
			}
			rest = rest[at+4:]
		}
		switch {
		case errors.Is(err, io.EOF):
			return false, nil
		case err != nil:
			return false, fmt.Errorf("looking behind the picture: %w", err)
		}
		kept = min(head-1, n)
		copy(buffer, buffer[n-kept:n])
	}
}

// skipPicture reads a JPEG from its first segment to its end (ITU-T T.81, B.1.1).
func skipPicture(in *bufio.Reader) error {
	for {
		// Up to the next marker: samples are skipped by whole buffers.
		if _, err := in.Peek(1); err != nil {
			return err
		}
		held, _ := in.Peek(in.Buffered()) // no more than there is
		at := bytes.IndexByte(held, 0xff)
		if at < 0 {
			at = len(held)
		}
		if _, err := in.Discard(at); err != nil || at == len(held) {
			if err != nil {
				return err
			}
			continue
		}
		two, err := in.Peek(2)
		if err != nil {
			return err
		}
		marker := two[1]
		skip := 2
		switch {
		case marker == 0xff: // a fill byte
			skip = 1
		case marker == 0xd9:
			_, err := in.Discard(2)
			return err
		case marker == 0 || marker == 0x01 || marker >= 0xd0 && marker <= 0xd8:
		default:
			four, err := in.Peek(4)
			if err != nil {
				return err
			}
			skip = 2 + max(2, int(binary.BigEndian.Uint16(four[2:])))
		}
		if _, err := in.Discard(skip); err != nil {
			return err
		}
	}
}

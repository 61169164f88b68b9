package rendition

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"math"

	"github.com/gen2brain/heic"

	"yardtide/core/plan"
	"yardtide/engine/work"
)

// mostHEIC is how many pixels a HEIC may have that is decoded: it takes about 25 bytes for
// each.
const mostHEIC = 26_000_000

// decodingHEIC has room for one: the decoder keeps the memory of the largest. It belongs to
// the process as that does.
var decodingHEIC = make(chan struct{}, 1)

// decodeHEIC decodes a HEIC picture, upright. It runs in a sandbox (WebAssembly), as damaged
// files come from outside. Who gives up waits no longer; the next waits for the end.
func decodeHEIC(ctx context.Context, content []byte) (image.Image, error) {
	select {
	case decodingHEIC <- struct{}{}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	type decoded struct {
		img image.Image
		err error
	}
	done := make(chan decoded, 1)
	go func() {
		work.Quietly()
		var d decoded
		defer func() {
			if p := recover(); p != nil {
				d.err = fmt.Errorf("the decoder failed: %v", p)
			}
			<-decodingHEIC
			done <- d
		}()
		d.img, d.err = heic.Decode(bytes.NewReader(content))
	}()
	select {
	case d := <-done:
		return d.img, d.err
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// HEIC decodes a picture for who only looks at it, upright. The error is AsShot for one that
// cannot be.
func HEIC(ctx context.Context, src Source) (image.Image, error) {
	head, err := readHEIF(src.F, src.Size)
	switch {
	case err != nil:
		return nil, asShot("it cannot be read as a picture: %v", err)
	case int64(head.w)*int64(head.h) > mostHEIC:
		return nil, asShot("it would take too much memory")
	}
	content := make([]byte, src.Size)
	if _, err := src.F.ReadAt(content, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading the picture: %w", err)
	}
	img, err := decodeHEIC(ctx, content)
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		return nil, asShot("it cannot be read as a picture: %v", err)
	}
	return img, nil
}

// reduceHEIC makes a JPEG of a HEIC picture, with the facts of that. It may be larger: it is
// made so that others can open it.
func reduceHEIC(ctx context.Context, src Source, want Want, out *limited) (Made, error) {
	switch want.Format {
	case plan.Both:
		return Made{}, asShot("a JPEG of it goes beside")
	case plan.JPEG:
	default:
		return Made{}, asShot("HEIC is not written here; it would become a JPEG with format: jpeg")
	}
	head, err := readHEIF(src.F, src.Size)
	if err != nil {
		return Made{}, asShot("it cannot be read as a picture: %v", err)
	}
	img, err := HEIC(ctx, src)
	if err != nil {
		return Made{}, err
	}
	facts := readFacts(head.segments())
	facts.orientation = 1 // it was turned as it was decoded
	colours, err := want.conversion(facts.profile())
	if err != nil {
		return Made{}, err
	}
	b := img.Bounds()
	made := Made{From: Pixels{head.w, head.h}}
	made.Pixels = want.size(Pixels{b.Dx(), b.Dy()})
	out.most = math.MaxInt64
	return asJPEG(ctx, img, made, want, facts, colours, out)
}

// heif is what is read of a HEIF file beside its samples (ISO/IEC 23008-12).
type heif struct {
	w, h      int // of the main picture, as it is seen
	exif, xmp []byte
	profile   []byte
}

// segments are its facts as a JPEG has them.
func (h heif) segments() (all []segment) {
	if h.exif != nil {
		all = append(all, segment{markerAPP1, append([]byte(exifHead), h.exif...)})
	}
	if h.xmp != nil {
		all = append(all, segment{markerAPP1, append([]byte(xmpHead), h.xmp...)})
	}
	const most = 65_000
	n := (len(h.profile) + most - 1) / most
	for i := range min(n, 255) {
		part := h.profile[i*most : min(len(h.profile), (i+1)*most)]
		all = append(all, segment{markerAPP2, append([]byte(profileHead+string([]byte{byte(i + 1), byte(n)})), part...)})
	}
	return all
}

// Bounds on what is read of a HEIF file's header.
const (
	mostMeta  = 4 << 20
	mostItems = 1 << 14
	mostFact  = 1 << 20
)

var errHEIF = errors.New("its header is damaged")

// eachBox goes through the boxes of a part of a file (ISO/IEC 14496-12, 4.2).
func eachBox(b []byte, each func(kind string, content []byte)) error {
	for len(b) >= 8 {
		n, head := int64(binary.BigEndian.Uint32(b)), int64(8)
		if n == 1 && len(b) >= 16 {
			n, head = int64(binary.BigEndian.Uint64(b[8:])), 16
		}
		if n == 0 {
			n = int64(len(b))
		}
		if n < head || n > int64(len(b)) {
			return errHEIF
		}
		each(string(b[4:8]), b[head:n])
		b = b[n:]
	}
	return nil
}

// cursor reads numbers one after the other; what is not there reads as 0, and is told at the
// end.
type cursor struct {
	b     []byte
	short bool
}

func (c *cursor) number(bytes int) (n uint64) {
	if bytes > len(c.b) {
		c.short, c.b = true, nil
		return 0
	}
	for _, v := range c.b[:bytes] {
		n = n<<8 | uint64(v)
	}
	c.b = c.b[bytes:]
	return n
}

// within is what the header of a HEIF file says is in it.
type within struct {
	boxes map[string][]byte
	kinds map[uint64]string    // of its items; those of kinds that are not known are missing
	where map[uint64][2]uint64 // items that lie in one piece of the file: from where, and how long
}

// readWithin reads the header of a HEIF file.
func readWithin(f io.ReaderAt, size int64) (in within, err error) {
	meta, err := metaBox(f, size)
	if err != nil || len(meta) < 4 {
		return in, errors.Join(errHEIF, err)
	}
	in = within{boxes: map[string][]byte{}, kinds: map[uint64]string{}, where: map[uint64][2]uint64{}}
	if err := eachBox(meta[4:], func(kind string, content []byte) { in.boxes[kind] = content }); err != nil {
		return in, err
	}
	readItems(in.boxes["iinf"], in.kinds)
	readPlaces(in.boxes["iloc"], in.where)
	return in, nil
}

// content reads an item that lies in one piece and is no longer than facts may be; nil where
// it is none.
func (in within) content(f io.ReaderAt, size int64, item uint64) ([]byte, error) {
	at, there := in.where[item]
	if !there || at[1] > mostFact || at[1] > uint64(size) || at[0] > uint64(size)-at[1] {
		return nil, nil
	}
	content := make([]byte, at[1])
	if _, err := f.ReadAt(content, int64(at[0])); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading its facts: %w", err)
	}
	return content, nil
}

// tiffIn is where an Exif item's TIFF begins (ISO/IEC 23008-12, A.2.1: a number tells), -1
// where it has none.
func tiffIn(content []byte) int {
	if len(content) > 4 {
		if skip := uint64(binary.BigEndian.Uint32(content)); skip+4 < uint64(len(content)) {
			return int(skip + 4)
		}
	}
	return -1
}

func isXMP(content []byte) bool {
	return bytes.Contains(content[:min(len(content), 1024)], []byte("xmpmeta"))
}

// HEIFFrame tells the pixels of a HEIF file's picture, upright.
func HEIFFrame(f io.ReaderAt, size int64) (w, h int, err error) {
	is, err := readHEIF(f, size)
	return is.w, is.h, err
}

// readHEIF reads what a HEIF file tells of its picture.
func readHEIF(f io.ReaderAt, size int64) (h heif, err error) {
	in, err := readWithin(f, size)
	if err != nil {
		return h, err
	}
	var primary uint64
	var properties [][2]any // type and content
	var owns []uint64       // of the main picture, from 1
	if c := (cursor{b: in.boxes["pitm"]}); len(c.b) > 0 {
		version := c.number(1)
		c.number(3)
		primary = c.number(2 + 2*int(min(version, 1)))
	}
	err = eachBox(in.boxes["iprp"], func(kind string, content []byte) {
		switch kind {
		case "ipco":
			_ = eachBox(content, func(kind string, content []byte) { properties = append(properties, [2]any{kind, content}) })
		case "ipma":
			owns = append(owns, associated(content, primary)...)
		}
	})
	if err != nil {
		return h, err
	}
	turned := false
	for _, n := range owns {
		if n == 0 || n > uint64(len(properties)) {
			continue
		}
		kind, content := properties[n-1][0].(string), properties[n-1][1].([]byte)
		switch {
		case kind == "ispe" && len(content) >= 12:
			h.w, h.h = int(binary.BigEndian.Uint32(content[4:])), int(binary.BigEndian.Uint32(content[8:]))
		case kind == "irot" && len(content) > 0:
			turned = content[0]&1 == 1 // anticlockwise, in quarters (ISO/IEC 23008-12, 6.5.10)
		case kind == "colr" && len(content) > 4 && (string(content[:4]) == "prof" || string(content[:4]) == "rICC"):
			h.profile = content[4:]
		}
	}
	if h.w <= 0 || h.h <= 0 || h.w > 1<<16 || h.h > 1<<16 {
		return h, errors.New("its header does not tell its size")
	}
	if turned {
		h.w, h.h = h.h, h.w
	}
	for item, kind := range in.kinds {
		if kind != "Exif" && kind != "mime" {
			continue
		}
		content, err := in.content(f, size, item)
		if err != nil {
			return h, err
		}
		if at := tiffIn(content); kind == "Exif" && at > 0 {
			h.exif = content[at:]
		}
		if kind == "mime" && isXMP(content) {
			h.xmp = content
		}
	}
	return h, nil
}

// eachBoxAt goes through the boxes of a file: where the content of each begins, and how long
// that is.
func eachBoxAt(f io.ReaderAt, size int64, each func(kind string, from, long int64) error) error {
	head := make([]byte, 16)
	for at := int64(0); at+8 <= size; {
		if _, err := f.ReadAt(head, at); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		n, skip := int64(binary.BigEndian.Uint32(head)), int64(8)
		if n == 1 {
			n, skip = int64(binary.BigEndian.Uint64(head[8:])), 16
		}
		if n == 0 {
			n = size - at
		}
		if n < skip || n > size-at {
			return errHEIF
		}
		if err := each(string(head[4:8]), at+skip, n-skip); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// metaBox finds the box with the header.
func metaBox(f io.ReaderAt, size int64) (meta []byte, err error) {
	found := errors.New("found")
	err = eachBoxAt(f, size, func(kind string, from, long int64) error {
		if kind != "meta" {
			return nil
		}
		if long > mostMeta {
			return errors.New("its header is longer than one may be")
		}
		meta = make([]byte, long)
		if _, err := f.ReadAt(meta, from); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		return found
	})
	switch {
	case errors.Is(err, found):
		return meta, nil
	case err != nil:
		return nil, err
	}
	return nil, errHEIF
}

// readItems notes of which kind items are (ISO/IEC 14496-12, 8.11.6).
func readItems(iinf []byte, kinds map[uint64]string) {
	c := cursor{b: iinf}
	version := c.number(1)
	c.number(3)
	c.number(2 + 2*int(min(version, 1)))
	_ = eachBox(c.b, func(kind string, content []byte) { // what is damaged has no facts
		e := cursor{b: content}
		version := e.number(1)
		e.number(3)
		if kind != "infe" || version < 2 || len(kinds) > mostItems {
			return
		}
		id := e.number(2 + 2*int(min(version-2, 1)))
		e.number(2)
		if len(e.b) >= 4 {
			kinds[id] = string(e.b[:4])
		}
	})
}

// readPlaces notes where the items lie that lie in one piece of the file (ISO/IEC 14496-12,
// 8.11.3).
func readPlaces(iloc []byte, where map[uint64][2]uint64) {
	c := cursor{b: iloc}
	version := c.number(1)
	c.number(3)
	sizes := c.number(2)
	offset, length, base, index := int(sizes>>12), int(sizes>>8&15), int(sizes>>4&15), int(sizes&15)
	if version == 0 {
		index = 0
	}
	wide := 2
	if version == 2 {
		wide = 4
	}
	for n := c.number(wide); n > 0 && !c.short && len(where) < mostItems; n-- {
		id, method := c.number(wide), uint64(0)
		if version > 0 {
			method = c.number(2) & 15
		}
		c.number(2)
		from := c.number(base)
		extents := c.number(2)
		for k := uint64(0); k < extents && !c.short; k++ {
			c.number(index)
			at, long := c.number(offset), c.number(length)
			if extents == 1 && method == 0 && !c.short {
				where[id] = [2]uint64{from + at, long}
			}
		}
	}
}

// associated are the properties of an item, from 1 (ISO/IEC 14496-12, 8.11.14).
func associated(ipma []byte, item uint64) (list []uint64) {
	c := cursor{b: ipma}
	version := c.number(1)
	flags := c.number(3)
	for n := c.number(4); n > 0 && !c.short; n-- {
		id := c.number(2 + 2*int(min(version, 1)))
		for k := c.number(1); k > 0 && !c.short; k-- {
			var p uint64
			if flags&1 == 1 {
				p = c.number(2) & 0x7fff
			} else {
				p = c.number(1) & 0x7f
			}
			if id == item {
				list = append(list, p)
			}
		}
	}
	return list
}

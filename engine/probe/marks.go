package probe

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/bep/imagemeta"

	"yardtide/core/media"
)

// Marks reads what people gave a picture: its caption, rating and keywords, by XMP
// (ISO 16684-1), IPTC (IIM 4.2) and EXIF, in this order. What cannot be read tells
// nothing; the error is one of reading the file.
func Marks(f File, contentType string) (m media.Marks, err error) {
	format, known := exifFormats[contentType]
	if !known {
		return m, nil
	}
	var xmp, iptc, exif media.Marks
	gps := map[string]any{}
	file := &pages{f: f}
	defer file.letGo()
	sources := imagemeta.EXIF | imagemeta.IPTC | imagemeta.XMP
	if contentType == "image/png" {
		sources = imagemeta.EXIF
	}
	err = decode(imagemeta.Options{
		R: file, ImageFormat: format, Sources: sources,
		ShouldHandleTag: func(tag imagemeta.TagInfo) bool { return markTags[tag.Tag] },
		HandleXMP: func(r io.Reader) error {
			packet, err := io.ReadAll(io.LimitReader(r, mostXMP))
			if err == nil {
				xmp = over(xmp, XMP(packet))
			}
			return err
		},
		HandleTag: func(tag imagemeta.TagInfo) error {
			into := &exif
			if tag.Source == imagemeta.IPTC {
				into = &iptc
			}
			switch tag.Tag {
			case "Caption-Abstract", "ImageDescription":
				if s, is := tag.Value.(string); is && into.Caption == "" && !isDefault(s) {
					into.Caption = cleaned(s)
				}
			case "GPSLatitude", "GPSLongitude", "GPSLatitudeRef", "GPSLongitudeRef":
				if tag.Source == imagemeta.EXIF {
					gps[tag.Tag] = tag.Value
				}
			case "Rating":
				if n, is := number(tag.Value); is {
					into.Rating = stars(n)
				}
			case "Keywords":
				switch v := tag.Value.(type) {
				case string:
					into.Keywords = append(into.Keywords, cleaned(v))
				case []string:
					for _, s := range v {
						into.Keywords = append(into.Keywords, cleaned(s))
					}
				}
			}
			return nil
		},
	})
	var read readError
	if errors.As(err, &read) {
		return m, fmt.Errorf("reading the marks: %w", read.err)
	}
	exif.Position = position(gps)
	return over(exif, over(iptc, xmp)), nil
}

// position is where a picture was taken (EXIF 2.32, 4.6.6), nil where that is not told, or cannot be.
func position(gps map[string]any) *media.Position {
	lat, north := degrees(gps["GPSLatitude"], gps["GPSLatitudeRef"], "S")
	lon, east := degrees(gps["GPSLongitude"], gps["GPSLongitudeRef"], "W")
	at := media.Position{Lat: lat, Lon: lon}
	if !north || !east || !at.Is() {
		return nil
	}
	return &at
}

// degrees is an angle, less than zero on the other side of the earth.
func degrees(value, ref any, other string) (angle float64, is bool) {
	angle, is = value.(float64)
	if side, told := ref.(string); told && strings.EqualFold(strings.Trim(side, "\x00 "), other) && angle > 0 {
		angle = -angle
	}
	return angle, is
}

var markTags = map[string]bool{"Caption-Abstract": true, "ImageDescription": true, "Rating": true, "Keywords": true,
	"GPSLatitude": true, "GPSLongitude": true, "GPSLatitudeRef": true, "GPSLongitudeRef": true}

// Bounds on what is read of marks.
const (
	mostXMP      = 1 << 20
	mostCaption  = 2000 // bytes
	mostKeywords = 200
	mostDepth    = 64
	mostStars    = 5
)

// over is marks with those of a better source in their place.
func over(m, better media.Marks) media.Marks {
	if better.Caption != "" {
		m.Caption = better.Caption
	}
	if better.Rating > 0 {
		m.Rating = better.Rating
	}
	if better.Position != nil {
		m.Position = better.Position
	}
	if !better.Keeper.Nothing() {
		m.Keeper = better.Keeper
	}
	m.Keywords = append(m.Keywords, better.Keywords...)
	m.Keywords = m.Keywords[:min(len(m.Keywords), mostKeywords)]
	return m
}

// Over is an item's marks with those of its sidecar in their place.
func Over(m, sidecar media.Marks) media.Marks { return over(m, sidecar) }

// isDefault tells a description that cameras write by themselves into every picture.
func isDefault(s string) bool {
	return strings.Contains(strings.ToUpper(s), "DIGITAL CAMERA") || strings.EqualFold(strings.TrimSpace(s), "default")
}

func cleaned(s string) string {
	s = strings.TrimSpace(strings.ToValidUTF8(strings.Trim(s, "\x00"), "�"))
	return strings.ToValidUTF8(s[:min(len(s), mostCaption)], "")
}

func stars(n int) int {
	if n < 0 || n > mostStars { // some write percent
		return 0
	}
	return n
}

// The namespaces of what is read (ISO 16684-1, 7 and 8).
const (
	nsRDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
	nsDC  = "http://purl.org/dc/elements/1.1/"
	nsXMP = "http://ns.adobe.com/xap/1.0/"
)

// XMP reads the marks of an XMP packet or a sidecar. What is damaged tells what stands
// before.
func XMP(packet []byte) (m media.Marks) {
	d := xml.NewDecoder(bytes.NewReader(packet[:min(len(packet), mostXMP)]))
	d.Strict = true
	var path []xml.Name
	var said strings.Builder
	within := func(space, local string) bool {
		for _, n := range path {
			if n.Space == space && n.Local == local {
				return true
			}
		}
		return false
	}
	rate := func(s string) {
		if n, err := strconv.ParseFloat(strings.TrimSpace(s), 64); err == nil {
			m.Rating = stars(int(n))
		}
	}
	for {
		token, err := d.Token()
		if err != nil {
			m.Keeper = m.Keeper.Sound()
			return m
		}
		switch t := token.(type) {
		case xml.StartElement:
			if path = append(path, t.Name); len(path) > mostDepth {
				m.Keeper = m.Keeper.Sound()
				return m
			}
			said.Reset()
			for _, a := range t.Attr {
				switch {
				case a.Name.Space == nsXMP && a.Name.Local == "Rating":
					rate(a.Value)
				case a.Name.Space == nsKeeper && a.Name.Local == "Marked":
					m.Keeper.Marked = a.Value == "True"
				case a.Name.Space == nsKeeper && a.Name.Local == "Hidden":
					m.Keeper.Hidden = a.Value == "True"
				}
			}
		case xml.CharData:
			if said.Len() < mostCaption {
				said.Write(t)
			}
		case xml.EndElement:
			text, item := cleaned(said.String()), t.Name.Space == nsRDF && t.Name.Local == "li"
			switch {
			case t.Name.Space == nsXMP && t.Name.Local == "Rating":
				rate(text)
			case t.Name.Space == nsKeeper && t.Name.Local == "Note":
				m.Keeper.Note = text
			case item && text != "" && len(m.Keeper.Sets) < media.MostSets && within(nsKeeper, "Sets"):
				m.Keeper.Sets = append(m.Keeper.Sets, text)
			case item && text != "" && m.Caption == "" && within(nsDC, "description"):
				m.Caption = text
			case item && text != "" && len(m.Keywords) < mostKeywords && within(nsDC, "subject"):
				m.Keywords = append(m.Keywords, text)
			}
			said.Reset()
			if len(path) > 0 {
				path = path[:len(path)-1]
			}
		}
	}
}

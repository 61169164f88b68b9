// Package media knows the kinds of files a household keeps and which content
// types belong to them. It reads no file: engine/probe finds the content type.
package media

import (
	"math"
	"slices"
	"strings"
	"time"
)

// Kind is what a rule takes: what sort of thing a file holds, by its content.
type Kind string

// The kinds a plan may name. Everything is all of them, and stands in a plan only.
const (
	Photo      Kind = "photo"    // a picture that a camera took, or that says nothing else
	Raw        Kind = "raw"      // what a camera's sensor saw, not developed
	Graphic    Kind = "graphic"  // screenshots and drawings: PNG, GIF and the like without camera facts
	Video      Kind = "video"    // moving pictures
	Audio      Kind = "audio"    // sound alone
	Document   Kind = "document" // text, sheets, slides, drawings made of lines
	Other      Kind = "other"    // whatever else
	Everything Kind = "everything"
)

// Kinds lists every kind that a file can be of, in the order in which they are shown.
var Kinds = []Kind{Photo, Raw, Graphic, Video, Audio, Document, Other}

// Versions are the kinds of which a closed library may hold smaller versions.
var Versions = []Kind{Photo, Graphic, Video}

// CacheTag is a file that says that its folder is a cache (the Cache Directory Tagging Specification 0.6).
const CacheTag = "CACHEDIR.TAG"

// Pictures are the kinds that were one, photo, before they were told apart.
var Pictures = []Kind{Photo, Raw, Graphic}

// Singular is what one of a kind is called.
func (k Kind) Singular() string { return strings.TrimSuffix(k.Plural(), "s") }

// Plural is what several of a kind are called.
func (k Kind) Plural() string {
	switch k {
	case Raw:
		return "raw files"
	case Audio:
		return "sound files"
	case Other:
		return "other files"
	case Everything:
		return "everything"
	}
	return string(k) + "s"
}

// raws are the content types of raw files; those inside TIFF are told by their header
// (engine/probe) and called image/x-raw.
var raws = []string{"image/x-raw", "image/x-canon-cr2", "image/x-canon-cr3", "image/x-fuji-raf", "image/x-olympus-orf",
	"image/x-panasonic-rw2"}

// drawn are the types that screenshots and drawings have, and cameras hardly ever.
var drawn = []string{"image/png", "image/apng", "image/vnd.mozilla.apng", "image/gif", "image/bmp", "image/x-bmp",
	"image/x-ms-bmp", "image/webp", "image/x-xcf", "image/vnd.adobe.photoshop", "image/x-psd"}

// KindOf tells the kind of a content type (RFC 6838, lower case, parameters allowed).
// camera tells whether the header has facts that only a camera writes. "" is for no
// content type at all.
func KindOf(contentType string, camera bool) Kind {
	base, _, _ := strings.Cut(contentType, ";")
	base = strings.ToLower(strings.TrimSpace(base))
	family, of, two := strings.Cut(base, "/")
	switch {
	case !two:
		return ""
	case slices.Contains(raws, base):
		return Raw
	case slices.Contains(drawn, base) && !camera:
		return Graphic
	case base == "image/svg+xml" || family == "text" || family == "application" && written(of):
		return Document
	case base == "image/x-icon" || base == "image/vnd.microsoft.icon" || base == "image/x-icns":
		return Other
	case family == "image":
		return Photo
	case family == "video" || strings.HasPrefix(of, "vnd.rn-realmedia"):
		return Video
	case family == "audio":
		return Audio
	}
	return Other
}

// written tells the application types that people write, read and print.
func written(of string) bool {
	for _, begins := range []string{"pdf", "rtf", "epub", "msword", "msexcel", "mspowerpoint", "postscript", "onenote",
		"vnd.oasis.opendocument.", "vnd.openxmlformats-officedocument.", "vnd.ms-excel", "vnd.ms-powerpoint", "vnd.ms-word",
		"vnd.ms-publisher", "vnd.ms-visio", "vnd.ms-outlook", "vnd.sun.xml.", "vnd.wordperfect", "vnd.lotus-",
		"x-mobipocket", "gpx", "geo+json", "vnd.google-earth.", "json", "xml", "xhtml"} {
		if strings.HasPrefix(of, begins) {
			return true
		}
	}
	return false
}

// TimeFrom says where a capture time was found, so that a guess never looks
// like a fact.
type TimeFrom string

// The places a capture time comes from, best first.
const (
	FromHeader   TimeFrom = "header"    // written by the camera, with its zone
	FromHeaderNZ TimeFrom = "header-nz" // written by the camera, zone assumed
	FromFile     TimeFrom = "file"      // the file's modification time
)

// Marks are what people gave an item in whatever program they like.
type Marks struct {
	Caption  string
	Rating   int // stars, 0 for none
	Keywords []string
	// Position is where it was taken, nil where its header does not tell.
	Position *Position
	// Keeper is what the keeper said, in a sidecar.
	Keeper Keeper
}

// Position is a point on the earth, in degrees (WGS 84).
type Position struct {
	Lat float64 `json:"lat"`
	Lon float64 `json:"lon"`
}

// Is tells whether there is such a point; 0, 0 is what receivers write that know nothing yet.
func (p Position) Is() bool {
	return math.Abs(p.Lat) <= 90 && math.Abs(p.Lon) <= 180 && (p.Lat != 0 || p.Lon != 0)
}

// Facts is what the header of a media file tells.
type Facts struct {
	ContentType string
	Kind        Kind
	TakenAt     time.Time // in the zone of the place where it was taken
	TakenFrom   TimeFrom
	// Seconds is how long a clip lasts; 0 when its header does not tell.
	Seconds int64
	// Pair is what the camera wrote into a still and its clip alike, "" for nothing.
	Pair   string
	Camera string // its model, "" when the header does not tell
}

// Package media knows the kinds of media a household keeps and which content
// types belong to them. It reads no file: engine/probe finds the content type.
package media

import (
	"strings"
	"time"
)

// Kind is what a rule takes: a photo or a video.
type Kind string

// The kinds a plan may name.
const (
	Photo Kind = "photo"
	Video Kind = "video"
)

// Kinds lists every kind, in the order in which they are shown.
var Kinds = []Kind{Photo, Video}

// KindOf tells the kind of a content type (RFC 6838, lower case, parameters
// allowed); ok is false for what is not media. Vector images and the like are
// documents, not photos.
func KindOf(contentType string) (kind Kind, ok bool) {
	base, _, _ := strings.Cut(contentType, ";")
	base = strings.ToLower(strings.TrimSpace(base))
	switch {
	case base == "image/svg+xml" || base == "image/x-icon" || base == "image/vnd.microsoft.icon":
		return "", false
	case strings.HasPrefix(base, "image/"):
		return Photo, true
	case strings.HasPrefix(base, "video/"):
		return Video, true
	}
	return "", false
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

// Facts is what the header of a media file tells.
type Facts struct {
	ContentType string
	Kind        Kind
	TakenAt     time.Time // in the zone of the place where it was taken
	TakenFrom   TimeFrom
}

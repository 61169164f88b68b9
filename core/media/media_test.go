package media_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/core/media"
)

func TestKindOf(t *testing.T) {
	for contentType, want := range map[string]media.Kind{
		"image/jpeg": media.Photo, "image/heic": media.Photo, "image/tiff": media.Photo,
		"image/png": media.Graphic, "IMAGE/GIF ; q=1": media.Graphic, "image/webp": media.Graphic,
		"image/x-canon-cr3": media.Raw, "image/x-raw": media.Raw,
		"video/mp4": media.Video, "video/quicktime": media.Video, "audio/mpeg": media.Audio,
		"image/svg+xml": media.Document, "application/pdf": media.Document, "text/plain; charset=utf-8": media.Document,
		"application/vnd.oasis.opendocument.text": media.Document, "application/zip": media.Other,
		"image/x-icon": media.Other, "font/woff2": media.Other,
		"": "", "imagejpeg": "",
	} {
		assert.Equal(t, want, media.KindOf(contentType, false), contentType)
	}
	assert.Equal(t, media.Photo, media.KindOf("image/png", true), "a camera's PNG is a photo")
	assert.Equal(t, media.Raw, media.KindOf("image/x-raw", true))
}

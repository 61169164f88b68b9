package media_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/core/media"
)

func TestKindOf(t *testing.T) {
	for contentType, want := range map[string]media.Kind{
		"image/jpeg": media.Photo, "image/heic": media.Photo, "image/png": media.Photo, "IMAGE/PNG ; q=1": media.Photo,
		"video/mp4": media.Video, "video/quicktime": media.Video,
		"image/svg+xml": "", "application/pdf": "", "text/plain; charset=utf-8": "", "": "", "imagejpeg": "",
	} {
		kind, ok := media.KindOf(contentType)
		assert.Equal(t, want, kind, contentType)
		assert.Equal(t, want != "", ok, contentType)
	}
}

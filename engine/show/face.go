package show

import (
	"context"
	"io"
	"path/filepath"
	"time"

	"yardtide/core/media"
	"yardtide/engine/face"
	"yardtide/engine/records"
	"yardtide/engine/source"
)

// faceTime is how long making a small picture may take, whatever the disk does.
const faceTime = 30 * time.Second

// Face is a small picture of an item, as JPEG. The error is records.NoItem for a key
// that is none, face.ErrNone where there is nothing to show, face.ErrAway while its
// file cannot be read, and face.ErrBusy.
func (s *Show) Face(ctx context.Context, key string) ([]byte, error) {
	it, err := s.Records.Catalogue.ByKey(ctx, key)
	if err != nil {
		return nil, err
	}
	if s.Faces == nil {
		return nil, face.ErrNone
	}
	return s.Faces.Of(ctx, key, it.Kind, func(ctx context.Context) ([]byte, error) {
		ctx, cancel := context.WithTimeoutCause(ctx, faceTime, face.ErrAway)
		defer cancel()
		f, err := s.open(ctx, it)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		if it.Kind == media.Video {
			return face.Clip(ctx, s.pathOf(it), it.ContentType)
		}
		return face.Picture(ctx, io.NewSectionReader(f, 0, it.Size), it.ContentType, it.Size)
	})
}

// Whole opens the file of an item, as it is on the device. The error is face.ErrAway while it cannot be read, or is another.
func (s *Show) Whole(ctx context.Context, key string) (*source.File, records.Item, error) {
	it, err := s.Records.Catalogue.ByKey(ctx, key)
	if err != nil {
		return nil, it, err
	}
	if it.GoneMS != 0 {
		return nil, it, face.ErrAway
	}
	f, err := s.open(ctx, it)
	return f, it, err
}

// open opens the file of an item. The error is face.ErrAway where it cannot be read, is another, or was not yet looked at
// anew.
func (s *Show) open(ctx context.Context, it records.Item) (*source.File, error) {
	f, err := source.Open(ctx, s.pathOf(it))
	if err != nil {
		return nil, face.ErrAway
	}
	if now, err := f.Stamp(); err != nil || !source.Same(now, it) {
		f.Close()
		return nil, face.ErrAway
	}
	return f, nil
}

// pathOf is where the file of an item lies on the device.
func (s *Show) pathOf(it records.Item) string {
	return filepath.Join(s.Folder(it.Source), filepath.FromSlash(it.Path()))
}

package service

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/bringback"
	"yardtide/engine/face"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/source"
	"yardtide/engine/tell"
)

// This file opens items whole: from their device where it is this process's, and from a place where it is not.

// Whole is an item's main file that is being read.
type Whole struct {
	io.ReadCloser
	Name     string
	Path     string // on its device, from the source on
	Bytes    int64
	Modified time.Time
	Reduced  bool // only a smaller copy is anywhere
}

// ErrCosts tells that an item would come over a network that may cost.
var ErrCosts = errors.New("it would come over a network that may cost")

// opener opens items of a device of this process.
type opener interface {
	Whole(ctx context.Context, key string) (*source.File, records.Item, error)
}

// file is a file on a device, which is closed as all are.
type file struct{ *source.File }

func (f file) Close() error {
	f.File.Close()
	return nil
}

// Whole opens an item. The error is records.NoItem for one that is none, bringback.ErrNoCopy where it can be read nowhere,
// and ErrCosts unless it may cost.
func (s *Service) Whole(ctx context.Context, d Device, key string, mayCost bool) (Whole, error) {
	if o, is := d.Shows.(opener); is {
		f, it, err := o.Whole(ctx, key)
		if err == nil {
			return Whole{file{f}, it.Name, it.FullPath(), it.Size, time.Unix(0, it.MTime), false}, nil
		}
		if !errors.Is(err, face.ErrAway) {
			return Whole{}, err
		}
	}
	id, err := records.NumberOf(key)
	if err != nil {
		return Whole{}, err
	}
	list, err := d.Finds.Lying(ctx, []int64{id})
	if err != nil {
		return Whole{}, err
	}
	if len(list) == 0 || list[0].Key != key {
		return Whole{}, records.NoItem{Key: key}
	}
	return s.fromPlace(ctx, list[0], mayCost)
}

func (s *Service) fromPlace(ctx context.Context, l tell.Lying, mayCost bool) (Whole, error) {
	f := l.Files[0]
	s.Bringing.Nearest(l.Files)
	if len(f.Copies) > 0 && !mayCost && s.Book.PlanOrEmpty().Destinations[f.Copies[0].Destination].Kind != plan.Folder {
		costs, err := s.mayCost(ctx)
		if err != nil {
			return Whole{}, err
		}
		if costs {
			return Whole{}, ErrCosts
		}
	}
	r, from, err := bringback.Read(ctx, f.Copies, s.drivers.get)
	if err != nil {
		return Whole{}, err
	}
	name := path.Base(f.Path)
	if from.Reduced {
		name = bringback.Smaller(name, from.Path)
	}
	return Whole{r, name, path.Join(l.Source, f.Path), from.Bytes, f.Modified, from.Reduced}, nil
}

// mostFaced is how large a file may be that is fetched for its small picture.
const mostFaced = 48 << 20

// Face is a small picture of an item: of its device, and of a place where its file is there no longer. The errors are those
// of link.Shower.
func (s *Service) Face(ctx context.Context, d Device, key string) ([]byte, error) {
	picture, err := d.Shows.Face(ctx, key)
	if !errors.Is(err, face.ErrAway) {
		return picture, err
	}
	id, err := records.NumberOf(key)
	if err != nil {
		return nil, err
	}
	items, err := d.Finds.ItemsOf(ctx, []int64{id})
	if err != nil {
		return nil, err
	}
	if len(items) == 0 || items[0].Key != key {
		return nil, records.NoItem{Key: key}
	}
	return s.faces.Of(ctx, "place-"+key, media.Kind(items[0].Kind), func(ctx context.Context) ([]byte, error) {
		return s.faceFromPlace(ctx, d, key)
	})
}

// faceFromPlace makes the small picture of an item from a place.
func (s *Service) faceFromPlace(ctx context.Context, d Device, key string) (picture []byte, err error) {
	w, err := s.Whole(ctx, d, key, false)
	if err != nil || w.Bytes > mostFaced {
		if err == nil {
			err = w.Close()
		}
		return nil, errors.Join(face.ErrAway, err)
	}
	f, err := os.CreateTemp(s.Dir, "face-*")
	if err != nil {
		return nil, errors.Join(err, w.Close())
	}
	defer func() { err = errors.Join(err, f.Close(), os.Remove(f.Name())) }()
	_, err = io.Copy(f, w)
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, errors.Join(face.ErrAway, err)
	}
	facts, err := probe.Read(io.NewSectionReader(f, 0, w.Bytes), w.Bytes, w.Modified, time.UTC)
	if err != nil {
		return nil, face.ErrNone
	}
	if facts.Kind == media.Video {
		return face.Clip(ctx, f.Name(), facts.ContentType)
	}
	return face.Picture(ctx, io.NewSectionReader(f, 0, w.Bytes), facts.ContentType, w.Bytes)
}

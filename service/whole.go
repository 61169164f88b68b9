package service

import (
	"context"
	"errors"
	"io"
	"path"
	"time"

	"yardtide/core/plan"
	"yardtide/engine/bringback"
	"yardtide/engine/face"
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
	list, err := d.Told.Lying(ctx, []int64{id})
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

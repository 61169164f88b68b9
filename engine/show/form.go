package show

import (
	"cmp"
	"context"
	"errors"
	"io"
	"path/filepath"
	"time"

	"yardtide/core/forecast"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/face"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/source"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file shows the keeper their own pictures in another form, before it is chosen.

const (
	compareTime = 40 * time.Second
	sampleTime  = 40 * time.Second
	sampleSize  = 24
	clipSample  = 3   // clips of which a piece is made
	clipPiece   = 2.5 // seconds
)

// CompareForm shows an item as shot and in a form, and the same detail of both around a
// point. The errors are those of Face.
func (s *Show) CompareForm(ctx context.Context, key string, r plan.Rendition, x,
	y float64) (planwire.FormCompared, error) {
	it, err := s.Records.Catalogue.ByKey(ctx, key)
	if err != nil {
		return planwire.FormCompared{}, err
	}
	return s.compare(ctx, it.Name, r, x, y, func(do func(rendition.Source) error) error { return s.WithPicture(ctx, it, do) })
}

// compare shows a picture that with opens as shot and in a form.
func (s *Show) compare(ctx context.Context, name string, r plan.Rendition, x, y float64,
	with func(do func(rendition.Source) error) error) (planwire.FormCompared, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, compareTime, face.ErrAway)
	defer cancel()
	select {
	case s.comparing <- struct{}{}:
		defer func() { <-s.comparing }()
	case <-ctx.Done():
		return planwire.FormCompared{}, context.Cause(ctx)
	}
	var c rendition.Compared
	err := with(func(src rendition.Source) (err error) {
		c, err = rendition.Compare(ctx, src, r, x, y)
		return err
	})
	var as rendition.AsShot
	if errors.As(err, &as) {
		return planwire.FormCompared{}, face.ErrNone
	}
	form := func(f rendition.Shown) planwire.FormSize {
		return planwire.FormSize{Width: f.W, Height: f.H, Bytes: f.Bytes}
	}
	return planwire.FormCompared{Name: name, AsShot: form(c.AsShot), Made: form(c.Made), Why: c.Why, Before: c.Before,
		After: c.After}, err
}

// SampleFiles makes forms of some pictures in a folder that was looked at, by the names of the forms, and tells what
// came of them. What cannot be read says nothing. The error is that of the context.
func (s *Show) SampleFiles(ctx context.Context, files []string,
	forms map[string]plan.Rendition) (map[string][]forecast.Sample, error) {
	made := map[string][]forecast.Sample{}
	end := time.Now().Add(sampleTime)
	for _, file := range files {
		for name, r := range forms {
			if ctx.Err() != nil {
				return made, context.Cause(ctx)
			}
			if len(made[name]) > 0 && time.Now().After(end) {
				continue // fewer say less, and that is told; none would say nothing
			}
			err := withFile(ctx, file, func(src rendition.Source) error {
				one := forecast.Sample{Before: src.Size, After: src.Size}
				m, err := rendition.Reduce(ctx, src, r, io.Discard)
				var as rendition.AsShot
				switch {
				case err == nil:
					one.After = min(m.Whole(), src.Size)
				case !errors.As(err, &as):
					return err
				}
				made[name] = append(made[name], one)
				return nil
			})
			if err != nil && ctx.Err() != nil {
				return made, context.Cause(ctx)
			}
		}
	}
	return made, nil
}

// CompareFile shows a picture in a folder that was looked at as shot and in a form, and the same detail of both. The
// errors are those of Face.
func (s *Show) CompareFile(ctx context.Context, file string, r plan.Rendition) (planwire.FormCompared, error) {
	return s.compare(ctx, filepath.Base(file), r, 0.5, 0.5, func(do func(rendition.Source) error) error { return withFile(ctx, file, do) })
}

// withFile opens a picture.
func withFile(ctx context.Context, file string, do func(rendition.Source) error) error {
	f, err := source.Open(ctx, file)
	if err != nil {
		return face.ErrAway
	}
	defer f.Close()
	stamp, err := f.Stamp()
	if err != nil {
		return face.ErrAway
	}
	in := io.NewSectionReader(f, 0, stamp.Size)
	facts, err := probe.Read(in, stamp.Size, time.Time{}, time.UTC)
	if err != nil {
		return face.ErrAway
	}
	return do(rendition.Source{F: in, Size: stamp.Size, ContentType: facts.ContentType, Path: file, Piece: clipPiece})
}

// WithPicture opens an item's file, if it is still the one that was found.
func (s *Show) WithPicture(ctx context.Context, it records.Item, do func(rendition.Source) error) error {
	f, err := s.open(ctx, it)
	if err != nil {
		return err
	}
	defer f.Close()
	return do(rendition.Source{F: io.NewSectionReader(f, 0, it.Size), Size: it.Size, ContentType: it.ContentType,
		Path: s.pathOf(it), Piece: clipPiece})
}

// SampleForm makes a form of a few items of a kind that a rule takes, chosen at random, most of them at
// most (0: as many as tell it well), and tells what came of them, and how many there are.
func (s *Show) SampleForm(ctx context.Context, rule string, kind media.Kind,
	r plan.Rendition, most int) (planwire.FormSample, error) {
	n, bytes, err := s.Records.Catalogue.OfRule(ctx, rule, kind)
	if err != nil {
		return planwire.FormSample{}, err
	}
	sample := planwire.FormSample{Amount: wire.Amount{N: n, Bytes: bytes}, Samples: []forecast.Sample{}}
	size := sampleSize
	if kind == media.Video {
		size = clipSample
	}
	items, err := s.Records.Catalogue.SomeItems(ctx, rule, kind, cmp.Or(max(0, min(most, size)), size))
	if err != nil {
		return sample, err
	}
	end := time.Now().Add(sampleTime)
	for _, it := range items {
		if len(sample.Samples) > 0 && time.Now().After(end) {
			break // fewer say less, and that is told
		}
		made := it.Size
		err := s.WithPicture(ctx, it, func(src rendition.Source) error {
			m, err := rendition.Reduce(ctx, src, r, io.Discard)
			if err == nil {
				made = min(m.Whole(), it.Size)
			}
			return err
		})
		var as rendition.AsShot
		switch {
		case ctx.Err() != nil:
			return sample, context.Cause(ctx)
		case errors.Is(err, face.ErrAway): // it says nothing
			continue
		case err != nil && !errors.As(err, &as):
			return sample, err
		}
		sample.Samples = append(sample.Samples, forecast.Sample{Before: it.Size, After: made})
	}
	return sample, nil
}

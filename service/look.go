package service

import (
	"context"
	"errors"
	"maps"
	"path/filepath"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/face"
	"yardtide/service/jobs"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// ErrNoPicture tells that a look has no picture of a number.
var ErrNoPicture = errors.New("there is no such picture")

// Look begins to look at a folder of a device.
func (s *Service) Look(d Device, o wire.LookOrder) (wire.Job, error) {
	var set *plan.Source
	if o.Set != nil {
		asked := maps.Clone(o.Set)
		asked["folder"] = o.Folder
		one, err := plantext.ReadSource(asked)
		if err != nil {
			return wire.Job{}, err
		}
		set = &one
	}
	begun := wire.Job{Kind: wire.JobLook, Says: "It is looked at."}
	return s.Jobs.Begin(begun, true, func(ctx context.Context, tell func(func(*wire.Job))) error {
		return d.Shows.Look(ctx, o.Folder, set, func(l wire.Look) {
			tell(func(is *wire.Job) { jobs.TellLook(is, l) })
		})
	})
}

// LookPicture is a small picture that a look found, as JPEG.
func (s *Service) LookPicture(ctx context.Context, device func(name string) (Device, error), id string,
	n int) ([]byte, error) {
	d, file, err := s.lookedAt(device, id, n)
	if err != nil {
		return nil, err
	}
	return d.Shows.PictureAt(ctx, file)
}

// lookedAt is where a picture lies that a look found, and the device.
func (s *Service) lookedAt(device func(name string) (Device, error), id string, n int) (d Device, file string, err error) {
	job, err := s.Jobs.Get(id)
	if err != nil {
		return d, "", err
	}
	if job.Look == nil || n < 0 || n >= len(job.Look.Pictures) {
		return d, "", ErrNoPicture
	}
	d, err = device(job.Look.Device)
	return d, filepath.Join(job.Look.Path, filepath.FromSlash(job.Look.Pictures[n].Path)), err
}

// CompareLooked shows a picture that a look found as shot and in a form.
func (s *Service) CompareLooked(ctx context.Context, device func(name string) (Device, error), id string, n int,
	form planwire.Form) (c planwire.FormCompared, err error) {
	r, err := s.Trials.formOf(form)
	if err != nil {
		return c, err
	}
	d, file, err := s.lookedAt(device, id, n)
	if err != nil {
		return c, err
	}
	if one, is := d.Shows.(sampler); is {
		return one.CompareFile(ctx, file, r)
	}
	return c, face.ErrNone
}

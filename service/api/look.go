package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/plantext"
	"yardtide/engine/face"
	"yardtide/service"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

func (s *Server) lookRoutes() {
	call(s, "usual-folders", http.MethodGet, "/devices/{device}/folders",
		"The folders in which people mostly keep their things, as far as a device has them",
		func(_ context.Context, in *struct {
			Device string `path:"device"`
		}) (*answer[[]wire.UsualFolder], error) {
			d, err := s.device(in.Device)
			if err != nil {
				return nil, err
			}
			return &answer[[]wire.UsualFolder]{d.Shows.Usual()}, nil
		})
	call(s, "browse", http.MethodGet, "/devices/{device}/browse",
		"The folders in a folder of a device, with the pictures and clips in each; 503 while it does not answer",
		func(ctx context.Context, in *struct {
			Device string `path:"device"`
			Folder string `query:"folder" maxLength:"4096" doc:"As the plan would name it; left out for the device's own folder"`
		}) (*answer[planwire.Browsed], error) {
			d, err := s.device(in.Device)
			if err != nil {
				return nil, err
			}
			b, err := d.Shows.Browse(ctx, in.Folder)
			return &answer[planwire.Browsed]{b}, err
		})
	call(s, "strays", http.MethodGet, "/devices/{device}/strays",
		"Look for pictures and clips of a device that no source takes up; 503 while it does not answer",
		func(ctx context.Context, in *struct {
			Device string `path:"device"`
		}) (*answer[wire.Strays], error) {
			d, err := s.device(in.Device)
			if err != nil {
				return nil, err
			}
			found, err := d.Shows.Strays(ctx)
			return &answer[wire.Strays]{found}, err
		})
	call(s, "look", http.MethodPost, "/looks",
		"Look at a folder: how much is in it, of what; a job that tells while it counts",
		func(_ context.Context, in *request[wire.LookOrder]) (*answer[wire.Job], error) {
			d, err := s.device(in.Body.Device)
			if err != nil {
				return nil, err
			}
			job, err := s.service.Look(d, in.Body)
			var wrong plantext.EditError
			if errors.As(err, &wrong) {
				return nil, huma.Error422UnprocessableEntity(wrong.Says)
			}
			return s.begun(job, err)
		})
	lookedRoutes(s)
}

// lookedRoutes are those of the pictures that a look found.
func lookedRoutes(s *Server) {
	call(s, "compare-looked", http.MethodPost, "/jobs/{id}/pictures/{n}/compare",
		"A picture that a look found as shot and in a form, and a detail of both",
		func(ctx context.Context, in *struct {
			ID   string `path:"id" maxLength:"20"`
			N    int    `path:"n" minimum:"0"`
			Body planwire.Form
		}) (*answer[planwire.FormCompared], error) {
			c, err := s.service.CompareLooked(ctx, s.device, in.ID, in.N, in.Body)
			switch {
			case errors.Is(err, service.ErrNoPicture):
				return nil, huma.Error404NotFound("There is no such picture.")
			case errors.Is(err, face.ErrNone):
				return nil, huma.Error422UnprocessableEntity("It is no picture that can be shown.")
			case errors.Is(err, face.ErrAway):
				return nil, huma.Error409Conflict("Its file cannot be read now.")
			}
			return &answer[planwire.FormCompared]{c}, destinationProblem(noJob(in.ID, err))
		})
	call(s, "look-picture", http.MethodGet, "/jobs/{id}/pictures/{n}",
		"A small picture that a look found, as JPEG; 202 while it is being made, 204 where there is none",
		func(ctx context.Context, in *struct {
			ID string `path:"id" maxLength:"20"`
			N  int    `path:"n" minimum:"0"`
		}) (*picture, error) {
			content, err := s.service.LookPicture(ctx, s.device, in.ID, in.N)
			if errors.Is(err, service.ErrNoPicture) {
				return nil, huma.Error404NotFound("There is no such picture.")
			}
			if err = noJob(in.ID, err); err != nil && !errors.Is(err, face.ErrBusy) && !errors.Is(err, face.ErrNone) &&
				!errors.Is(err, face.ErrAway) {
				return nil, err
			}
			return pictured(content, err)
		})
}

package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/service/jobs"
	"yardtide/wire"
)

type jobID struct {
	ID string `path:"id" maxLength:"20"`
}

func (s *Server) jobRoutes() {
	call(s, "prove", http.MethodPost, "/prove", "Begin to have the proofs of safe copies taken again",
		func(ctx context.Context, in *request[wire.ProveOrder]) (*answer[wire.Job], error) {
			if name := in.Body.Destination; name != "" {
				if _, err := s.service.Destinations.Detail(ctx, name); err != nil {
					return nil, s.noDestination(name, err)
				}
			}
			devices, err := s.devices(in.Body.Device)
			if err != nil {
				return nil, err
			}
			return s.begun(s.service.Prove(ctx, in.Body, devices))
		})
	call(s, "jobs", http.MethodGet, "/jobs",
		"Long work that was started: what runs and what ended lately, the newest first", func(context.Context,
			*struct{}) (*answer[[]wire.Job], error) {
			return &answer[[]wire.Job]{s.service.Jobs.All()}, nil
		})
	call(s, "job", http.MethodGet, "/jobs/{id}", "How far a job is",
		func(_ context.Context, in *jobID) (*answer[wire.Job], error) {
			job, err := s.service.Jobs.Get(in.ID)
			return &answer[wire.Job]{job}, noJob(in.ID, err)
		})
	call(s, "stop-job", http.MethodDelete, "/jobs/{id}", "Stop a job; one that ended stays as it is",
		func(_ context.Context, in *jobID) (*struct{}, error) {
			return nil, noJob(in.ID, s.service.Jobs.Stop(in.ID))
		})
}

// begun answers with a job that was begun.
func (s *Server) begun(job wire.Job, err error) (*answer[wire.Job], error) {
	if errors.Is(err, jobs.ErrTooMany) {
		return nil, huma.Error409Conflict(sentence(err))
	}
	return &answer[wire.Job]{job}, err
}

func noJob(id string, err error) error {
	if errors.Is(err, jobs.ErrNone) {
		return huma.Error404NotFound(fmt.Sprintf("There is no job %q; those that ended long ago are no longer told.", id))
	}
	return err
}

package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/service/setup"
	"yardtide/wire/planwire"
)

// setupCalls answer about the first plan, as it is made.
type setupCalls struct{ setup *setup.Setup }

func (s *Server) setupRoutes() {
	c := setupCalls{s.service.Setup}
	call(s, "setup", http.MethodGet, "/setup", "How far the first plan is, and what it would come to", c.now)
	call(s, "change-setup", http.MethodPatch, "/setup", "Change what is given of the first plan",
		func(ctx context.Context, in *request[planwire.SetupChange]) (*answer[planwire.SetupNow], error) {
			return c.then(ctx, c.setup.Change(in.Body))
		})
	call(s, "add-setup-place", http.MethodPost, "/setup/places", "Put a place that was tried into the first plan",
		func(ctx context.Context, in *request[planwire.SetupAdd]) (*answer[planwire.SetupNow], error) {
			return c.then(ctx, noJob(in.Body.Job, c.setup.AddPlace(in.Body)))
		})
	call(s, "remove-setup-place", http.MethodDelete, "/setup/places/{name}", "Take a place out of the first plan",
		func(ctx context.Context, in *named) (*answer[planwire.SetupNow], error) {
			return c.then(ctx, c.setup.RemovePlace(in.Name))
		})
	call(s, "start-setup", http.MethodPost, "/setup/start", "Put the first plan in force",
		func(ctx context.Context, in *request[planwire.SetupStart]) (*struct{}, error) {
			return nil, setupProblem(c.setup.Start(ctx, in.Body))
		})
}

func (c setupCalls) now(ctx context.Context, _ *struct{}) (*answer[planwire.SetupNow], error) {
	now, err := c.setup.Now(ctx)
	return &answer[planwire.SetupNow]{now}, err
}

// then answers with the set-up after a change.
func (c setupCalls) then(ctx context.Context, err error) (*answer[planwire.SetupNow], error) {
	if err != nil {
		return nil, setupProblem(err)
	}
	return c.now(ctx, nil)
}

func setupProblem(err error) error {
	var refused setup.Refused
	switch {
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(sentence(refused))
	case errors.Is(err, setup.ErrThere), errors.Is(err, setup.ErrStale):
		return huma.Error409Conflict(sentence(err))
	}
	return destinationProblem(err)
}

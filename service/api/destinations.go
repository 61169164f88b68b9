package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/plantext"
	"yardtide/engine/destination"
	"yardtide/engine/place"
	"yardtide/service"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

type named struct {
	Name string `path:"name"`
}

func (s *Server) destinationRoutes() {
	call(s, "try-destination", http.MethodPost, "/destinations/try",
		"Begin to try a destination step by step, leaving nothing behind",
		func(ctx context.Context, in *request[wire.Draft]) (*answer[wire.Job], error) {
			return s.begun(s.service.Destinations.Try(ctx, in.Body))
		})
	call(s, "browse-destination", http.MethodPost, "/destinations/browse",
		"What lies in a folder of a storage that is being set up",
		func(ctx context.Context, in *request[wire.Browse]) (*answer[wire.Listing], error) {
			listing, err := s.service.Destinations.Browse(ctx, in.Body)
			return &answer[wire.Listing]{listing}, storageProblem(err)
		})
	call(s, "add-destination", http.MethodPost, "/destinations", "Put a destination into the plan",
		func(ctx context.Context, in *request[wire.Draft]) (*answer[wire.DestinationDetail], error) {
			if err := s.service.Destinations.Add(ctx, in.Body); err != nil {
				return nil, destinationProblem(err)
			}
			detail, err := s.service.Destinations.Detail(ctx, in.Body.Name)
			return &answer[wire.DestinationDetail]{detail}, err
		})
	call(s, "destination", http.MethodGet, "/destinations/{name}", "All of one destination",
		func(ctx context.Context, in *named) (*answer[wire.DestinationDetail], error) {
			detail, err := s.service.Destinations.Detail(ctx, in.Name)
			return &answer[wire.DestinationDetail]{detail}, s.noDestination(in.Name, err)
		})
	call(s, "offers", http.MethodGet, "/destinations/{name}/offers",
		"What would help where the room at a destination runs out, each a change of the plan in figures; what fits first",
		func(ctx context.Context, in *named) (*answer[[]planwire.PlanOffer], error) {
			list, err := s.service.Trials.Offers(ctx, in.Name)
			return &answer[[]planwire.PlanOffer]{list}, s.noDestination(in.Name, err)
		})
	call(s, "test-destination", http.MethodPost, "/destinations/{name}/test", "Begin to try a destination of the plan",
		func(ctx context.Context, in *named) (*answer[wire.Job], error) {
			job, err := s.service.Destinations.Test(ctx, in.Name)
			return s.begun(job, s.noDestination(in.Name, err))
		})
	call(s, "settle-place", http.MethodPost, "/destinations/{name}/place",
		"Answer whether another place is the old one moved, or new", func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body wire.PlaceAnswer
		}) (*answer[wire.Count], error) {
			n, err := s.service.Destinations.SettlePlace(ctx, in.Name, in.Body.Is == "moved")
			var none place.NoQuestion
			if errors.As(err, &none) {
				return nil, huma.Error409Conflict(sentence(none))
			}
			return &answer[wire.Count]{wire.Count{N: n}}, s.noDestination(in.Name, storageProblem(err))
		})
	call(s, "remove-destination", http.MethodDelete, "/destinations/{name}",
		"Take a destination out of the plan; what is stored there stays",
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.noDestination(in.Name, destinationProblem(s.service.Destinations.Remove(ctx, in.Name)))
		})
	call(s, "set-secret", http.MethodPut, "/destinations/{name}/secret", "Keep a destination's password or key anew",
		func(_ context.Context, in *struct {
			Name string `path:"name"`
			Body wire.Secrets
		}) (*struct{}, error) {
			if (in.Body == wire.Secrets{}) {
				return nil, huma.Error422UnprocessableEntity("Give a password or a key.")
			}
			return nil, s.noDestination(in.Name, destinationProblem(s.service.Destinations.SetSecret(in.Name, in.Body)))
		})
	call(s, "adopt-destination", http.MethodPost, "/destinations/{name}/adopt",
		"Begin to list what was there before, so that it is not sent again",
		func(_ context.Context, in *named) (*answer[wire.Job], error) {
			job, err := s.service.Adopt(in.Name)
			return s.begun(job, s.noDestination(in.Name, err))
		})
}

// noDestination says which destinations there are when one was not found.
func (s *Server) noDestination(name string, err error) error {
	if !errors.Is(err, service.ErrNoDestination) {
		return err
	}
	var names []string
	if p := s.service.Book.Plan(); p != nil {
		for n := range p.Destinations {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	there := "it has none"
	if len(names) > 0 {
		there = "it has " + strings.Join(names, ", ")
	}
	return huma.Error404NotFound(fmt.Sprintf("The plan has no destination %q; %s.", name, there))
}

// destinationProblem writes why a destination cannot stand in the plan.
func destinationProblem(err error) error {
	var edit plantext.EditError
	var used service.InUse
	switch {
	case errors.As(err, &edit):
		return huma.Error409Conflict(edit.Says)
	case errors.As(err, &used):
		return huma.Error409Conflict(sentence(used))
	}
	return planProblem(err)
}

// storageProblem writes what a storage answered.
func storageProblem(err error) error {
	var own *destination.Error
	switch {
	case errors.As(err, &own):
		return huma.Error422UnprocessableEntity("The storage did not do it: " + own.Says)
	case errors.Is(err, destination.ErrNotFound):
		return huma.Error404NotFound("There is no such folder.")
	}
	return err
}

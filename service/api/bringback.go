package api

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/search"
	"yardtide/engine/records"
	"yardtide/service/library"
	"yardtide/wire"
	"yardtide/wire/bringwire"
)

// This file brings items back.

// mostBrought is how many items are brought back by one order.
const mostBrought = 200_000

func (s *Server) bringRoutes() {
	call(s, "bring-back-plan", http.MethodPost, "/bring-back/plan", "What bringing items back would take; nothing is begun",
		func(ctx context.Context, in *request[bringwire.BringAsked]) (*answer[bringwire.BringPlan], error) {
			refs, err := s.asked(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			p, err := s.service.Bringing.Plan(ctx, refs, in.Body)
			return &answer[bringwire.BringPlan]{p}, err
		})
	call(s, "bring-back", http.MethodPost, "/bring-back", "Begin to bring items back from the places at which they are safe",
		func(ctx context.Context, in *request[bringwire.BringAsked]) (*answer[wire.Job], error) {
			refs, err := s.asked(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return s.begun(s.service.Bringing.Begin(ctx, refs, in.Body))
		})
}

// asked are the items that an order names, or that its question finds.
func (s *Server) asked(ctx context.Context, a bringwire.BringAsked) ([]search.Ref, error) {
	if len(a.Items) > 0 {
		return refsOf(a.Items)
	}
	q, err := questionOf(a.Question)
	if err != nil {
		return nil, err
	}
	return s.service.Library.Refs(ctx, q, mostBrought)
}

// refsOf are items by their keys.
func refsOf(items []bringwire.BringRef) ([]search.Ref, error) {
	refs := make([]search.Ref, len(items))
	for i, it := range items {
		id, err := records.NumberOf(it.Key)
		if err != nil {
			return nil, err
		}
		refs[i] = search.Ref{Device: it.Device, ID: id}
	}
	return refs, nil
}

// questionOf reads a question that stands in a body, as huma reads it from a query.
func questionOf(said map[string]string) (library.Question, error) {
	q := FindQuery{}
	values := url.Values{}
	for name, value := range said {
		values.Set(name, value)
	}
	into := map[string]*string{"text": &q.Text, "device": &q.Device, "person": &q.Person, "folder": &q.Folder, "kind": &q.Kind,
		"camera": &q.Camera, "at": &q.At, "set": &q.Set, "from": &q.From, "to": &q.To, "where": &q.Where, "spot": &q.Spot}
	for name := range values {
		at, known := into[name]
		var err error
		switch {
		case known:
			*at = values.Get(name)
		case name == "rated":
			q.Rated, err = strconv.Atoi(values.Get(name))
		case name == "marked":
			q.Marked, err = strconv.ParseBool(values.Get(name))
		case name == "hidden":
			q.Hidden, err = strconv.ParseBool(values.Get(name))
		default:
			return library.Question{}, huma.Error422UnprocessableEntity("There is no such part of a question.",
				&huma.ErrorDetail{Location: "body.question." + name, Message: "is none; those of GET /library are"})
		}
		if err != nil {
			return library.Question{}, huma.Error422UnprocessableEntity("The question cannot be read.",
				&huma.ErrorDetail{Location: "body.question." + name, Message: err.Error()})
		}
	}
	if wrong := q.Resolve(nil); len(wrong) > 0 {
		return library.Question{}, huma.Error422UnprocessableEntity("The question cannot be read.", wrong...)
	}
	return q.question(), nil
}

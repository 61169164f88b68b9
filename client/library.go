package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yardtide/wire"
	"yardtide/wire/bringwire"
	"yardtide/wire/findwire"
)

// Library finds items among all that are known.
type Library struct{ c Client }

// Library is the part that finds items. Questions are queries as the API document has them: text, device, person,
// folder, kind, camera, at, set, rated, from, to, where, marked, hidden, spot.
func (c Client) Library() Library { return Library{c} }

// Find tells how much a question finds.
func (l Library) Find(ctx context.Context, q url.Values) (findwire.Found, error) {
	return ask[findwire.Found](ctx, l.c, http.MethodGet, "/library?"+q.Encode(), nil)
}

// List lists a part of what a question finds.
func (l Library) List(ctx context.Context, q url.Values, offset, limit int) (findwire.FoundList, error) {
	with := url.Values{"offset": {strconv.Itoa(offset)}, "limit": {strconv.Itoa(limit)}}
	for name, values := range q {
		with[name] = values
	}
	return ask[findwire.FoundList](ctx, l.c, http.MethodGet, "/library/items?"+with.Encode(), nil)
}

// Say changes what the keeper said of items, and tells of how many.
func (l Library) Say(ctx context.Context, a findwire.SayAsked) (findwire.Said, error) {
	return ask[findwire.Said](ctx, l.c, http.MethodPost, "/library/say", a)
}

// Bring brings items back from places.
type Bring struct{ c Client }

// Bring is the part that brings items back.
func (c Client) Bring() Bring { return Bring{c} }

// Plan tells what bringing back would take.
func (b Bring) Plan(ctx context.Context, a bringwire.BringAsked) (bringwire.BringPlan, error) {
	return ask[bringwire.BringPlan](ctx, b.c, http.MethodPost, "/bring-back/plan", a)
}

// Begin begins to bring items back.
func (b Bring) Begin(ctx context.Context, a bringwire.BringAsked) (wire.Job, error) {
	return ask[wire.Job](ctx, b.c, http.MethodPost, "/bring-back", a)
}

package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

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

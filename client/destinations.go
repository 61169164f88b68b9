package client

import (
	"context"
	"net/http"
	"net/url"

	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Destinations are the calls about destinations of the plan, and drafts of others.
type Destinations struct{ c Client }

// Destinations returns the calls about destinations of the plan, and drafts of others.
func (c Client) Destinations() Destinations { return Destinations{c} }

// Try begins to try a destination that is being set up.
func (of Destinations) Try(ctx context.Context, d wire.Draft) (wire.Job, error) {
	return ask[wire.Job](ctx, of.c, http.MethodPost, "/destinations/try", d)
}

// Browse asks what lies in a folder of a storage that is being set up.
func (of Destinations) Browse(ctx context.Context, b wire.Browse) (wire.Listing, error) {
	return ask[wire.Listing](ctx, of.c, http.MethodPost, "/destinations/browse", b)
}

// Add puts a destination into the plan.
func (of Destinations) Add(ctx context.Context, d wire.Draft) (wire.DestinationDetail, error) {
	return ask[wire.DestinationDetail](ctx, of.c, http.MethodPost, "/destinations", d)
}

// Detail asks for all of one destination.
func (of Destinations) Detail(ctx context.Context, name string) (wire.DestinationDetail, error) {
	return ask[wire.DestinationDetail](ctx, of.c, http.MethodGet, "/destinations/"+url.PathEscape(name), nil)
}

// Test begins to try a destination of the plan.
func (of Destinations) Test(ctx context.Context, name string) (wire.Job, error) {
	return ask[wire.Job](ctx, of.c, http.MethodPost, "/destinations/"+url.PathEscape(name)+"/test", nil)
}

// Offers tells what would help a destination whose room runs out.
func (of Destinations) Offers(ctx context.Context, name string) ([]planwire.PlanOffer, error) {
	return ask[[]planwire.PlanOffer](ctx, of.c, http.MethodGet, "/destinations/"+url.PathEscape(name)+"/offers", nil)
}

// Remove takes a destination out of the plan.
func (of Destinations) Remove(ctx context.Context, name string) error {
	return of.c.do(ctx, http.MethodDelete, "/destinations/"+url.PathEscape(name), nil, nil)
}

// Adopt begins to list what was at a destination before, so that it is not sent again.
func (of Destinations) Adopt(ctx context.Context, name string) (wire.Job, error) {
	return ask[wire.Job](ctx, of.c, http.MethodPost, "/destinations/"+url.PathEscape(name)+"/adopt", nil)
}

// SettlePlace answers whether what a destination stands for now was moved there,
// or is new.
func (of Destinations) SettlePlace(ctx context.Context, name string, a wire.PlaceAnswer) (wire.Count, error) {
	return ask[wire.Count](ctx, of.c, http.MethodPost, "/destinations/"+url.PathEscape(name)+"/place", a)
}

// SetSecret keeps a destination's password or key anew.
func (of Destinations) SetSecret(ctx context.Context, name string, given wire.Secrets) error {
	return of.c.do(ctx, http.MethodPut, "/destinations/"+url.PathEscape(name)+"/secret", given, nil)
}

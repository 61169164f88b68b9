package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Plans are the calls about the plan: its versions, edits of it, and what others would do.
type Plans struct{ c Client }

// Plans returns the calls about the plan: its versions, edits of it, and what others would do.
func (c Client) Plans() Plans { return Plans{c} }

// InForce asks for the plan in force.
func (of Plans) InForce(ctx context.Context) (planwire.PlanText, error) {
	return ask[planwire.PlanText](ctx, of.c, http.MethodGet, "/plan", nil)
}

// Apply puts a plan in force and returns its version.
func (of Plans) Apply(ctx context.Context, p planwire.PlanChange) (planwire.PlanText, error) {
	return ask[planwire.PlanText](ctx, of.c, http.MethodPut, "/plan", p)
}

// History asks for the plan's versions, the newest first; before is the version to
// go on before, 0 for the newest.
func (of Plans) History(ctx context.Context, before int64) ([]planwire.PlanVersion, error) {
	return ask[[]planwire.PlanVersion](ctx, of.c, http.MethodGet, "/plan/versions?before="+strconv.FormatInt(before, 10),
		nil)
}

// Diff asks what changed between two versions of the plan.
func (of Plans) Diff(ctx context.Context, from, to int64) (planwire.PlanDiff, error) {
	return ask[planwire.PlanDiff](ctx, of.c, http.MethodGet, fmt.Sprintf("/plan/diff?from=%d&to=%d", from, to), nil)
}

// Undo puts an earlier version of the plan in force again.
func (of Plans) Undo(ctx context.Context, u planwire.PlanUndo) (planwire.PlanText, error) {
	return ask[planwire.PlanText](ctx, of.c, http.MethodPost, "/plan/undo", u)
}

// Edit has keys of the plan say something else, or tells what that would change.
func (of Plans) Edit(ctx context.Context, e planwire.PlanEdits) (planwire.PlanEdited, error) {
	return ask[planwire.PlanEdited](ctx, of.c, http.MethodPost, "/plan/edits", e)
}

// Check looks for mistakes in a plan and tells what would follow from it.
func (of Plans) Check(ctx context.Context, p planwire.PlanDraft) (planwire.PlanNotes, error) {
	return ask[planwire.PlanNotes](ctx, of.c, http.MethodPost, "/plan/check", p)
}

// Try asks what a plan would do to the yard's items.
func (of Plans) Try(ctx context.Context, d planwire.PlanDraft) (planwire.PlanTried, error) {
	return ask[planwire.PlanTried](ctx, of.c, http.MethodPost, "/plan/try", d)
}

// Landings asks where items would land at a destination by a layout.
func (of Plans) Landings(ctx context.Context, a planwire.LayoutAsked) ([]planwire.SetupName, error) {
	return ask[[]planwire.SetupName](ctx, of.c, http.MethodPost, "/plan/landings", a)
}

// ForecastForm asks what a rendition would come to for all that there is.
func (of Plans) ForecastForm(ctx context.Context, a planwire.FormAsked) (planwire.FormForecast, error) {
	return ask[planwire.FormForecast](ctx, of.c, http.MethodPost, "/renditions/forecast", a)
}

// CompareForm asks for an item as shot and in a form.
func (of Plans) CompareForm(ctx context.Context, device, key string,
	t planwire.FormTry) (planwire.FormCompared, error) {
	return ask[planwire.FormCompared](ctx, of.c, http.MethodPost, "/items/"+url.PathEscape(device)+"/"+url.PathEscape(key)+
		"/compare", t)
}

// Bursts asks for the shots in a row that look alike, among the photos that a rule takes.
func (of Plans) Bursts(ctx context.Context, rule string) ([]wire.BurstsFound, error) {
	return ask[[]wire.BurstsFound](ctx, of.c, http.MethodGet, "/bursts?rule="+url.QueryEscape(rule), nil)
}

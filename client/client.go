// Package client is the typed client of a service's API, for the command line
// and for devices. It holds no state but the address and the token.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"yardtide/wire"
)

// Client reaches one service.
type Client struct {
	URL   string // such as "http://127.0.0.1:7400"
	Token string
}

// Problem is an answer that is not success (RFC 9457).
type Problem struct {
	Status int             `json:"status"`
	Title  string          `json:"title"`
	Detail string          `json:"detail"`
	Errors []ProblemDetail `json:"errors"`
}

// ProblemDetail is one of several mistakes.
type ProblemDetail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

func (p *Problem) Error() string {
	lines := []string{p.Detail}
	if p.Detail == "" {
		lines[0] = p.Title
	}
	for _, e := range p.Errors {
		lines = append(lines, strings.TrimPrefix(e.Location+": "+e.Message, ": "))
	}
	return strings.Join(lines, "\n")
}

// Status asks how the yard stands.
func (c Client) Status(ctx context.Context) (y wire.Yard, err error) {
	return y, c.do(ctx, http.MethodGet, "/api/v1/status", nil, &y)
}

// Items asks for a page of items, newest first.
func (c Client) Items(ctx context.Context, f wire.Filter) (p wire.Page, err error) {
	q := url.Values{}
	for name, v := range map[string]string{"device": f.Device, "state": f.State, "kind": f.Kind, "hold": f.Hold, "destination": f.Destination, "after": f.After} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return p, c.do(ctx, http.MethodGet, "/api/v1/items?"+q.Encode(), nil, &p)
}

// Find asks for items by name, path or part of a name.
func (c Client) Find(ctx context.Context, text string) (p wire.Page, err error) {
	return p, c.do(ctx, http.MethodGet, "/api/v1/find?text="+url.QueryEscape(text), nil, &p)
}

// Story asks for one item and its story.
func (c Client) Story(ctx context.Context, device, key string) (s wire.Story, err error) {
	return s, c.do(ctx, http.MethodGet, "/api/v1/items/"+url.PathEscape(device)+"/"+url.PathEscape(key), nil, &s)
}

// Pause holds a device, or all with "", until a time or, when it is zero,
// until Resume.
func (c Client) Pause(ctx context.Context, device string, until time.Time) error {
	return c.do(ctx, http.MethodPost, "/api/v1/pause", wire.PauseOrder{Device: device, Until: until}, nil)
}

// Resume ends the pause of a device, or of all with "".
func (c Client) Resume(ctx context.Context, device string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/resume", wire.ResumeOrder{Device: device}, nil)
}

// Finish has a device sleep, or go off, when nothing more can go; "" takes that back.
func (c Client) Finish(ctx context.Context, device, then string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/finish", wire.FinishOrder{Device: device, Then: then}, nil)
}

// Cost asks what sending items now would take.
func (c Client) Cost(ctx context.Context, p wire.Pick) (cost wire.Cost, err error) {
	return cost, c.do(ctx, http.MethodPost, "/api/v1/send-now/cost", p, &cost)
}

// SendNow sends items whatever their gates say. Where that costs, metered
// must be true.
func (c Client) SendNow(ctx context.Context, p wire.Pick, metered bool) (cost wire.Cost, err error) {
	return cost, c.do(ctx, http.MethodPost, "/api/v1/send-now", wire.SendNowOrder{Pick: p, Metered: metered}, &cost)
}

// Retry takes up again what is stuck: the items named, or all of a device without
// any, or of every device with "".
func (c Client) Retry(ctx context.Context, device string, items []string) (n wire.Count, err error) {
	return n, c.do(ctx, http.MethodPost, "/api/v1/retry", wire.RetryOrder{Device: device, Items: items}, &n)
}

// Plan asks for the plan in force.
func (c Client) Plan(ctx context.Context) (p wire.PlanText, err error) {
	return p, c.do(ctx, http.MethodGet, "/api/v1/plan", nil, &p)
}

// ApplyPlan puts a plan in force and returns its version.
func (c Client) ApplyPlan(ctx context.Context, p wire.PlanChange) (out wire.PlanText, err error) {
	return out, c.do(ctx, http.MethodPut, "/api/v1/plan", p, &out)
}

// PlanHistory asks for the plan's versions, the newest first; before is the version to
// go on before, 0 for the newest.
func (c Client) PlanHistory(ctx context.Context, before int64) (list []wire.PlanVersion, err error) {
	return list, c.do(ctx, http.MethodGet, "/api/v1/plan/versions?before="+strconv.FormatInt(before, 10), nil, &list)
}

// PlanDiff asks what changed between two versions of the plan.
func (c Client) PlanDiff(ctx context.Context, from, to int64) (d wire.PlanDiff, err error) {
	return d, c.do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/plan/diff?from=%d&to=%d", from, to), nil, &d)
}

// PlanUndo puts an earlier version of the plan in force again.
func (c Client) PlanUndo(ctx context.Context, u wire.PlanUndo) (t wire.PlanText, err error) {
	return t, c.do(ctx, http.MethodPost, "/api/v1/plan/undo", u, &t)
}

// EditPlan has keys of the plan say something else, or tells what that would change.
func (c Client) EditPlan(ctx context.Context, e wire.PlanEdits) (out wire.PlanEdited, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/plan/edits", e, &out)
}

// AddDevice asks for a code with which a device joins.
func (c Client) AddDevice(ctx context.Context, name string) (code wire.JoinCode, err error) {
	return code, c.do(ctx, http.MethodPost, "/api/v1/devices/"+url.PathEscape(name)+"/code", struct{}{}, &code)
}

// ForecastForm asks what a rendition would come to for all that there is.
func (c Client) ForecastForm(ctx context.Context, a wire.FormAsked) (f wire.FormForecast, err error) {
	return f, c.do(ctx, http.MethodPost, "/api/v1/renditions/forecast", a, &f)
}

// CompareForm asks for an item as shot and in a form.
func (c Client) CompareForm(ctx context.Context, device, key string, t wire.FormTry) (out wire.FormCompared, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/items/"+url.PathEscape(device)+"/"+url.PathEscape(key)+"/compare", t, &out)
}

// Bursts asks for the shots in a row that look alike, among the photos that a rule takes.
func (c Client) Bursts(ctx context.Context, rule string) (out []wire.BurstsFound, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/v1/bursts?rule="+url.QueryEscape(rule), nil, &out)
}

// Landings asks where items would land at a destination by a layout.
func (c Client) Landings(ctx context.Context, a wire.LayoutAsked) (names []wire.SetupName, err error) {
	return names, c.do(ctx, http.MethodPost, "/api/v1/plan/landings", a, &names)
}

// RenameDevice calls a device elsewhere otherwise, here, in the plan and there.
func (c Client) RenameDevice(ctx context.Context, name, to string) (out wire.PlanEdited, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/devices/"+url.PathEscape(name)+"/rename", wire.Rename{To: to}, &out)
}

// RevokeDevice lets a device elsewhere go.
func (c Client) RevokeDevice(ctx context.Context, name string) (r wire.Revoked, err error) {
	return r, c.do(ctx, http.MethodPost, "/api/v1/devices/"+url.PathEscape(name)+"/revoke", struct{}{}, &r)
}

// HomeNetwork asks where the service listens for devices elsewhere.
func (c Client) HomeNetwork(ctx context.Context) (h wire.HomeNetwork, err error) {
	return h, c.do(ctx, http.MethodGet, "/api/v1/home-network", nil, &h)
}

// SetHomeNetwork says where it listens for them.
func (c Client) SetHomeNetwork(ctx context.Context, address string) (h wire.HomeNetwork, err error) {
	return h, c.do(ctx, http.MethodPut, "/api/v1/home-network", wire.HomeNetworkEdit{Address: address}, &h)
}

// CheckPlan looks for mistakes in a plan and tells what would follow from it.
func (c Client) CheckPlan(ctx context.Context, p wire.PlanDraft) (out wire.PlanNotes, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/plan/check", p, &out)
}

// SettlePlace answers whether what a destination stands for now was moved there,
// or is new.
func (c Client) SettlePlace(ctx context.Context, name string, a wire.PlaceAnswer) (n wire.Count, err error) {
	return n, c.do(ctx, http.MethodPost, "/api/v1/destinations/"+url.PathEscape(name)+"/place", a, &n)
}

// SetSecret keeps a destination's password or key anew.
func (c Client) SetSecret(ctx context.Context, name string, given wire.Secrets) error {
	return c.do(ctx, http.MethodPut, "/api/v1/destinations/"+url.PathEscape(name)+"/secret", given, nil)
}

// Try begins to try a destination that is being set up.
func (c Client) Try(ctx context.Context, d wire.Draft) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/v1/destinations/try", d, &j)
}

// Browse asks what lies in a folder of a storage that is being set up.
func (c Client) Browse(ctx context.Context, b wire.Browse) (l wire.Listing, err error) {
	return l, c.do(ctx, http.MethodPost, "/api/v1/destinations/browse", b, &l)
}

// AddDestination puts a destination into the plan.
func (c Client) AddDestination(ctx context.Context, d wire.Draft) (out wire.DestinationDetail, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/destinations", d, &out)
}

// Destination asks for all of one destination.
func (c Client) Destination(ctx context.Context, name string) (d wire.DestinationDetail, err error) {
	return d, c.do(ctx, http.MethodGet, "/api/v1/destinations/"+url.PathEscape(name), nil, &d)
}

// TestDestination begins to try a destination of the plan.
func (c Client) TestDestination(ctx context.Context, name string) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/v1/destinations/"+url.PathEscape(name)+"/test", nil, &j)
}

// RemoveDestination takes a destination out of the plan.
func (c Client) RemoveDestination(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/destinations/"+url.PathEscape(name), nil, nil)
}

// Adopt begins to list what was at a destination before, so that it is not sent again.
func (c Client) Adopt(ctx context.Context, name string) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/v1/destinations/"+url.PathEscape(name)+"/adopt", nil, &j)
}

// Prove begins to have proofs taken again.
func (c Client) Prove(ctx context.Context, o wire.ProveOrder) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/v1/prove", o, &j)
}

// TryPlan asks what a plan would do to the yard's items.
func (c Client) TryPlan(ctx context.Context, d wire.PlanDraft) (t wire.PlanTried, err error) {
	return t, c.do(ctx, http.MethodPost, "/api/v1/plan/try", d, &t)
}

// Usual lists the folders in which people mostly keep their things on a device.
func (c Client) Usual(ctx context.Context, device string) (list []wire.UsualFolder, err error) {
	return list, c.do(ctx, http.MethodGet, "/api/v1/devices/"+url.PathEscape(device)+"/folders", nil, &list)
}

// Look begins to look at a folder.
func (c Client) Look(ctx context.Context, o wire.LookOrder) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/v1/looks", o, &j)
}

// Jobs lists the jobs that run or ended lately, the newest first.
func (c Client) Jobs(ctx context.Context) (jobs []wire.Job, err error) {
	return jobs, c.do(ctx, http.MethodGet, "/api/v1/jobs", nil, &jobs)
}

// Job asks how far a job is.
func (c Client) Job(ctx context.Context, id string) (j wire.Job, err error) {
	return j, c.do(ctx, http.MethodGet, "/api/v1/jobs/"+url.PathEscape(id), nil, &j)
}

// StopJob stops a job.
func (c Client) StopJob(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/jobs/"+url.PathEscape(id), nil, nil)
}

// jobPace is how often Follow asks how far a job is.
const jobPace = 200 * time.Millisecond

// Follow shows how far a job is until it ends, or show says that it is enough. That
// the context ends leaves the job going on.
func (c Client) Follow(ctx context.Context, j wire.Job, show func(wire.Job) (enough bool)) (wire.Job, error) {
	for j.State == wire.JobRunning && !show(j) {
		select {
		case <-ctx.Done():
			return j, ctx.Err()
		case <-time.After(jobPace):
		}
		var err error
		if j, err = c.Job(ctx, j.ID); err != nil {
			return j, err
		}
	}
	return j, nil
}

// Link asks for a new one-time link to the console.
func (c Client) Link(ctx context.Context) (string, error) {
	var out wire.Link
	err := c.do(ctx, http.MethodPost, "/api/v1/links", nil, &out)
	return out.URL, err
}

// Watch calls see with the status now and at each change, until see fails or
// the context or the connection ends.
func (c Client) Watch(ctx context.Context, see func(wire.Yard) error) error {
	res, err := c.send(ctx, http.MethodGet, "/api/v1/events", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var y wire.Yard
		if err := json.Unmarshal([]byte(data), &y); err != nil {
			return fmt.Errorf("reading an event: %w", err)
		}
		if err := see(y); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return errors.Join(errors.New("the service ended the connection"), lines.Err())
}

// mostAnswer is how long an answer may be, in bytes.
const mostAnswer = 256 << 20

func (c Client) do(ctx context.Context, method, path string, body, answer any) error {
	res, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if answer == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(answer); err != nil {
		return fmt.Errorf("reading the service's answer: %w", err)
	}
	return nil
}

// shown is the address without a password that somebody wrote into it.
func (c Client) shown() string {
	at := strings.LastIndex(c.URL, "@")
	if at < 0 {
		return c.URL
	}
	scheme, _, found := strings.Cut(c.URL[:at], "://")
	if !found {
		return "…" + c.URL[at:]
	}
	return scheme + "://…" + c.URL[at:]
}

func (c Client) send(ctx context.Context, method, path string, body any) (*http.Response, error) {
	var payload io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, fmt.Errorf("writing the request: %w", err)
		}
		payload = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.URL, "/")+path, payload)
	if err != nil {
		return nil, fmt.Errorf("%q is not the address of a service", c.shown())
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	var failed *url.Error
	if errors.As(err, &failed) {
		err = failed.Err // it would say the address again, whatever is in it
	}
	if err != nil {
		return nil, fmt.Errorf("no service answers at %s; is it started (yardtide serve)? %w", c.shown(), err)
	}
	if res.StatusCode/100 == 2 {
		return res, nil
	}
	defer res.Body.Close()
	p := &Problem{Status: res.StatusCode, Title: res.Status}
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(p); err != nil {
		return nil, fmt.Errorf("the service at %s answered %s, which is not Yard Tide's", c.shown(), res.Status)
	}
	if res.StatusCode == http.StatusUnauthorized {
		return nil, fmt.Errorf("%s Give it with -token or YARDTIDE_TOKEN; it is in the file token of the data directory", p.Detail)
	}
	return nil, p
}

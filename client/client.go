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
	"yardtide/wire/planwire"
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
func (c Client) Status(ctx context.Context) (wire.Yard, error) {
	return ask[wire.Yard](ctx, c, http.MethodGet, "/status", nil)
}

// Items asks for a page of items, newest first.
func (c Client) Items(ctx context.Context, f wire.Filter) (wire.Page, error) {
	q := url.Values{}
	for name, v := range map[string]string{"device": f.Device, "state": f.State, "kind": f.Kind, "hold": f.Hold,
		"destination": f.Destination, "after": f.After} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return ask[wire.Page](ctx, c, http.MethodGet, "/items?"+q.Encode(), nil)
}

// Find asks for items by name, path or part of a name.
func (c Client) Find(ctx context.Context, text string) (wire.Page, error) {
	return ask[wire.Page](ctx, c, http.MethodGet, "/find?text="+url.QueryEscape(text), nil)
}

// Story asks for one item and its story.
func (c Client) Story(ctx context.Context, device, key string) (wire.Story, error) {
	return ask[wire.Story](ctx, c, http.MethodGet, "/items/"+url.PathEscape(device)+"/"+url.PathEscape(key), nil)
}

// Pause holds a device, or all with "", until a time or, when it is zero,
// until Resume.
func (c Client) Pause(ctx context.Context, device string, until time.Time) error {
	return c.do(ctx, http.MethodPost, "/pause", wire.PauseOrder{Device: device, Until: until}, nil)
}

// Resume ends the pause of a device, or of all with "".
func (c Client) Resume(ctx context.Context, device string) error {
	return c.do(ctx, http.MethodPost, "/resume", wire.ResumeOrder{Device: device}, nil)
}

// Finish has a device sleep, or go off, when nothing more can go; "" takes that back.
func (c Client) Finish(ctx context.Context, device, then string) error {
	return c.do(ctx, http.MethodPost, "/finish", wire.FinishOrder{Device: device, Then: then}, nil)
}

// Cost asks what sending items now would take.
func (c Client) Cost(ctx context.Context, p wire.Pick) (wire.Cost, error) {
	return ask[wire.Cost](ctx, c, http.MethodPost, "/send-now/cost", p)
}

// SendNow sends items whatever their gates say. Where that costs, metered
// must be true.
func (c Client) SendNow(ctx context.Context, p wire.Pick, metered bool) (wire.Cost, error) {
	return ask[wire.Cost](ctx, c, http.MethodPost, "/send-now", wire.SendNowOrder{Pick: p, Metered: metered})
}

// Retry takes up again what is stuck: the items named, or all of a device without
// any, or of every device with "".
func (c Client) Retry(ctx context.Context, device string, items []string) (wire.Count, error) {
	return ask[wire.Count](ctx, c, http.MethodPost, "/retry", wire.RetryOrder{Device: device, Items: items})
}

// AddDevice asks for a code with which a device joins.
func (c Client) AddDevice(ctx context.Context, name string) (wire.JoinCode, error) {
	return ask[wire.JoinCode](ctx, c, http.MethodPost, "/devices/"+url.PathEscape(name)+"/code", struct{}{})
}

// RenameDevice calls a device elsewhere otherwise, here, in the plan and there.
func (c Client) RenameDevice(ctx context.Context, name, to string) (planwire.PlanEdited, error) {
	return ask[planwire.PlanEdited](ctx, c, http.MethodPost, "/devices/"+url.PathEscape(name)+"/rename",
		wire.Rename{To: to})
}

// RevokeDevice lets a device elsewhere go.
func (c Client) RevokeDevice(ctx context.Context, name string) (wire.Revoked, error) {
	return ask[wire.Revoked](ctx, c, http.MethodPost, "/devices/"+url.PathEscape(name)+"/revoke", struct{}{})
}

// HomeNetwork asks where the service listens for devices elsewhere.
func (c Client) HomeNetwork(ctx context.Context) (wire.HomeNetwork, error) {
	return ask[wire.HomeNetwork](ctx, c, http.MethodGet, "/home-network", nil)
}

// SetHomeNetwork says where it listens for them.
func (c Client) SetHomeNetwork(ctx context.Context, address string) (wire.HomeNetwork, error) {
	return ask[wire.HomeNetwork](ctx, c, http.MethodPut, "/home-network", wire.HomeNetworkEdit{Address: address})
}

// Prove begins to have proofs taken again.
func (c Client) Prove(ctx context.Context, o wire.ProveOrder) (wire.Job, error) {
	return ask[wire.Job](ctx, c, http.MethodPost, "/prove", o)
}

// Strays looks for pictures and clips of a device that no source takes up.
func (c Client) Strays(ctx context.Context, device string) (wire.Strays, error) {
	return ask[wire.Strays](ctx, c, http.MethodGet, "/devices/"+url.PathEscape(device)+"/strays", nil)
}

// Usual lists the folders in which people mostly keep their things on a device.
func (c Client) Usual(ctx context.Context, device string) ([]wire.UsualFolder, error) {
	return ask[[]wire.UsualFolder](ctx, c, http.MethodGet, "/devices/"+url.PathEscape(device)+"/folders", nil)
}

// Browse lists the folders in a folder of a device; "" is the device's own.
func (c Client) Browse(ctx context.Context, device, folder string) (planwire.Browsed, error) {
	return ask[planwire.Browsed](ctx, c, http.MethodGet,
		"/devices/"+url.PathEscape(device)+"/browse?folder="+url.QueryEscape(folder), nil)
}

// Look begins to look at a folder.
func (c Client) Look(ctx context.Context, o wire.LookOrder) (wire.Job, error) {
	return ask[wire.Job](ctx, c, http.MethodPost, "/looks", o)
}

// Link asks for a new one-time link to the console.
func (c Client) Link(ctx context.Context) (string, error) {
	var out wire.Link
	err := c.do(ctx, http.MethodPost, "/links", nil, &out)
	return out.URL, err
}

// Watch calls see with the status now and at each change, until see fails or
// the context or the connection ends.
func (c Client) Watch(ctx context.Context, see func(wire.Yard) error) error {
	res, err := c.send(ctx, http.MethodGet, "/events", nil)
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

// ask calls the service and reads its answer.
func ask[T any](ctx context.Context, c Client, method, path string, body any) (answer T, err error) {
	err = c.do(ctx, method, path, body, &answer)
	return answer, err
}

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
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.URL, "/")+"/api/v1"+path, payload)
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
		return nil, fmt.Errorf("%s Give it with -token or YARDTIDE_TOKEN; it is in the file token of the data directory",
			p.Detail)
	}
	return nil, p
}

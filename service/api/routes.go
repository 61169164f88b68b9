package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/device"
	"yardtide/engine/records"
	"yardtide/service"
)

// answer wraps a body the way huma wants it.
type answer[T any] struct{ Body T }

// request is a body of a call.
type request[T any] struct{ Body T }

// call registers an operation.
func call[I, O any](s *Server, id, method, path, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Errors: []int{400, 401, 404, 409, 422, 500, 503}}, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		var known huma.StatusError
		if err != nil && records.IsDamage(err) {
			s.log.Error("a call found damaged records", "call", id, "err", err)
			return nil, huma.Error503ServiceUnavailable("The records are damaged. Stop Yard Tide and run: yardtide rebuild. What is at the storages is kept, and nothing is sent that is there.")
		}
		if err != nil && !errors.As(err, &known) {
			s.log.Error("a call failed", "call", id, "err", err)
			return nil, huma.Error500InternalServerError("A fault of the service's; its log says more.")
		}
		return out, err
	})
}

func (s *Server) routes() {
	call(s, "status", http.MethodGet, "/status", "How the yard stands", func(ctx context.Context, _ *struct{}) (*answer[client.Yard], error) {
		st, err := s.service.Status(ctx)
		return &answer[client.Yard]{st}, err
	})
	call(s, "copies", http.MethodGet, "/copies", "A page of the queue, newest first", s.page)
	call(s, "find", http.MethodGet, "/find", "Copies of items by name, path or part of a name", s.find)
	call(s, "story", http.MethodGet, "/copies/{device}/{id}", "A copy and all that happened to it", s.story)
	call(s, "pause", http.MethodPost, "/pause", "Hold everything", func(ctx context.Context, in *request[client.PauseOrder]) (*answer[client.Count], error) {
		if until := in.Body.Until; !until.IsZero() && !until.After(time.Now()) {
			return nil, huma.Error422UnprocessableEntity("The end of the pause lies in the past.")
		}
		return s.eachDevice(in.Body.Device, func(d *device.Device) (int64, error) { return 1, d.Pause(ctx, in.Body.Until) })
	})
	call(s, "resume", http.MethodPost, "/resume", "End a pause", func(ctx context.Context, in *request[client.ResumeOrder]) (*answer[client.Count], error) {
		return s.eachDevice(in.Body.Device, func(d *device.Device) (int64, error) { return 1, d.Resume(ctx) })
	})
	call(s, "retry", http.MethodPost, "/retry", "Take stuck copies up again", func(ctx context.Context, in *request[client.RetryOrder]) (*answer[client.Count], error) {
		if len(in.Body.Copies) > 0 && in.Body.Device == "" {
			return nil, huma.Error422UnprocessableEntity("Copies are numbered by device: name it too.")
		}
		return s.eachDevice(in.Body.Device, func(d *device.Device) (int64, error) { return s.service.Retry(ctx, d, in.Body.Copies) })
	})
	call(s, "send-now-cost", http.MethodPost, "/send-now/cost", "What sending copies now would take", func(ctx context.Context, in *request[client.Pick]) (*answer[device.Cost], error) {
		d, err := s.device(in.Body.Device)
		if err != nil {
			return nil, err
		}
		cost, err := d.CostOf(ctx, in.Body.Copies)
		return &answer[device.Cost]{cost}, err
	})
	call(s, "send-now", http.MethodPost, "/send-now", "Send copies whatever their gates say", func(ctx context.Context, in *request[client.SendNowOrder]) (*answer[device.Cost], error) {
		d, err := s.device(in.Body.Device)
		if err != nil {
			return nil, err
		}
		cost, err := d.SendNow(ctx, in.Body.Copies, in.Body.Metered)
		var needs device.NeedsMetered
		if errors.As(err, &needs) {
			return nil, huma.Error409Conflict("Sending now would cost: " + needs.Cost.Says)
		}
		return &answer[device.Cost]{cost}, err
	})
	call(s, "link", http.MethodPost, "/links", "A new one-time link to the console", func(_ context.Context, in *struct {
		Host string `header:"Host"`
	}) (*answer[client.Link], error) {
		return &answer[client.Link]{client.Link{URL: fmt.Sprintf("http://%s/open?code=%s", in.Host, s.service.NewLink(time.Now()))}}, nil
	})
	s.planRoutes()
	s.destinationRoutes()
	s.standinRoutes()
}

func (s *Server) device(name string) (*device.Device, error) {
	if d, ok := s.service.Device(name); ok {
		return d, nil
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("There is no device %q here; there is %s.", name, strings.Join(s.names(), ", ")))
}

func (s *Server) names() []string {
	var names []string
	for _, d := range s.service.Devices() {
		names = append(names, d.Name)
	}
	return names
}

// eachDevice does something with one device, or with all when name is empty.
func (s *Server) eachDevice(name string, do func(*device.Device) (int64, error)) (*answer[client.Count], error) {
	devices := s.service.Devices()
	if name != "" {
		d, err := s.device(name)
		if err != nil {
			return nil, err
		}
		devices = []*device.Device{d}
	}
	out := &answer[client.Count]{}
	for _, d := range devices {
		n, err := do(d)
		if err != nil {
			return nil, err
		}
		out.Body.N += n
	}
	return out, nil
}

type pageQuery struct {
	Device string `query:"device" doc:"All when left out"`
	State  string `query:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped"`
	Kind   string `query:"kind" enum:"photo,video"`
	Hold   string `query:"hold" enum:"network,metered,roaming,power,hours,idle,allowance,kind,pause,trouble,retry,proof,space,place" doc:"Copies that this gate holds"`
	After  string `query:"after" doc:"The cursor of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

// page merges the pages of the devices. Its cursor holds one for each.
func (s *Server) page(ctx context.Context, in *pageQuery) (*answer[client.Page], error) {
	after := map[string]records.Cursor{}
	if in.After != "" {
		text, err := base64.RawURLEncoding.DecodeString(in.After)
		if err != nil || json.Unmarshal(text, &after) != nil || after == nil {
			return nil, huma.Error422UnprocessableEntity("This is not a cursor of this API.", &huma.ErrorDetail{Location: "query.after", Message: "take it from next of the page before"})
		}
	}
	devices := s.service.Devices()
	if in.Device != "" {
		d, err := s.device(in.Device)
		if err != nil {
			return nil, err
		}
		devices = []*device.Device{d}
	}
	type row struct {
		d *device.Device
		c records.Copy
	}
	var rows []row
	full := false
	for _, d := range devices {
		copies, err := d.Page(ctx, device.Filter{State: queue.State(in.State), Kind: media.Kind(in.Kind), Hold: gate.Name(in.Hold)}, after[d.Name], in.Limit)
		if err != nil {
			return nil, err
		}
		full = full || len(copies) == in.Limit
		for _, c := range copies {
			rows = append(rows, row{d, c})
		}
	}
	slices.SortStableFunc(rows, func(a, b row) int { return records.Newest(a.c, b.c) })
	full = full || len(rows) > in.Limit
	rows = rows[:min(len(rows), in.Limit)]
	out := &answer[client.Page]{client.Page{Copies: []client.Copy{}}}
	for _, r := range rows {
		out.Body.Copies = append(out.Body.Copies, present(r.d, r.c))
		after[r.d.Name] = records.Cursor{TakenMS: r.c.TakenMS, ID: r.c.ID}
	}
	if full && len(rows) > 0 {
		text, err := json.Marshal(after)
		if err != nil {
			return nil, err
		}
		out.Body.Next = base64.RawURLEncoding.EncodeToString(text)
	}
	return out, nil
}

func (s *Server) find(ctx context.Context, in *struct {
	Text string `query:"text" required:"true" minLength:"1"`
}) (*answer[client.Page], error) {
	out := &answer[client.Page]{client.Page{Copies: []client.Copy{}}}
	for _, d := range s.service.Devices() {
		text := in.Text
		for _, name := range s.names() { // as lists print it: device:path
			if rest, named := strings.CutPrefix(in.Text, name+":"); named && name == d.Name {
				text = rest
			} else if named {
				text = ""
			}
		}
		if text == "" {
			continue
		}
		copies, err := d.Records.Find(ctx, text, 20)
		if err != nil {
			return nil, err
		}
		for _, c := range copies {
			out.Body.Copies = append(out.Body.Copies, present(d, c))
		}
	}
	return out, nil
}

func (s *Server) story(ctx context.Context, in *struct {
	Device string `path:"device"`
	ID     int64  `path:"id"`
}) (*answer[client.Story], error) {
	d, err := s.device(in.Device)
	if err != nil {
		return nil, err
	}
	c, ok, err := d.Records.Copy(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, huma.Error404NotFound(fmt.Sprintf("The device %s has no copy number %d.", in.Device, in.ID))
	}
	out := &answer[client.Story]{client.Story{Copy: present(d, c), Story: []client.Event{}}}
	events, err := d.Records.Story(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	item, _, err := d.Records.Item(ctx, c.Item)
	if err != nil {
		return nil, err
	}
	out.Body.Story = append(out.Body.Story, client.Event{At: records.FromMS(item.FoundMS), State: string(queue.Waiting), Says: "Found on " + d.Name + "."})
	for _, e := range events {
		out.Body.Story = append(out.Body.Story, client.Event{At: records.FromMS(e.AtMS), State: string(e.State), Says: e.Says})
	}
	out.Body.Cost, err = d.CostOf(ctx, []int64{in.ID})
	return out, err
}

// present is a copy as the API tells it.
func present(d *device.Device, c records.Copy) client.Copy {
	holds, todo := d.Why(c, time.Now())
	if holds == nil {
		holds = []gate.Hold{}
	}
	if todo == "" {
		todo = c.Todo
	}
	return client.Copy{
		ID: c.ID, Device: d.Name, Name: c.Name, Path: c.Path(), Kind: string(c.Kind), Rule: c.Rule, Destination: c.Destination,
		State: string(d.Shown(c)), Bytes: c.Bytes, TakenAt: time.UnixMilli(c.TakenMS).In(time.FixedZone("", c.TakenZone)), TakenFrom: c.TakenFrom,
		Tries: c.Tries, Remote: c.Remote, SHA256: c.SHA256, SentTwice: c.SentTwice(), Proof: c.Proof, ProvenAt: records.FromMS(c.ProvenMS),
		Says: c.Says, Todo: todo, Holds: holds, ChangedAt: records.FromMS(c.ChangedMS),
	}
}

func (s *Server) planRoutes() {
	call(s, "plan", http.MethodGet, "/plan", "The plan in force", func(context.Context, *struct{}) (*answer[client.PlanText], error) {
		text, version := s.service.PlanText()
		if text == "" {
			return nil, huma.Error404NotFound("There is no plan yet. Put one in force with: yardtide plan apply FILE")
		}
		return &answer[client.PlanText]{client.PlanText{Text: text, Version: version}}, nil
	})
	call(s, "apply-plan", http.MethodPut, "/plan", "Put a plan in force", func(ctx context.Context, in *request[client.PlanChange]) (*answer[client.PlanText], error) {
		version, err := s.service.ApplyPlan(ctx, orPlan(in.Body.File), in.Body.Text, in.Body.Base)
		if err != nil {
			return nil, planProblem(err)
		}
		return &answer[client.PlanText]{client.PlanText{Text: in.Body.Text, Version: version}}, nil
	})
	call(s, "check-plan", http.MethodPost, "/plan/check", "Look for mistakes in a plan, and tell what follows from it", func(_ context.Context, in *request[client.PlanDraft]) (*answer[client.PlanNotes], error) {
		p, err := plan.Parse(orPlan(in.Body.File), []byte(in.Body.Text))
		if err != nil {
			return nil, planProblem(err)
		}
		return &answer[client.PlanNotes]{client.PlanNotes{Notes: s.service.PlaceNotes(p)}}, nil
	})
}

func orPlan(file string) string {
	if file == "" {
		return "plan.yaml"
	}
	return file
}

// planProblem writes each mistake of a plan with its place.
func planProblem(err error) error {
	var problems plan.Problems
	var stale service.StalePlan
	var secret service.SecretRefused
	switch {
	case errors.As(err, &stale):
		return huma.Error409Conflict(sentence(stale))
	case errors.As(err, &secret):
		return huma.Error422UnprocessableEntity(sentence(secret))
	case !errors.As(err, &problems):
		return err
	}
	var details []error
	for _, p := range problems {
		details = append(details, &huma.ErrorDetail{Location: fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column), Message: p.What + "; " + p.Would})
	}
	n := fmt.Sprintf("%d mistakes", len(problems))
	if len(problems) == 1 {
		n = "a mistake"
	}
	return huma.Error422UnprocessableEntity("The plan has "+n+"; the one in force stays.", details...)
}

// sentence is an error as one.
func sentence(err error) string {
	says := err.Error()
	return strings.ToUpper(says[:1]) + says[1:] + "."
}

type onePhone struct {
	Device string `path:"device"`
}

func (s *Server) standinRoutes() {
	call(s, "phones", http.MethodGet, "/standin/phones", "The simulated phones, none outside the demo", func(context.Context, *struct{}) (*answer[[]client.Phone], error) {
		out := &answer[[]client.Phone]{[]client.Phone{}}
		if s.service.Standin != nil {
			out.Body = append(out.Body, s.service.Standin.Phones()...)
		}
		return out, nil
	})
	call(s, "set-phone", http.MethodPut, "/standin/phones/{device}", "Set a simulated phone's network and power", func(ctx context.Context, in *struct {
		Device string `path:"device"`
		Body   gate.Conditions
	}) (*answer[[]client.Phone], error) {
		return s.standin(func(st service.Standin) error { return st.SetPhone(ctx, in.Device, in.Body) })
	})
	call(s, "follow-timeline", http.MethodPost, "/standin/phones/{device}/timeline", "Let a simulated phone follow its timeline", func(ctx context.Context, in *onePhone) (*answer[[]client.Phone], error) {
		return s.standin(func(st service.Standin) error { return st.FollowTimeline(ctx, in.Device) })
	})
	call(s, "take-picture", http.MethodPost, "/standin/phones/{device}/pictures", "Let a simulated phone take a picture", func(ctx context.Context, in *onePhone) (*answer[[]client.Phone], error) {
		return s.standin(func(st service.Standin) error { return st.TakePicture(ctx, in.Device) })
	})
}

func (s *Server) standin(do func(service.Standin) error) (*answer[[]client.Phone], error) {
	if s.service.Standin == nil {
		return nil, huma.Error404NotFound("Nothing is simulated here; that is so in the demo only.")
	}
	if err := do(s.service.Standin); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &answer[[]client.Phone]{s.service.Standin.Phones()}, nil
}

package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/gate"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/engine/awake"
	"yardtide/engine/face"
	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/engine/tell"
	"yardtide/service"
	"yardtide/service/household"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
	"yardtide/wire/cardwire"
	"yardtide/wire/planwire"
)

// answer wraps a body the way huma wants it.
type answer[T any] struct{ Body T }

// request is a body of a call.
type request[T any] struct{ Body T }

// call registers an operation.
func call[I, O any](s *Server, id, method, path, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Errors: []int{400, 401, 404, 409, 422, 500, 503}}, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		var known huma.StatusError
		var none records.NoItem
		if errors.As(err, &none) {
			return nil, huma.Error404NotFound(sentence(none))
		}
		var silent link.Silent
		if errors.As(err, &silent) {
			return nil, huma.Error409Conflict(sentence(silent))
		}
		var refused household.Refused
		if errors.As(err, &refused) {
			return nil, refusedBy(err)
		}
		if err != nil && records.IsDamage(err) {
			s.log.Error("a call found damaged records", "call", id, "err", err)
			return nil, huma.Error503ServiceUnavailable("The records are damaged. Stop Yard Tide and run: yardtide " +
				"rebuild. What is at the storages is kept, and nothing is sent that is there.")
		}
		if err != nil && !errors.As(err, &known) {
			s.log.Error("a call failed", "call", id, "err", err)
			return nil, huma.Error500InternalServerError("A fault of the service's; its log says more.")
		}
		return out, err
	})
}

func (s *Server) routes() {
	call(s, "status", http.MethodGet, "/status", "How the yard stands",
		func(ctx context.Context, _ *struct{}) (*answer[wire.Yard], error) {
			st, err := s.service.Status(ctx)
			return &answer[wire.Yard]{st}, err
		})
	call(s, "items", http.MethodGet, "/items", "A page of items, newest first", s.page)
	call(s, "find", http.MethodGet, "/find", "Items by name, path or part of a name", s.find)
	call(s, "story", http.MethodGet, "/items/{device}/{key}", "An item and all that happened to it", s.story)
	call(s, "compare-form", http.MethodPost, "/items/{device}/{key}/compare",
		"A picture as shot and as a rendition makes it, and a detail of both", s.compareForm)
	call(s, "forecast-form", http.MethodPost, "/renditions/forecast",
		"What a rendition would come to for all that there is, by a sample of it",
		func(ctx context.Context, in *request[planwire.FormAsked]) (*answer[planwire.FormForecast], error) {
			f, err := s.service.Trials.ForecastForm(ctx, in.Body)
			return &answer[planwire.FormForecast]{f}, destinationProblem(err)
		})
	call(s, "face", http.MethodGet, "/items/{device}/{key}/face",
		"A small picture of an item, as JPEG; 202 while it is being made, 204 where there is none", s.face)
	s.orderRoutes()
	call(s, "link", http.MethodPost, "/links", "A new one-time link to the console", func(_ context.Context, in *struct {
		Host string `header:"Host"`
	}) (*answer[wire.Link], error) {
		return &answer[wire.Link]{wire.Link{URL: fmt.Sprintf("http://%s/open?code=%s", in.Host,
			s.service.Keys.NewLink(time.Now()))}}, nil
	})
	s.planRoutes()
	s.versionRoutes()
	s.destinationRoutes()
	s.jobRoutes()
	s.lookRoutes()
	s.setupRoutes()
	s.standinRoutes()
	s.deviceRoutes()
	phoneRoutes(s)
	s.libraryRoutes()
	s.bringRoutes()
	s.roomRoutes()
	s.wholeRoutes()
}

// orderRoutes are the keeper's orders to devices.
func (s *Server) orderRoutes() {
	call(s, "pause", http.MethodPost, "/pause", "Hold everything",
		func(ctx context.Context, in *request[wire.PauseOrder]) (*answer[wire.Count], error) {
			if until := in.Body.Until; !until.IsZero() && !until.After(time.Now()) {
				return nil, huma.Error422UnprocessableEntity("The end of the pause lies in the past.")
			}
			return s.eachDevice(in.Body.Device, func(d service.Device) (int64, error) {
				return 1, d.Orders.Pause(ctx, in.Body.Until)
			})
		})
	call(s, "resume", http.MethodPost, "/resume", "End a pause",
		func(ctx context.Context, in *request[wire.ResumeOrder]) (*answer[wire.Count], error) {
			return s.eachDevice(in.Body.Device, func(d service.Device) (int64, error) { return 1, d.Orders.Resume(ctx) })
		})
	call(s, "finish", http.MethodPost, "/finish", "Let a device sleep, or go off, when nothing more can go",
		func(ctx context.Context, in *request[wire.FinishOrder]) (*answer[wire.Count], error) {
			return s.eachDevice(in.Body.Device, func(d service.Device) (int64, error) {
				err := d.Orders.Finish(ctx, in.Body.Then)
				if errors.Is(err, awake.ErrUnable) {
					return 0, huma.Error409Conflict(d.DeviceName() +
						" cannot be sent to sleep from here: what it runs on does not let Yard Tide do that.")
				}
				return 1, err
			})
		})
	call(s, "retry", http.MethodPost, "/retry", "Take up again what is stuck",
		func(ctx context.Context, in *request[wire.RetryOrder]) (*answer[wire.Count], error) {
			if len(in.Body.Items) > 0 && in.Body.Device == "" {
				return nil, huma.Error422UnprocessableEntity("An item is named on its device: name that too.")
			}
			return s.eachDevice(in.Body.Device, func(d service.Device) (int64,
				error) {
				return s.service.Retry(ctx, d, in.Body.Items)
			})
		})
	call(s, "send-now-cost", http.MethodPost, "/send-now/cost", "What sending items now would take",
		func(ctx context.Context, in *request[wire.Pick]) (*answer[wire.Cost], error) {
			d, err := s.device(in.Body.Device)
			if err != nil {
				return nil, err
			}
			cost, err := d.Told.CostOf(ctx, in.Body.Items)
			return &answer[wire.Cost]{cost}, err
		})
	call(s, "send-now", http.MethodPost, "/send-now", "Send items whatever their gates say",
		func(ctx context.Context, in *request[wire.SendNowOrder]) (*answer[wire.Cost], error) {
			d, err := s.device(in.Body.Device)
			if err != nil {
				return nil, err
			}
			cost, err := d.Orders.SendNow(ctx, in.Body.Items, in.Body.Metered)
			var needs tell.NeedsMetered
			if errors.As(err, &needs) {
				return nil, huma.Error409Conflict("Sending now would cost: " + needs.Cost.Says)
			}
			return &answer[wire.Cost]{cost}, err
		})
}

func (s *Server) device(name string) (service.Device, error) {
	if d, ok := s.service.Device(name); ok {
		return d, nil
	}
	return service.Device{}, huma.Error404NotFound(fmt.Sprintf("There is no device %q here; there is %s.", name,
		strings.Join(s.names(), ", ")))
}

func (s *Server) names() []string {
	var names []string
	for _, d := range s.service.Devices() {
		names = append(names, d.DeviceName())
	}
	return names
}

// devices are the one of a name, or all when it is empty.
func (s *Server) devices(name string) ([]service.Device, error) {
	if name == "" {
		return s.service.Devices(), nil
	}
	d, err := s.device(name)
	return []service.Device{d}, err
}

// eachDevice does something with one device, or with all when name is empty.
func (s *Server) eachDevice(name string, do func(service.Device) (int64, error)) (*answer[wire.Count], error) {
	devices, err := s.devices(name)
	if err != nil {
		return nil, err
	}
	out := &answer[wire.Count]{}
	for _, d := range devices {
		n, err := do(d)
		if err != nil {
			return nil, err
		}
		out.Body.N += n
	}
	return out, nil
}

func (s *Server) find(ctx context.Context, in *struct {
	Text string `query:"text" required:"true" minLength:"1"`
}) (*answer[wire.Page], error) {
	out := &answer[wire.Page]{wire.Page{Items: []wire.Item{}}}
	for _, d := range s.service.Devices() {
		text := in.Text
		for _, name := range s.names() { // as lists print it: device:path
			if rest, named := strings.CutPrefix(in.Text, name+":"); named && name == d.DeviceName() {
				text = rest
			} else if named {
				text = ""
			}
		}
		if text == "" {
			continue
		}
		items, err := d.Told.Find(ctx, text, 20)
		if err != nil {
			return nil, err
		}
		out.Body.Items = append(out.Body.Items, items...)
	}
	return out, nil
}

func (s *Server) story(ctx context.Context, in *struct {
	Device string `path:"device"`
	Key    string `path:"key"`
}) (*answer[wire.Story], error) {
	d, err := s.device(in.Device)
	if err != nil {
		return nil, err
	}
	story, err := d.Told.Story(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	story.Lies = s.service.Lies(story.Item)
	return &answer[wire.Story]{story}, nil
}

// picture is an answer that is a JPEG. An item's key names one content for good, so
// that a browser may keep it.
type picture struct {
	Status       int
	ContentType  string `header:"Content-Type"`
	CacheControl string `header:"Cache-Control"`
	Body         []byte
}

func (s *Server) compareForm(ctx context.Context, in *struct {
	Device string `path:"device"`
	Key    string `path:"key"`
	Body   planwire.FormTry
}) (*answer[planwire.FormCompared], error) {
	d, err := s.device(in.Device)
	if err != nil {
		return nil, err
	}
	c, err := s.service.Trials.CompareForm(ctx, d, in.Key, in.Body)
	switch {
	case errors.Is(err, face.ErrNone):
		return nil, huma.Error422UnprocessableEntity("It is no picture that can be shown.")
	case errors.Is(err, face.ErrAway):
		return nil, huma.Error409Conflict("Its file cannot be read now.")
	}
	var none records.NoItem
	if errors.As(err, &none) {
		return nil, huma.Error404NotFound(sentence(err))
	}
	return &answer[planwire.FormCompared]{c}, destinationProblem(err)
}

func (s *Server) face(ctx context.Context, in *struct {
	Device string `path:"device"`
	Key    string `path:"key"`
}) (*picture, error) {
	d, err := s.device(in.Device)
	if err != nil {
		return nil, err
	}
	return pictured(s.service.Face(ctx, d, in.Key))
}

// pictured answers with a small picture, or why there is none now.
func pictured(content []byte, err error) (*picture, error) {
	switch {
	case errors.Is(err, face.ErrBusy):
		return &picture{Status: http.StatusAccepted, CacheControl: "no-store"}, nil
	case errors.Is(err, face.ErrNone), errors.Is(err, face.ErrAway):
		return &picture{Status: http.StatusNoContent, CacheControl: "no-store"}, nil
	}
	return &picture{http.StatusOK, "image/jpeg", "private, max-age=31536000, immutable", content}, err
}

func (s *Server) planRoutes() {
	call(s, "plan", http.MethodGet, "/plan", "The plan in force",
		func(ctx context.Context, _ *struct{}) (*answer[planwire.PlanText], error) {
			if s.service.Book.Plan() == nil {
				return nil, huma.Error404NotFound("There is no plan yet. Put one in force with: yardtide plan apply FILE")
			}
			return s.planNow(ctx)
		})
	call(s, "apply-plan", http.MethodPut, "/plan", "Put a plan in force",
		func(ctx context.Context, in *request[planwire.PlanChange]) (*answer[planwire.PlanText], error) {
			if _, err := s.service.Book.Apply(ctx, orPlan(in.Body.File), in.Body.Text, in.Body.Base); err != nil {
				return nil, planProblem(err)
			}
			return s.planNow(ctx)
		})
	call(s, "try-plan", http.MethodPost, "/plan/try",
		"What a plan would do to the yard's items, beside what today's does; nothing is changed",
		func(ctx context.Context, in *request[planwire.PlanDraft]) (*answer[planwire.PlanTried], error) {
			tried, err := s.service.Trials.TryPlan(ctx, orPlan(in.Body.File), in.Body.Text)
			if err != nil {
				return nil, planProblem(err)
			}
			return &answer[planwire.PlanTried]{tried}, nil
		})
	call(s, "check-plan", http.MethodPost, "/plan/check", "Look for mistakes in a plan, and tell what follows from it",
		func(ctx context.Context, in *request[planwire.PlanDraft]) (*answer[planwire.PlanNotes], error) {
			p, err := plantext.Parse(orPlan(in.Body.File), []byte(in.Body.Text))
			if err != nil {
				return nil, planProblem(err)
			}
			doubts, err := s.service.Trials.Doubts(ctx, p)
			return &answer[planwire.PlanNotes]{planwire.PlanNotes{Says: s.service.Book.WouldChange(in.Body.Text),
				Notes: append(s.service.Trials.PlaceNotes(p), words.Said(doubts)...)}}, err
		})
	call(s, "plan-held", http.MethodGet, "/plan/held", "What the folders and the rules of the plan hold now",
		func(ctx context.Context, _ *struct{}) (*answer[planwire.PlanHeld], error) {
			held, err := s.service.Trials.Held(ctx)
			return &answer[planwire.PlanHeld]{held}, err
		})
}

func (s *Server) planNow(ctx context.Context) (*answer[planwire.PlanText], error) {
	now := s.service.Book.Tell()
	now.Doubts = []words.Doubt{}
	var err error
	if p := s.service.Book.Plan(); p != nil {
		now.Doubts, err = s.service.Trials.Doubts(ctx, p)
	}
	return &answer[planwire.PlanText]{now}, err
}

func (s *Server) versionRoutes() {
	call(s, "plan-history", http.MethodGet, "/plan/versions",
		"The plan's versions, the newest first, and what each changed", func(_ context.Context, in *struct {
			Before int64 `query:"before" minimum:"0" doc:"Go on before this version"`
		}) (*answer[[]planwire.PlanVersion], error) {
			list, err := s.service.Book.History(in.Before)
			return &answer[[]planwire.PlanVersion]{list}, err
		})
	call(s, "plan-diff", http.MethodGet, "/plan/diff", "What changed between two versions of the plan",
		func(_ context.Context, in *struct {
			From int64 `query:"from" minimum:"0" doc:"0 is nothing at all"`
			To   int64 `query:"to" minimum:"1"`
		}) (*answer[planwire.PlanDiff], error) {
			d, err := s.service.Book.Diff(in.From, in.To)
			return &answer[planwire.PlanDiff]{d}, planProblem(err)
		})
	call(s, "plan-keys", http.MethodGet, "/plan/keys",
		"Every key of the plan: what may stand behind it, and what it means", func(context.Context,
			*struct{}) (*answer[[]plantext.Key], error) {
			return &answer[[]plantext.Key]{plantext.Keys()}, nil
		})
	call(s, "edit-plan", http.MethodPost, "/plan/edits",
		"Have keys of the plan say something else, or tell what that would change",
		func(ctx context.Context, in *request[planwire.PlanEdits]) (*answer[planwire.PlanEdited], error) {
			edited, err := s.service.Trials.EditPlan(ctx, in.Body)
			return &answer[planwire.PlanEdited]{edited}, destinationProblem(err)
		})
	call(s, "bursts", http.MethodGet, "/bursts", "The shots in a row that look alike, among the photos that a rule takes",
		func(ctx context.Context, in *struct {
			Rule string `query:"rule" required:"true" minLength:"1"`
		}) (*answer[[]wire.BurstsFound], error) {
			found, err := s.service.Trials.FoundBursts(ctx, in.Rule)
			return &answer[[]wire.BurstsFound]{found}, destinationProblem(err)
		})
	call(s, "plan-landings", http.MethodPost, "/plan/landings",
		"Where items would land at a destination by a layout: some of the keeper's own, and the awkward ones",
		func(ctx context.Context, in *request[planwire.LayoutAsked]) (*answer[[]planwire.SetupName], error) {
			names, err := s.service.Trials.Landings(ctx, in.Body)
			return &answer[[]planwire.SetupName]{names}, destinationProblem(err)
		})
	call(s, "plan-undo", http.MethodPost, "/plan/undo", "Put an earlier version of the plan in force again",
		func(ctx context.Context, in *request[planwire.PlanUndo]) (*answer[planwire.PlanText], error) {
			if _, err := s.service.Book.GoBack(ctx, in.Body.To, in.Body.Base); err != nil {
				return nil, planProblem(err)
			}
			return s.planNow(ctx)
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
	var problems plantext.Problems
	var stale planbook.Stale
	var secret vault.Refused
	var none planbook.NoVersion
	switch {
	case errors.As(err, &none):
		return huma.Error404NotFound(sentence(none))
	case errors.As(err, &stale):
		return huma.Error409Conflict(sentence(stale))
	case errors.As(err, &secret):
		return huma.Error422UnprocessableEntity(sentence(secret))
	case !errors.As(err, &problems):
		return err
	}
	var details []error
	for _, p := range problems {
		details = append(details, &huma.ErrorDetail{Location: fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column),
			Message: p.What + "; " + p.Would})
	}
	n := fmt.Sprintf("%d mistakes", len(problems))
	if len(problems) == 1 {
		n = "a mistake"
	}
	return huma.Error422UnprocessableEntity("The plan has "+n+"; the one in force stays.", details...)
}

// sentence is an error as one.
func sentence(err error) string { return words.Sentence(err.Error()) }

type onePhone struct {
	Device string `path:"device"`
}

func (s *Server) standinRoutes() {
	call(s, "phones", http.MethodGet, "/standin/phones", "The simulated phones, none outside the demo",
		func(context.Context, *struct{}) (*answer[[]wire.Phone], error) {
			out := &answer[[]wire.Phone]{[]wire.Phone{}}
			if s.service.Standin != nil {
				out.Body = append(out.Body, s.service.Standin.Phones()...)
			}
			return out, nil
		})
	call(s, "set-phone", http.MethodPut, "/standin/phones/{device}", "Set a simulated phone's network and power",
		func(ctx context.Context, in *struct {
			Device string `path:"device"`
			Body   gate.Conditions
		}) (*answer[[]wire.Phone], error) {
			return s.standin(func(st service.Standin) error { return st.SetPhone(ctx, in.Device, in.Body) })
		})
	call(s, "standin-clock", http.MethodGet, "/standin/clock", "The clock that simulated devices live by",
		func(context.Context, *struct{}) (*answer[wire.StandinClock], error) {
			if s.service.Standin == nil {
				return nil, huma.Error404NotFound("Nothing is simulated here.")
			}
			return &answer[wire.StandinClock]{s.service.Standin.Clock()}, nil
		})
	call(s, "set-standin-clock", http.MethodPut, "/standin/clock", "Set it, stop it, step it or speed it up",
		func(ctx context.Context, in *request[wire.StandinClock]) (*answer[wire.StandinClock], error) {
			if s.service.Standin == nil {
				return nil, huma.Error404NotFound("Nothing is simulated here.")
			}
			err := s.service.Standin.SetClock(ctx, in.Body)
			return &answer[wire.StandinClock]{s.service.Standin.Clock()}, err
		})
	call(s, "follow-day", http.MethodPost, "/standin/phones/{device}/day", "Let a simulated device follow its day",
		func(ctx context.Context, in *onePhone) (*answer[[]wire.Phone], error) {
			return s.standin(func(st service.Standin) error { return st.FollowDay(ctx, in.Device) })
		})
	call(s, "put-card", http.MethodPut, "/standin/phones/{device}/card", "Put a simulated card in, or pull it out",
		func(ctx context.Context, in *struct {
			Device string `path:"device"`
			Body   cardwire.CardIn
		}) (*answer[[]wire.Phone], error) {
			return s.standin(func(st service.Standin) error { return st.PutCard(ctx, in.Device, in.Body.In) })
		})
	call(s, "take-picture", http.MethodPost, "/standin/phones/{device}/pictures", "Let a simulated phone take a picture",
		func(ctx context.Context, in *onePhone) (*answer[[]wire.Phone], error) {
			return s.standin(func(st service.Standin) error { return st.TakePicture(ctx, in.Device) })
		})
}

func (s *Server) standin(do func(service.Standin) error) (*answer[[]wire.Phone], error) {
	if s.service.Standin == nil {
		return nil, huma.Error404NotFound("Nothing is simulated here; that is so in the demo only.")
	}
	if err := do(s.service.Standin); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &answer[[]wire.Phone]{s.service.Standin.Phones()}, nil
}

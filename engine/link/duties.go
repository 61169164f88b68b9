package link

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/wire"
)

// This file holds what a device does when the service says so: as orders, that are kept
// until they are carried out, and as questions, that somebody waits for.

// Doer does it.
type Doer interface {
	Pause(ctx context.Context, until time.Time) error
	Resume(ctx context.Context) error
	Finish(ctx context.Context, then string) error
	SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error)
	Retry(ctx context.Context, keys []string) (int64, error)
	Reprove(ctx context.Context, destination string, sample int64) (int64, error)
	StopReproving(ctx context.Context, destination string) error
	TryAgain(destination string)
	Lose(ctx context.Context, destination, path, says, todo string) error

	SettlePlace(ctx context.Context, destination string, moved bool) (int64, error)
	Usual() []wire.UsualFolder
	Look(ctx context.Context, folder string, set *plan.Source, tell func(wire.Look)) error
	PictureAt(ctx context.Context, path string) ([]byte, error)
	Face(ctx context.Context, key string) ([]byte, error)
	CompareForm(ctx context.Context, key string, r plan.Rendition, x, y float64) (wire.FormCompared, error)
	FoundBursts(ctx context.Context, rule string) (wire.BurstsFound, error)
	SampleForm(ctx context.Context, rule string, kind media.Kind, r plan.Rendition) (wire.FormSample, error)
}

type (
	pauseUntil struct {
		Until time.Time `json:"until,omitzero"`
	}
	ofRest struct {
		Then string `json:"then"`
	}
	itemKeys struct {
		Keys    []string `json:"keys"`
		Metered bool     `json:"metered,omitempty"`
	}
	ofPlace struct {
		Destination string `json:"destination"`
		Sample      int64  `json:"sample,omitempty"`
		Moved       bool   `json:"moved,omitempty"`
		Path        string `json:"path,omitempty"`
		Says        string `json:"says,omitempty"`
		Todo        string `json:"todo,omitempty"`
	}
	ofForm struct {
		Key  string         `json:"key,omitempty"`
		Rule string         `json:"rule,omitempty"`
		Kind media.Kind     `json:"kind,omitempty"`
		Form plan.Rendition `json:"form"`
		X    float64        `json:"x,omitempty"`
		Y    float64        `json:"y,omitempty"`
	}
	ofFile struct {
		Folder string       `json:"folder,omitempty"`
		Set    *plan.Source `json:"set,omitempty"`
		Path   string       `json:"path,omitempty"`
		Key    string       `json:"key,omitempty"`
	}
)

// duty does one thing, with what is said of it.
type duty func(ctx context.Context, d Doer, with json.RawMessage) (any, error)

// of makes a duty of what does it with a value.
func of[T any](do func(ctx context.Context, d Doer, with T) (any, error)) duty {
	return func(ctx context.Context, d Doer, raw json.RawMessage) (any, error) {
		var with T
		if len(raw) > 0 {
			if err := json.Unmarshal(raw, &with); err != nil {
				return nil, fmt.Errorf("reading what is ordered: %w", err)
			}
		}
		return do(ctx, d, with)
	}
}

// duties are all there are, by name.
var duties = map[string]duty{
	"pause":    of(func(ctx context.Context, d Doer, w pauseUntil) (any, error) { return nil, d.Pause(ctx, w.Until) }),
	"resume":   of(func(ctx context.Context, d Doer, _ struct{}) (any, error) { return nil, d.Resume(ctx) }),
	"finish":   of(func(ctx context.Context, d Doer, w ofRest) (any, error) { return nil, d.Finish(ctx, w.Then) }),
	"send now": of(func(ctx context.Context, d Doer, w itemKeys) (any, error) { return d.SendNow(ctx, w.Keys, w.Metered) }),
	"retry":    of(func(ctx context.Context, d Doer, w itemKeys) (any, error) { return d.Retry(ctx, w.Keys) }),
	"prove": of(func(ctx context.Context, d Doer, w ofPlace) (any, error) {
		return d.Reprove(ctx, w.Destination, w.Sample)
	}),
	"stop proving": of(func(ctx context.Context, d Doer, w ofPlace) (any, error) {
		return nil, d.StopReproving(ctx, w.Destination)
	}),
	"try again": of(func(_ context.Context, d Doer, w ofPlace) (any, error) { d.TryAgain(w.Destination); return nil, nil }),
	losing: of(func(ctx context.Context, d Doer, w ofPlace) (any, error) {
		return nil, d.Lose(ctx, w.Destination, w.Path, w.Says, w.Todo)
	}),

	"settle": of(func(ctx context.Context, d Doer, w ofPlace) (any, error) {
		return d.SettlePlace(ctx, w.Destination, w.Moved)
	}),
	"usual": of(func(_ context.Context, d Doer, _ struct{}) (any, error) { return d.Usual(), nil }),
	"look": of(func(ctx context.Context, d Doer, w ofFile) (any, error) {
		var last wire.Look
		err := d.Look(ctx, w.Folder, w.Set, func(l wire.Look) { last = l })
		return last, err
	}),
	"picture": of(func(ctx context.Context, d Doer, w ofFile) (any, error) { return d.PictureAt(ctx, w.Path) }),
	"compare": of(func(ctx context.Context, d Doer, w ofForm) (any, error) {
		return d.CompareForm(ctx, w.Key, w.Form, w.X, w.Y)
	}),
	"sample": of(func(ctx context.Context, d Doer, w ofForm) (any, error) {
		return d.SampleForm(ctx, w.Rule, w.Kind, w.Form)
	}),
	"bursts": of(func(ctx context.Context, d Doer, w ofForm) (any, error) { return d.FoundBursts(ctx, w.Rule) }),
	"face":   of(func(ctx context.Context, d Doer, w ofFile) (any, error) { return d.Face(ctx, w.Key) }),
}

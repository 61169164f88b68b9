package link

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/bringback"
	"yardtide/engine/makeroom"
	"yardtide/engine/tell"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file holds what a device does when the service says so: as orders, that are kept
// until they are carried out, and as questions, that somebody waits for.

// Here is the device that an agent speaks for, in parts.
type Here struct {
	Known  func() tell.Known
	Orders Doer
	Shows  Shower
}

// Doer does what the keeper orders, and what the service does by itself.
type Doer interface {
	Ordered
	Lose(ctx context.Context, destination, path, says, todo string) error
}

// Ordered does what the keeper orders.
type Ordered interface {
	Pause(ctx context.Context, until time.Time) error
	Resume(ctx context.Context) error
	// Finish has it sleep, or go off, when nothing more can go; "" takes that back.
	Finish(ctx context.Context, then string) error
	SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error)
	Retry(ctx context.Context, keys []string) (int64, error)
	Reprove(ctx context.Context, destination string, sample int64) (int64, error)
	// StopReproving has no more proofs taken again.
	StopReproving(ctx context.Context, destination string) error
	TryAgain(destination string)
	SettlePlace(ctx context.Context, destination string, moved bool) (int64, error)
	// Bring brings files of an item back to the device, for a while.
	Bring(ctx context.Context, o bringback.Order) (bringback.Result, error)
	// MakeRoom has items go into the holding place, for a while; TakeBack has them back, all with none.
	MakeRoom(ctx context.Context, o makeroom.Order) (makeroom.Result, error)
	TakeBack(ctx context.Context, items []int64) (int64, error)
	// Say changes what the keeper said of items, and tells of how many.
	Say(ctx context.Context, items []int64, change media.KeeperChange) (int64, error)
}

// Shower shows what only a device itself can show, and changes nothing.
type Shower interface {
	// Usual lists the folders in which people mostly keep their things; Look looks at
	// one, and tells what it found so far; PictureAt shows a picture of it.
	Usual() []wire.UsualFolder
	Look(ctx context.Context, folder string, set *plan.Source, tell func(wire.Look)) error
	PictureAt(ctx context.Context, path string) ([]byte, error)
	// Browse lists the folders in one, with what is in each, as far as that can be told quickly.
	Browse(ctx context.Context, folder string) (planwire.Browsed, error)
	Face(ctx context.Context, key string) ([]byte, error)
	// CompareForm shows an item as shot and in a form; SampleForm tells what a form comes to
	// for a few of a kind.
	CompareForm(ctx context.Context, key string, r plan.Rendition, x, y float64) (planwire.FormCompared, error)
	SampleForm(ctx context.Context, rule string, kind media.Kind, r plan.Rendition, most int) (planwire.FormSample, error)
	// Strays looks for pictures and clips that no source takes up.
	Strays(ctx context.Context) (wire.Strays, error)
	// FoundBursts shows the bursts among the photos that a rule takes.
	FoundBursts(ctx context.Context, rule string) (wire.BurstsFound, error)
}

type (
	pauseUntil struct {
		Until time.Time `json:"until,omitzero"`
	}
	ofItems struct {
		Items []int64            `json:"items,omitempty"`
		Say   media.KeeperChange `json:"say,omitzero"`
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
		Most int            `json:"most,omitempty"`
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
type duty func(ctx context.Context, d Here, with json.RawMessage) (any, error)

// of makes a duty of what does it with a value.
func of[T any](do func(ctx context.Context, d Here, with T) (any, error)) duty {
	return func(ctx context.Context, d Here, raw json.RawMessage) (any, error) {
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
	"pause": of(func(ctx context.Context, d Here, w pauseUntil) (any, error) {
		return nil, d.Orders.Pause(ctx, w.Until)
	}),
	"resume": of(func(ctx context.Context, d Here, _ struct{}) (any, error) { return nil, d.Orders.Resume(ctx) }),
	"finish": of(func(ctx context.Context, d Here, w ofRest) (any, error) { return nil, d.Orders.Finish(ctx, w.Then) }),
	"send now": of(func(ctx context.Context, d Here, w itemKeys) (any, error) {
		return d.Orders.SendNow(ctx, w.Keys, w.Metered)
	}),
	"retry": of(func(ctx context.Context, d Here, w itemKeys) (any, error) { return d.Orders.Retry(ctx, w.Keys) }),
	"prove": of(func(ctx context.Context, d Here, w ofPlace) (any, error) {
		return d.Orders.Reprove(ctx, w.Destination, w.Sample)
	}),
	"stop proving": of(func(ctx context.Context, d Here, w ofPlace) (any, error) {
		return nil, d.Orders.StopReproving(ctx, w.Destination)
	}),
	"try again": of(func(_ context.Context, d Here, w ofPlace) (any, error) {
		d.Orders.TryAgain(w.Destination)
		return nil, nil
	}),
	losing: of(func(ctx context.Context, d Here, w ofPlace) (any, error) {
		return nil, d.Orders.Lose(ctx, w.Destination, w.Path, w.Says, w.Todo)
	}),

	"settle": of(func(ctx context.Context, d Here, w ofPlace) (any, error) {
		return d.Orders.SettlePlace(ctx, w.Destination, w.Moved)
	}),
	"make room": of(func(ctx context.Context, d Here, w makeroom.Order) (any, error) { return d.Orders.MakeRoom(ctx, w) }),
	"take back": of(func(ctx context.Context, d Here, w ofItems) (any, error) { return d.Orders.TakeBack(ctx, w.Items) }),
	"say":       of(func(ctx context.Context, d Here, w ofItems) (any, error) { return d.Orders.Say(ctx, w.Items, w.Say) }),
	"bring":     of(func(ctx context.Context, d Here, w bringback.Order) (any, error) { return d.Orders.Bring(ctx, w) }),
	"usual":     of(func(_ context.Context, d Here, _ struct{}) (any, error) { return d.Shows.Usual(), nil }),
	"look": of(func(ctx context.Context, d Here, w ofFile) (any, error) {
		var last wire.Look
		err := d.Shows.Look(ctx, w.Folder, w.Set, func(l wire.Look) { last = l })
		return last, err
	}),
	"browse":  of(func(ctx context.Context, d Here, w ofFile) (any, error) { return d.Shows.Browse(ctx, w.Folder) }),
	"picture": of(func(ctx context.Context, d Here, w ofFile) (any, error) { return d.Shows.PictureAt(ctx, w.Path) }),
	"compare": of(func(ctx context.Context, d Here, w ofForm) (any, error) {
		return d.Shows.CompareForm(ctx, w.Key, w.Form, w.X, w.Y)
	}),
	"sample": of(func(ctx context.Context, d Here, w ofForm) (any, error) {
		return d.Shows.SampleForm(ctx, w.Rule, w.Kind, w.Form, w.Most)
	}),
	"bursts": of(func(ctx context.Context, d Here, w ofForm) (any, error) { return d.Shows.FoundBursts(ctx, w.Rule) }),
	"strays": of(func(ctx context.Context, d Here, _ struct{}) (any, error) { return d.Shows.Strays(ctx) }),
	"face":   of(func(ctx context.Context, d Here, w ofFile) (any, error) { return d.Shows.Face(ctx, w.Key) }),
}

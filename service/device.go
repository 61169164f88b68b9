package service

import (
	"context"
	"time"

	"yardtide/core/forecast"
	"yardtide/core/plan"
	"yardtide/core/room"
	"yardtide/core/words"
	"yardtide/engine/device"
	"yardtide/engine/link"
	"yardtide/engine/tell"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Device is a device as the service sees it, in parts: a device.Device in this process, or a
// link.Mirror for one elsewhere. Nobody above knows which. A room takes the part that it needs.
//
// Items are named by their keys. The errors that a caller decides on are
// records.NoItem for a key that is none, tell.NeedsMetered, place.NoQuestion, and
// face.ErrNone, ErrAway and ErrBusy.
type Device struct {
	Machine
	Told   Told
	Finds  Finds
	Shows  link.Shower
	Orders Orders
}

// Machine is what runs a device.
type Machine interface {
	DeviceName() string
	// Folder is where a source lies on the device.
	Folder(source string) string
	// Run works until the context ends.
	Run(ctx context.Context) error
	// SetPlan gives it the plan in force; it takes effect at once.
	SetPlan(p *plan.Plan)
}

// Told is what is told of a device. It changes nothing.
type Told interface {
	Status(ctx context.Context) (wire.Device, error)
	Items(ctx context.Context, f wire.Filter) ([]wire.Item, error)
	Find(ctx context.Context, text string, limit int) ([]wire.Item, error)
	Story(ctx context.Context, key string) (wire.Story, error)
	// Day tells what it sensed and sent in the day of an instant.
	Day(ctx context.Context, in time.Time) (wire.DeviceDay, error)
	// Doubts tells what a plan allows on it and was hardly meant, as only it can tell.
	Doubts(ctx context.Context, p *plan.Plan) ([]words.Doubt, error)
	// Held tells what its sources and its rules hold.
	Held(ctx context.Context) (planwire.PlanHeld, error)
	// TryPlan tells what a plan would do to its items, CostOf what sending some now would take.
	TryPlan(ctx context.Context, p *plan.Plan) (tell.Tried, error)
	CostOf(ctx context.Context, keys []string) (wire.Cost, error)
	// Proving tells how far the proofs are that are taken again at a destination, or at
	// all with "".
	Proving(ctx context.Context, destination string) (wire.Proving, error)
	// What it tells of one destination.
	Trouble(destination string) (says, todo string)
	PlaceProblem(destination string) (says, todo string)
	StandsFor(destination, place string) bool
}

// Finds is what finds items of a device by their numbers.
type Finds interface {
	// Feed tells an index of the items, ItemsOf lists some that it found.
	Feed(ctx context.Context, f *tell.Feed, into tell.Into) error
	ItemsOf(ctx context.Context, ids []int64) ([]wire.Item, error)
	// Lying tells where items lie, file by file.
	Lying(ctx context.Context, ids []int64) ([]tell.Lying, error)
	// MayGo chooses what may go to make room, Cleared tells what went, and ClearedFiles file by file.
	MayGo(ctx context.Context, w room.Want, lately time.Time) (room.Choice, []room.Disk, error)
	Cleared(ctx context.Context) (tell.Cleared, error)
	ClearedFiles(ctx context.Context, held bool, below int64, limit int) ([]tell.ClearedFile, error)
}

// Orders are what a device does when it is told.
type Orders interface {
	link.Ordered
	// Adopt lists what was there before, and tells of it on the way.
	Adopt(ctx context.Context, destination string, found func(wire.Adopted)) (wire.Adopted, error)
}

// ofHere is a device of this process, ofElsewhere one that a mirror stands for.
func ofHere(d *device.Device) Device    { return Device{d, d.Told, d.Told, d.Shows, d.Orders} }
func ofElsewhere(m *link.Mirror) Device { return Device{m, m.Told, m.Told, m.Shows, m.Orders} }

// sampler makes forms of pictures that were looked at: a device of this process does.
type sampler interface {
	SampleFiles(ctx context.Context, files []string, forms map[string]plan.Rendition) (map[string][]forecast.Sample, error)
	CompareFile(ctx context.Context, file string, r plan.Rendition) (planwire.FormCompared, error)
}

// Samples makes forms of some pictures, and tells what came of them; a device elsewhere tells nothing.
func (d draftOf) Samples(ctx context.Context, files []string,
	forms map[string]plan.Rendition) (map[string][]forecast.Sample, error) {
	if s, is := d.Shower.(sampler); is {
		return s.SampleFiles(ctx, files, forms)
	}
	return nil, nil
}

// draftOf is a device as the set-up sees it.
type draftOf struct {
	Machine
	Told
	link.Shower
}

// Package upkeep does what falls due at a device's places beside the sends: looks at
// them, removes what was left, takes proofs again, writes the open record, and lists
// what was there before. One scheduler does all of it, when nothing is lost by waiting
// and over networks that cost nothing.
package upkeep

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/work"
)

// Options make the upkeep of a device. All are needed.
type Options struct {
	Device  string
	Owner   string // what temporary names of the device begin with
	Folder  string // what its folder for records is called
	Records *records.Records
	Places  *place.Places
	Others  Others
	Outlook func() gate.Situation             // now, without what the records know
	Sending func(destination string) bool     // something is on its way there
	Beside  *work.Crew                        // does the chores
	Changed func()                            // something changed that decisions rest on
	Tell    func()                            // something changed that is told
	Wait    func(time.Duration) time.Duration // stretches or shortens waits
	Log     *slog.Logger
}

// Others is what a device knows of what the others have at a place.
type Others interface {
	// Ours tells which of some paths there were put there by a device here, and Matching how
	// many waiting copies have the size of a file that was there before.
	Ours(ctx context.Context, destination string, paths []string) (map[string]bool, error)
	Matching(ctx context.Context, destination string) (int64, error)
	// Alone tells whether nobody tells what the others have.
	Alone() bool
	// Resting lists what is called safe at a path, of whichever device.
	Resting(ctx context.Context, destination, path string) ([]fleet.Proven, error)
	// Lost takes every copy that rests on a path back from safe.
	Lost(ctx context.Context, destination, path, says, todo string) (int64, error)
}

// Upkeep does the chores of a device.
type Upkeep struct {
	Options

	reading sync.Mutex // held while the records of others are read

	mu      sync.Mutex
	chores  map[string]map[string]*doing // by destination and chore
	listed  map[string]time.Time         // when what is on its way there was last looked through
	writing map[string]bool              // temporary names that are on no record and in use
	others  map[string]time.Time         // when the records of others were read there last
	parts   map[string]bool              // of them that were read
	doubles map[string]int64             // by destination
}

// New makes one.
func New(o Options) *Upkeep {
	return &Upkeep{Options: o, chores: map[string]map[string]*doing{}, listed: map[string]time.Time{},
		writing: map[string]bool{}, others: map[string]time.Time{}, parts: map[string]bool{}, doubles: map[string]int64{}}
}

// chore is work that falls due at a destination beside the sends: one of each at a
// time there, over a network that costs nothing, while nothing is paused.
type chore struct {
	name string
	// due tells what is to be done now, nil for nothing, and when that may change by
	// time alone. Busy tells that copies are on their way there, or will be.
	due func(u *Upkeep, ctx context.Context, destination string, now time.Time,
		busy bool) (do func(context.Context) error, next time.Time, err error)
	// shows tells that its failure is one of the destination, and holds all that goes
	// there. Else it is tried again after a while, and nobody waits for it.
	shows bool
	// unasked tells that it is done also where this device sends nothing any more.
	unasked bool
}

// chores are all there are, in the order in which they are looked at.
var chores = []chore{
	{name: "look at the place", due: (*Upkeep).lookDue, shows: true},
	{name: "look at what lies there", due: (*Upkeep).rebuildDue, shows: true},
	{name: "read what others recorded", due: (*Upkeep).othersDue},
	{name: "remove what was left", due: (*Upkeep).sweepDue, unasked: true},
	{name: "remove small copies", due: (*Upkeep).withdrawDue, unasked: true},
	{name: "take proofs again", due: (*Upkeep).reproveDue, shows: true, unasked: true},
	{name: "write the record", due: (*Upkeep).recordDue, unasked: true},
}

// choreAt names a chore at a place.
type choreAt struct{ destination, chore string }

// doing is how a chore stands at a place.
type doing struct {
	after time.Time // it failed: when it is tried again
	tries int       // that failed, one after the other
}

// choreWait is how long a chore rests that failed once; each further time it rests twice as
// long, up to mostChoreWait.
const (
	choreWait     = time.Minute
	mostChoreWait = 8 * time.Minute
)

// Start starts the chores that are due; busy are the destinations to which copies are on
// their way, or will be. It returns when to look again.
func (u *Upkeep) Start(ctx, sendCtx context.Context, s gate.Situation,
	busy map[string]bool) (next time.Time, err error) {
	for name := range s.Plan.Destinations {
		if s.Quiet(name) {
			continue
		}
		id, _ := u.Places.Stands(name)
		asked, was := u.Places.Asked(name), id != "" // where it never was, it leaves nothing, and marks nothing
		for _, c := range chores {
			is, after := u.doing(name, c.name)
			if u.Beside.Does(choreAt{name, c.name}) || !asked && !(c.unasked && was) {
				continue
			}
			if s.Time.Before(after) {
				next = gate.Earlier(next, after)
				continue
			}
			do, at, err := c.due(u, ctx, name, s.Time, busy[name])
			if err != nil {
				return next, err
			}
			next = gate.Earlier(next, at)
			if do != nil {
				u.do(sendCtx, name, c, is, do)
			}
		}
	}
	return next, nil
}

// doing tells how a chore stands at a place.
func (u *Upkeep) doing(name, chore string) (is *doing, after time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.chores[name] == nil {
		u.chores[name] = map[string]*doing{}
	}
	if is = u.chores[name][chore]; is == nil {
		is = &doing{}
		u.chores[name][chore] = is
	}
	return is, is.after
}

// do does a chore beside everything else.
func (u *Upkeep) do(ctx context.Context, name string, c chore, is *doing, do func(context.Context) error) {
	u.Beside.Begin(choreAt{name, c.name}, func() {
		err := do(ctx)
		shows := c.shows && !records.IsFailure(err)
		switch {
		case err == nil || ctx.Err() != nil: // done, or ended
		case shows:
			u.Places.Fail(name, err)
		default:
			u.Log.Warn("a chore failed; it is done later", "device", u.Device, "destination", name, "chore", c.name, "err", err)
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		if is.tries++; err == nil {
			is.tries = 0
		}
		if err != nil && !shows {
			is.after = time.Now().Add(u.Wait(min(choreWait<<min(is.tries-1, 8), mostChoreWait)))
		}
	})
}

// lookDue has places looked at.
func (u *Upkeep) lookDue(_ context.Context, name string, now time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
	due, next := u.Places.LookDue(name, now)
	if !due {
		return nil, next, nil
	}
	return func(ctx context.Context) error { return u.Places.Look(ctx, name) }, time.Time{}, nil
}

// Package carry takes one copy from its file to its proof: by way of what may be there
// already, under a temporary name, put in place without writing over anything, and
// compared. It does not choose what goes, nor when: device does.
package carry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/source"
)

// Options make a carrier. All are needed.
type Options struct {
	Device  string
	Owner   string                     // what temporary names of the device begin with
	Folder  func(source string) string // where a source lies on this machine
	Away    func(source string) bool   // it is not there: its disk or its card went; nil knows of none
	Records *records.Records
	Places  *place.Places
	Others  Others
	Plan    func() *plan.Plan
	Outside func() gate.Situation // what the device senses now: no place is in it
	Pace    *rate.Limiter         // of all sends
	Forms   *rendition.Cache      // of what is not sent as shot
	// Recorded has what others recorded at a destination known, where nobody else tells.
	Recorded func(ctx context.Context, destination string) error
	Tell     func() // something changed that is told
	Freed    func() // a send is done at the storage: another may begin
	// Broken is told that the records could not be written.
	Broken func(what string, err error)
	Log    *slog.Logger
	Jitter func() float64                    // in [0,1)
	Wait   func(time.Duration) time.Duration // stretches or shortens waits
}

// Others is what a device knows of the others, and of itself among them: who has
// these bytes at a place, and may they be sent.
type Others interface {
	// Alike tells whether another copy of the same size and look goes or went there.
	Alike(ctx context.Context, device string, c records.Copy, look string) (bool, error)
	// Holder finds a copy with the same content that is proven there, and its device.
	Holder(ctx context.Context, destination string, bytes int64, sha256 string) (c records.Copy, device string, ok bool,
		err error)
	// Taken tells whether another copy was put in place under this one's path.
	Taken(ctx context.Context, device string, c records.Copy) (bool, error)
	// Found lists files of a size that were there before; Hashed keeps the hash of one,
	// "" when it is there no longer.
	Found(ctx context.Context, destination string, bytes int64) ([]records.Lying, error)
	Hashed(ctx context.Context, file records.Lying, sha256 string, at time.Time) error
	// Turn gives the right to send content, and with wait waits while another may send
	// the same; End gives it back.
	Turn(ctx context.Context, c records.Copy, look, hash string, wait bool) (*fleet.Turn, error)
	End(*fleet.Turn)
	// Name gives the right to put something in place under a path, until end is called.
	// Without sure another may have it, too.
	Name(ctx context.Context, destination, path string) (end func(), sure bool, err error)
	// Lost takes every copy that rests on a path back from safe.
	Lost(ctx context.Context, destination, path, says, todo string) (int64, error)
}

var _ Others = (*fleet.Fleet)(nil)

// Carrier carries the copies of a device.
type Carrier struct {
	Options

	mu      sync.Mutex
	doubted map[[2]string]time.Time // destination and path: nothing rests on these until then
}

func text(s string) *string { return &s }

// Reserve sets aside what a send may cost; ok is false when the allowance no longer
// has room for it.
func (c *Carrier) Reserve(ctx context.Context, s *Send) (ok bool, err error) {
	if !s.Metered || s.Proving {
		return true, nil
	}
	bytes := s.copy.Bytes
	if s.copy.Temp != "" && bytes >= resumeFrom {
		bytes += destination.Compared // what is read back, to go on from it
	}
	if s.readsBack() {
		bytes += s.copy.Bytes
	}
	s.reserved, err = c.Records.Ledger.Reserve(ctx, s.copy.ID, s.Spend, s.Limits, allowance.Cost(bytes), time.Now())
	return s.reserved, err
}

// Carry takes a copy as far as it goes and records how it ended. It tells whether
// nothing failed.
func (c *Carrier) Carry(ctx context.Context, s *Send) bool {
	defer func() { c.Others.End(s.turn) }()
	err := c.tryCarry(ctx, s)
	if why := context.Cause(ctx); err != nil && why != nil {
		err = why // whatever failed, it failed as the send was cut
	}
	// What follows must be recorded even when the send was cut.
	ctx = context.WithoutCancel(ctx)
	if !s.reserved {
		// there is nothing to settle
	} else if serr := c.Records.Ledger.Settle(ctx, s.copy.ID, s.meter.spent()); serr != nil {
		c.Log.Error("what was spent could not be recorded; it counts as reserved until the next start", "device", c.Device,
			"copy", s.copy.ID, "err", serr)
	}
	if err == nil {
		c.Places.Mended(s.copy.Destination)
		c.dropForm(ctx, s)
		return true
	}
	if errors.Is(err, errPrepareAnew) {
		if uerr := c.Records.Forms.Unprepare(ctx, s.item.ID); uerr != nil {
			err = uerr
		}
	}
	if records.IsFailure(err) {
		c.Broken("the records could not be written", err)
		return false
	}
	if !tookAway(err) {
		err = c.failed(ctx, s, err)
	}
	switch {
	case tookAway(err):
		c.clean(ctx, s)
	case err != nil:
		c.Broken("a failure could not be recorded", err)
	}
	return false
}

// tookAway tells whether a step was refused as the plan took the copy elsewhere
// meanwhile: that is on record already.
func tookAway(err error) bool {
	var moved queue.StepError
	return errors.As(err, &moved) || errors.Is(err, records.ErrNotAsked)
}

func (c *Carrier) tryCarry(ctx context.Context, s *Send) (err error) {
	defer func() {
		if p := recover(); p != nil {
			c.Log.Error("a send panicked", "device", c.Device, "copy", s.copy.ID, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault in the program: %v", p)
		}
	}()
	item := s.item
	if item.ID == 0 {
		var ok bool
		if item, ok, err = c.Records.Catalogue.Item(ctx, s.copy.Item); err != nil || !ok {
			return errors.Join(err, fmt.Errorf("the item of copy %d", s.copy.ID))
		}
	}
	if item.GoneMS != 0 && !s.proving {
		return source.Error{Cause: queue.Gone, Says: "The file was changed or removed before it was sent."}
	}
	s.item, s.name, s.path = item, item.Name, c.pathTo(item)
	driver, err := c.Places.Reach(ctx, s.copy.Destination)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.driver = driver
	s.mu.Unlock()
	s.place = c.Places.Is(s.copy.Destination)
	s.ours = s.copy.Landed
	if s.proving {
		return c.prove(ctx, s)
	}
	if there, err := c.isThere(ctx, s); err != nil || there {
		return err
	}
	there, sends := false, sending{s, c}
	if s.copy.Shelf.IsPick() {
		there, err = sends.copyThere(ctx)
	}
	switch {
	case err != nil || there:
	case sends.goesWhole():
		err = sends.sendWhole(ctx)
	default:
		err = sends.send(ctx)
	}
	if err != nil {
		return err
	}
	err = c.prove(ctx, s)
	// Without a proof it is on record all the same that it landed.
	return errors.Join(err, sends.settle(ctx))
}

// pathTo is where an item's file lies on this machine.
func (c *Carrier) pathTo(item records.Item) string {
	return filepath.Join(c.Folder(item.Source), filepath.FromSlash(item.Path()))
}

// step records a step even when the send is cut meanwhile: what has happened at
// the storage must be known here. The cut shows at the next thing that is done.
func (c *Carrier) step(ctx context.Context, s *Send, to queue.State, story string, change records.Change) error {
	ctx = context.WithoutCancel(ctx)
	var err error
	if l := s.unrecorded; l != nil && to == queue.Safe {
		err = c.Records.Queue.Land(ctx, s.copy.ID, l.story, l.change, story, change, time.Now())
	} else {
		err = c.Records.Queue.Step(ctx, s.copy.ID, to, story, change, time.Now())
	}
	if err != nil {
		return err
	}
	s.unrecorded = nil
	s.mu.Lock()
	s.copy.State = to
	s.mu.Unlock()
	c.Tell()
	return nil
}

// safe records a proof.
func (c *Carrier) safe(ctx context.Context, s *Send, story, way string, at time.Time) error {
	s.mu.Lock()
	s.recording = true
	s.mu.Unlock()
	c.Freed()
	if !s.ours { // this send put nothing there: it is the place that answered to the proof
		if err := c.Places.Still(ctx, s.copy.Destination); err != nil {
			return err
		}
	}
	err := c.step(ctx, s, queue.Safe, story, records.Change{If: &s.place, Proof: &way, ProvenAt: &at, Says: text(""),
		Order: new(records.Order), NotBefore: &time.Time{}, Tries: new(int)})
	if errors.Is(err, records.ErrFactChanged) { // in this moment
		return ErrMoved
	}
	return err
}

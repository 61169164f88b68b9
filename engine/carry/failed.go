package carry

import (
	"context"
	"errors"
	"os"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/source"
)

// This file records how a send ended that did not arrive.

// causeOf tells why a send failed, in a sentence, and how long the storage asked to be
// left alone.
func causeOf(err error) (cause queue.Cause, says string, after time.Duration) {
	var fromSource source.Error
	var fromStorage *destination.Error
	switch {
	case errors.Is(err, ErrShut):
		return queue.Shut, "A gate shut while it was sent.", 0
	case errors.Is(err, ErrStopping):
		return queue.Shut, "The service stopped.", 0
	case errors.Is(err, ErrMoved):
		return queue.Shut, "Its destination came to stand for another address.", 0
	case errors.Is(err, errPrepareAnew):
		return queue.Shut, "What is made of it now is not what was noted; it is prepared anew.", 0
	case errors.Is(err, errClash):
		return queue.Shut, "Something else has the name that it was to take; it is sent under another.", 0
	case errors.Is(err, errCompare):
		return queue.Shut, "A file of its size is at the storage; the two are compared when a network is there that " +
			"costs nothing.", 0
	case errors.As(err, &fromSource):
		return fromSource.Cause, fromSource.Says, 0
	case errors.As(err, &fromStorage):
		return fromStorage.Cause, destination.Sentence(err), fromStorage.RetryAfter
	case scan.Left(err):
		return queue.Away, "What its file lies on went while it was sent.", 0
	case errors.Is(err, destination.ErrNotFound):
		return queue.Busy, "The storage lost the file on its way.", 0
	}
	return queue.Bug, destination.Sentence(err), 0
}

// failed records what follows from a failure.
func (c *Carrier) failed(ctx context.Context, s *Send, err error) error {
	if errors.Is(err, ErrUnwanted) {
		return c.unwanted(ctx, s)
	}
	cause, says, after := causeOf(err)
	if s.path != "" { // its file was asked for
		cause, says = c.orAway(s.item, cause, says)
	}
	if cause == queue.Bug {
		c.Log.Error("a copy failed in a way that is not known", "device", c.Device, "copy", s.copy.ID, "err", err)
	}
	if s.temp != "" { // what was under way may still arrive
		c.Places.Late(s.copy.Destination)
	}
	tries := s.copy.Tries + 1
	o := queue.Judge(cause, tries, c.Jitter(), after)
	change := records.Change{Says: &says, Todo: text(o.Do), Tries: &tries, NotBefore: new(time.Time),
		Sent: new(s.copy.Sent + s.meter.n.Load())}
	wait := o.Wait
	switch {
	case errors.Is(err, errCompare):
		wait, change.Tries = compareWait, &s.copy.Tries
	case errors.Is(err, ErrShut), errors.Is(err, ErrStopping):
		change.Tries = &s.copy.Tries
	case cause == queue.Shut && tries > 1: // at once the first time, and then ever later
		wait = queue.Wait(tries-1, c.Jitter())
	case cause == queue.Elsewhere && c.isBack(ctx, s.copy.Destination):
		wait = queue.Wait(tries, c.Jitter())
	case o.Destination: // it waits for that one as a whole
		c.Places.FailFor(s.copy.Destination, cause, says)
		wait, change.Tries = 0, &s.copy.Tries
	}
	if wait > 0 {
		change.NotBefore = new(time.Now().Add(c.Wait(wait)))
	}
	anew := cause == queue.Different || cause == queue.Changed || errors.Is(err, errClash)
	if anew { // what was sent does not count
		change.Remote, change.SHA256, change.Landed, change.Sent = text(""), text(""), new(bool), new(int64)
	}
	// What may still lie there stays on record: the next try goes on from it or writes
	// over it, or a sweep removes it.
	if s.temp != "" && !keepsPart(s, cause) && c.clean(ctx, s) {
		change.Temp = text("")
	}
	to := o.To
	switch {
	case s.copy.State == queue.Proving && to == queue.Waiting && !anew:
		to = queue.Proving // what was sent lies there: only its proof is still owed
	case (cause == queue.Different || errors.Is(err, errClash)) && s.item.GoneMS != 0: // nothing to send it from
		to, change.Todo = queue.Stuck, text("The file is no longer on the device either: look for it at the storage, or "+
			"put it back on the device.")
	}
	return c.step(ctx, s, to, says, change)
}

// orAway tells a file that is gone, or cannot be read, from one that lies on what is away, or was for a moment.
func (c *Carrier) orAway(item records.Item, cause queue.Cause, says string) (queue.Cause, string) {
	switch cause {
	case queue.Gone, queue.Unreadable, queue.Changed, queue.Away:
	default:
		return cause, says
	}
	away := func() bool { return c.Away != nil && c.Away(item.Source) }
	was := away()
	_, err := os.Lstat(c.pathTo(item))
	switch { // it is asked for before and after: what is pulled in between is not gone
	case was, away():
		return queue.Away, "What its file lies on is away; it goes on when that is back."
	case (cause == queue.Gone || cause == queue.Away) && err == nil:
		return queue.Changed, "The file was away for a moment; it is looked at again."
	}
	return cause, says
}

// isBack looks at once whether the place answers again that did not in the middle of a send:
// what lies there instead is known from then on.
func (c *Carrier) isBack(ctx context.Context, name string) bool {
	_, err := c.Places.Reach(ctx, name)
	return err == nil
}

// unwanted leaves a copy that the plan no longer asks for. What was put in place
// stays, and is found again when a later plan asks for it.
func (c *Carrier) unwanted(ctx context.Context, s *Send) error {
	sent := s.copy.Sent + s.meter.n.Load()
	change := records.Change{Says: text(queue.NotAsked), Todo: text(""), Temp: text(""), Sent: &sent,
		NotBefore: new(time.Time), Tries: new(int), Order: new(records.Order)}
	if !c.clean(ctx, s) {
		change.Temp = nil // a sweep removes it
	}
	return c.step(ctx, s, queue.Skipped, queue.NotAsked, change)
}

// compareWait is how long a copy waits that is to be compared with what is at
// the storage.
const compareWait = 10 * time.Minute

// keepsPart tells whether what a failed try left is of use to the next.
func keepsPart(s *Send, cause queue.Cause) bool {
	r, able := s.driver.(destination.Resumer)
	return able && r.Resumes() && s.meter.from.Load()+s.meter.n.Load() >= resumeFrom &&
		(cause == queue.Unreachable || cause == queue.Busy || cause == queue.Shut)
}

// clean removes what a failed try left under its temporary name, if the
// storage can be asked; it tells whether nothing is left.
func (c *Carrier) clean(ctx context.Context, s *Send) bool {
	if s.driver == nil || s.temp == "" {
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	o := c.Outside()
	if c.Places.At(s.copy.Destination).Failing.Is() || o.Costs(s.copy.Destination) || o.Away(s.copy.Destination) {
		return false
	}
	return s.driver.Remove(ctx, s.temp) == nil
}

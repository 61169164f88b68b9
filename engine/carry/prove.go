package carry

import (
	"context"
	"errors"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
)

// This file takes the proof of what was sent.

// prove takes the best proof that the destination allows. Over a network that
// costs nothing is read back: unless the storage itself can tell, the proof is
// owed, and the copy stays where it is; but for a small copy, which is there to be safe
// soon: reading it back was reserved with it. A hash that the storage has kept counts
// for what was put there this moment only.
func (c *Carrier) prove(ctx context.Context, s *Send) error {
	costs := c.Outside().Costs(s.copy.Destination)
	s.mu.Lock()
	s.proving = true
	s.mu.Unlock()
	if costs && !s.Metered {
		return nil
	}
	mayRead := !costs || s.readsBack() && s.landed
	if _, tells := s.driver.(destination.Prover); !tells && !mayRead {
		return nil // the proof is owed: nothing is asked over a network that costs
	}
	if err := c.here(ctx, s); err != nil {
		return err
	}
	way, err := proof.Take(ctx, s.driver, s.copy.Remote, s.copy.SHA256, s.copy.Bytes, mayRead, !s.landed || s.placed)
	missing := errors.Is(err, destination.ErrNotFound)
	switch {
	case errors.Is(err, proof.ErrUnread):
		return nil
	case err != nil && !missing && destination.CauseOf(err) != queue.Different:
		return err
	case err != nil:
		return c.notThere(ctx, s, missing)
	}
	story := "Read back whole."
	if way != proof.ReadBack {
		story = "The storage has the same SHA-256."
	}
	return c.safe(ctx, s, story, way, time.Now())
}

// here sees that what was put at a destination was put at its place. The proof is taken after.
func (c *Carrier) here(ctx context.Context, s *Send) error {
	driver, err := c.Places.Put(ctx, s.copy.Destination)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.driver = driver
	s.mu.Unlock()
	return nil
}

// readsBack tells whether a send's proof may be read back over a network that costs.
func (s *Send) readsBack() bool { return s.Metered && s.copy.Shelf == plan.Small }

// errClash tells that something else has the name that a copy had meant to take.
var errClash = errors.New("another file has the name")

// notThere tells what follows when what a copy was to be proven with is not at its
// path: missing, or something else.
func (c *Carrier) notThere(ctx context.Context, s *Send, missing bool) error {
	path := s.copy.Remote
	switch {
	case s.twin != "":
		// It was called safe for another copy: that is not so any more.
		c.doubt(s.copy.Destination, path)
		if err := c.lost(ctx, s, proof.Lost(path, missing),
			"Find out who changed it. Retry sends it again while the file is on the device."); err != nil {
			return err
		}
		return errClash
	case !s.ours: // it was never put there: no fault of the storage's
		return errClash
	case missing:
		return &destination.Error{Cause: queue.Different, Says: "what was put there as " + path + " is not at the storage"}
	}
	return &destination.Error{Cause: queue.Different, Says: "what lies at " + path +
		" is not what was sent; it is left there and sent anew"}
}

// doubtFor is how long nothing rests on what was seen not to be at a path.
const (
	doubtFor   = time.Hour
	mostDoubts = 1000
)

// doubt has nothing rest on a path for a while: what was called safe there is not there. Whose
// it is may be away, and call it safe until it is heard of.
func (c *Carrier) doubt(destination, path string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	for at, until := range c.doubted {
		if now.After(until) || len(c.doubted) >= mostDoubts {
			delete(c.doubted, at)
		}
	}
	if c.doubted == nil {
		c.doubted = map[[2]string]time.Time{}
	}
	c.doubted[[2]string{destination, path}] = now.Add(doubtFor)
}

func (c *Carrier) doubts(destination, path string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Before(c.doubted[[2]string{destination, path}])
}

// lost takes every copy that rests on what lay at a copy's path back from safe.
func (c *Carrier) lost(ctx context.Context, s *Send, says, todo string) error {
	n, err := c.Others.Lost(context.WithoutCancel(ctx), s.copy.Destination, s.copy.Remote, says, todo)
	if err == nil {
		c.Log.Error("a copy that was safe is lost", "device", c.Device, "destination", s.copy.Destination, "path",
			s.copy.Remote, "copies", n, "says", says)
	}
	return err
}

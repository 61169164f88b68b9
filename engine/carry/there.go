package carry

import (
	"context"
	"errors"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
	"yardtide/engine/records"
)

// This file sees whether content is at the storage already, before it is sent: put
// there by a try that was cut short, as another item's copy of any device here, or
// before Yard Tide came. It then goes on to the proof.

// isThere tells whether the content was there, and its copy went on to the proof. Else
// it is this send's turn to send it.
func (c *Carrier) isThere(ctx context.Context, s *Send) (bool, error) {
	if s.copy.Remote != "" && s.copy.SHA256 != "" {
		if there, err := c.wasFinished(ctx, s); err != nil || there {
			return there, err
		}
	}
	if c.Plan().Rules[s.copy.Rule].StoreEach || s.copy.Shelf != plan.Main {
		return false, nil
	}
	if !s.Metered {
		if err := c.Recorded(ctx, s.copy.Destination); err != nil {
			return false, err
		}
	}
	// The turn is taken before anybody is asked: whoever's copy came too late to be told of finds the turn.
	var err error
	if s.turn, err = c.Others.Turn(ctx, s.copy, s.item.Look, "", false); err != nil {
		return false, err
	}
	alike, err := c.Others.Alike(ctx, c.Device, s.copy, s.item.Look)
	if err != nil {
		return false, err
	}
	found, err := c.Others.Found(ctx, s.copy.Destination, s.copy.Bytes)
	if err != nil {
		return false, err
	}
	if !alike && len(found) == 0 {
		return false, nil
	}
	c.Others.End(s.turn)
	s.turn = nil
	if err := c.step(ctx, s, queue.Preparing, "Something like it goes or went there: they are compared first.",
		records.Change{Says: text("")}); err != nil {
		return false, err
	}
	if s.hash, err = c.contentOf(ctx, s); err != nil {
		return false, err
	}
	if s.turn, err = c.Others.Turn(ctx, s.copy, s.item.Look, s.hash, true); err != nil {
		return false, err
	}
	if there, err := c.joinHolder(ctx, s); err != nil || there {
		return there, err
	}
	for _, file := range found {
		if there, err := c.joinFound(ctx, s, file); err != nil || there {
			return there, err
		}
	}
	return false, nil
}

// contentOf is the hash of what a send sends. Of a file that was read before and is what it was then only its stamp is
// asked.
func (c *Carrier) contentOf(ctx context.Context, s *Send) (string, error) {
	if s.item.SHA256 == "" || s.copy.Reduced {
		return (sending{s, c}).hashFile(ctx)
	}
	f, err := c.openItem(ctx, s.item, s.path)
	if err != nil {
		return "", err
	}
	f.Close()
	return s.item.SHA256, nil
}

// wasFinished looks whether an earlier try had put the file in place, and was cut
// before it could tell. The name is its own only if the content is: another may
// have taken it first.
func (c *Carrier) wasFinished(ctx context.Context, s *Send) (bool, error) {
	if !s.ours && c.Plan().Rules[s.copy.Rule].StoreEach {
		taken, err := c.Others.Taken(ctx, c.Device, s.copy)
		if err != nil || taken {
			return false, err
		}
	}
	if there, err := isLong(ctx, s, s.copy.Remote); err != nil || !there {
		return false, err
	}
	if err := c.step(ctx, s, queue.Proving, "An earlier try had meant to put it in place as "+s.copy.Remote+
		"; what lies there is compared.", records.Change{}); err != nil {
		return false, err
	}
	return true, c.prove(ctx, s)
}

// isLong tells whether something as long as the copy lies at a path.
func isLong(ctx context.Context, s *Send, path string) (bool, error) {
	n, err := s.driver.Size(ctx, path)
	if errors.Is(err, destination.ErrNotFound) {
		return false, nil
	}
	return err == nil && n == s.copy.Bytes, err
}

// joinHolder lets a copy rest on another's with the same content, if there is one:
// what lies there is proven for this one too.
func (c *Carrier) joinHolder(ctx context.Context, s *Send) (bool, error) {
	twin, device, ok, err := c.Others.Holder(ctx, s.copy.Destination, s.copy.Bytes, s.hash)
	if err != nil || !ok {
		return false, err
	}
	if c.doubts(s.copy.Destination, twin.Remote) {
		return false, nil
	}
	of := twin.Path()
	switch device {
	case c.Device:
	case "": // a guest is not told whose
		of = "another device"
	default:
		of += " of " + device
	}
	s.twin = twin.Remote
	if err := c.rest(ctx, s, twin.Remote, "The same content is there as "+twin.Remote+", from "+of+
		"; it is not sent again."); err != nil {
		return false, err
	}
	return true, c.prove(ctx, s)
}

// rest notes that a copy's content is that of a path.
func (c *Carrier) rest(ctx context.Context, s *Send, path, story string) error {
	if err := c.step(ctx, s, queue.Proving, story,
		records.Change{Remote: &path, SHA256: &s.hash, Landed: new(bool)}); err != nil {
		return err
	}
	s.mu.Lock()
	s.copy.Remote, s.copy.SHA256 = path, s.hash
	s.mu.Unlock()
	return nil
}

// errCompare tells that a file of the same size at the destination must be
// read first, which the network does not allow now.
var errCompare = errors.New("a file of its size is at the destination")

// joinFound lets a copy rest on a file that was at the destination before Yard Tide
// came, if it has the same content. Each is read once.
func (c *Carrier) joinFound(ctx context.Context, s *Send, file records.Lying) (bool, error) {
	at, fresh := records.FromMS(file.HashedMS), file.SHA256 == ""
	if fresh {
		if s.Metered {
			return false, errCompare
		}
		if err := c.here(ctx, s); err != nil {
			return false, err
		}
		at = time.Now()
		sum, err := proof.Read(ctx, s.driver, file.Path, s.copy.Bytes)
		if err != nil && !errors.Is(err, destination.ErrNotFound) {
			return false, err
		}
		file.SHA256 = sum
		if err := c.Others.Hashed(ctx, file, sum, at); err != nil {
			return false, err
		}
	}
	if file.SHA256 != s.hash {
		return false, nil
	}
	if there, err := isLong(ctx, s, file.Path); err != nil {
		return false, err
	} else if !there { // it was, when it was read
		return false, c.Others.Hashed(ctx, file, "", at)
	}
	if err := c.rest(ctx, s, file.Path, "It was at the storage before, as "+file.Path+"; it is not sent."); err != nil {
		return false, err
	}
	if fresh { // it was read this moment
		return true, c.safe(ctx, s, "Read back whole.", proof.ReadBack, at)
	}
	return true, c.prove(ctx, s)
}

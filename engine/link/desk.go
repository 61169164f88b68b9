package link

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"yardtide/engine/fleet"
	"yardtide/engine/records"
)

// Desk is where devices elsewhere ask about the others: the service's fleet answers, of
// which they are members by their mirrors. What a device claims ends by itself when it is
// not heard of. The zero value with a fleet is ready.
type Desk struct {
	Fleet *fleet.Fleet
	// Look has the service itself look at what lies at a path, soon. It must not block.
	Look func(destination, path string)

	mu     sync.Mutex
	claims map[string]claim
	asking map[string]int      // how many claims each device waits for
	boots  map[string][]string // the last runs of each device's program, the present one last
}

// claim is what a device has the right to.
type claim struct {
	device string
	what   string // the name, or the turn, that it is of
	boot   string
	end    func()
	until  time.Time
	last   time.Time // it ends then, however often it is renewed
}

// isOf tells whether a claim is the same device's, of the same thing.
func (c claim) isOf(other claim) bool { return c.device == other.device && c.what == other.what }

// lease is how long a claim lasts after the device was heard of.
const lease = 90 * time.Second

// The longest that a claim lasts: of a name, under which something is put in one step, and of
// a turn, in which a large file may go over a slow network.
const (
	mostName = lease
	mostTurn = 24 * time.Hour
)

// UnknownCall tells that a device asks something that nobody answers.
type UnknownCall struct{ What string }

func (e UnknownCall) Error() string { return "there is no question " + e.What }

// Answer answers a device, which is a guest (guest.go): what it says of others' things has
// the service look for itself, and nothing else. part tells how much is kept free at a
// destination, and whether it is of the device's part of the plan. The error is NotYours or
// records.Wrong for what a device may not ask or say.
func (d *Desk) Answer(ctx context.Context, device, what string, q Asked,
	part func(destination string) (int64, bool)) (t Answered, err error) {
	if err := q.check(what); err != nil {
		return t, err
	}
	if to := q.about(what); to != "" {
		if _, own := part(to); !own {
			return t, NotYours{to}
		}
	}
	if !d.runs(device, q.Boot) {
		return t, errEnded
	}
	d.end(device, q.Ended)
	f := d.Fleet
	switch what {
	case "alike":
		t.Is, err = f.Alike(ctx, device, q.Copy, q.Look)
	case "holder":
		// Of another's copy it is told where the same bytes lie, which it knows the hash of.
		var c records.Copy
		c, _, t.Is, err = f.Holder(ctx, q.Destination, q.Bytes, q.Hash)
		t.Remote = c.Remote
	case "taken":
		t.Is, err = f.Taken(ctx, device, q.Copy)
	case "found":
		t.Found, err = f.Found(ctx, q.Destination, q.Bytes)
		t.Found = t.Found[:min(len(t.Found), mostFound)]
	case "hashed":
		d.look(q.Found.Destination, q.Found.Path)
	case "lost":
		d.look(q.Destination, q.Path)
	case "turn":
		of := claim{device: device, boot: q.Boot, last: time.Now().Add(mostTurn)}
		of.what = fmt.Sprintf("turn %q %d %q %q", q.Copy.Destination, q.Copy.Bytes, q.Look, q.Hash)
		t.Is, err = d.claim(ctx, of, q.Claim, func(ctx context.Context) (func(), error) {
			turn, err := f.Turn(ctx, q.Copy, q.Look, q.Hash, q.Wait)
			return func() { f.End(turn) }, err
		})
	case "name":
		of := claim{device: device, boot: q.Boot, last: time.Now().Add(mostName)}
		of.what = fmt.Sprintf("name %q %q", q.Destination, q.Path)
		t.Is, err = d.claim(ctx, of, q.Claim, func(ctx context.Context) (func(), error) {
			end, _, err := f.Name(ctx, q.Destination, q.Path)
			return end, err
		})
	case "room":
		t.Rooms = map[string]int64{}
		for _, r := range q.Rooms {
			if keep, own := part(r.Destination); own {
				t.Rooms[r.Destination] = f.Part(device, r.Destination, keep, r.Underway, r.Wants, r.Landed)
			}
		}
	case "ended":
	default:
		return t, UnknownCall{what}
	}
	return t, err
}

func (d *Desk) look(destination, path string) {
	if d.Look != nil {
		d.Look(destination, path)
	}
}

// TooMany is the refusal of more claims than a device may have at once.
type TooMany struct{ Device string }

func (e TooMany) Error() string {
	return e.Device + " claims more at once than a device may; it is to give some back first"
}

// errEnded tells that a run of a device's program asked that has ended: another began since.
var errEnded = errors.New("the device's program has begun anew since it asked")

// mostBoots is how many runs of a device are remembered: what one of them asked may arrive
// late.
const mostBoots = 8

// runs notes that a run of a device's program was heard of; false when another began since.
// What one that ended had claimed is nobody's.
func (d *Desk) runs(device, boot string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := d.boots[device]
	if slices.Contains(all, boot) {
		return d.present(device, boot)
	}
	if d.boots == nil {
		d.boots = map[string][]string{}
	}
	all = append(all, boot)
	d.boots[device] = all[max(0, len(all)-mostBoots):]
	for id, c := range d.claims {
		if c.device == device && c.boot != boot {
			c.end()
			delete(d.claims, id)
		}
	}
	return true
}

// present tells whether a run of a device's program is the one that was heard of last. The
// caller has the lock.
func (d *Desk) present(device, boot string) bool {
	all := d.boots[device]
	return len(all) == 0 || all[len(all)-1] == boot
}

// errAnother refuses a claim whose id belongs to another device's claim, or to a claim of another thing.
var errAnother = records.Wrong{Says: "another claim has this name"}

// errLater ends the wait for a claim: the device asks again.
var errLater = errors.New("another has it still")

// claim gives a device a right, or false when another has it for so long that the device
// is to ask again.
func (d *Desk) claim(ctx context.Context, of claim, id string, take func(context.Context) (func(), error)) (bool,
	error) {
	d.mu.Lock()
	known, others := d.claims[id]
	has, n := known.isOf(of), 0
	for _, c := range d.claims {
		if c.device == of.device {
			n++
		}
	}
	n += d.asking[of.device]
	if !has && !others && n < mostClaims {
		if d.asking == nil {
			d.asking = map[string]int{}
		}
		d.asking[of.device]++
		defer d.asked(of.device)
	}
	d.mu.Unlock()
	switch {
	case has:
		return true, nil
	case others:
		return false, errAnother
	case n >= mostClaims:
		return false, TooMany{of.device}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, waitTime, errLater)
	defer cancel()
	end, err := take(ctx)
	if errors.Is(err, errLater) || errors.Is(err, context.DeadlineExceeded) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.claims == nil {
		d.claims = map[string]claim{}
	}
	if known, there := d.claims[id]; there { // asked twice
		end()
		if !known.isOf(of) {
			return false, errAnother
		}
		return true, nil
	}
	if !d.present(of.device, of.boot) { // its program ended while this waited
		end()
		return false, errEnded
	}
	of.end, of.until = end, earlier(time.Now().Add(lease), of.last)
	d.claims[id] = of
	return true, nil
}

// asked notes that a device no longer waits for a claim.
func (d *Desk) asked(device string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asking[device]--; d.asking[device] <= 0 {
		delete(d.asking, device)
	}
}

// Renew tells which of its claims a device needs still; the others of it end when their
// lease does.
func (d *Desk) Renew(device, boot string, ids []string) {
	if !d.runs(device, boot) {
		return
	}
	now := time.Now()
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range ids {
		if c, has := d.claims[id]; has && c.device == device {
			c.until = earlier(now.Add(lease), c.last)
			d.claims[id] = c
		}
	}
}

// end gives claims of a device back.
func (d *Desk) end(device string, ids []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range ids {
		if c, has := d.claims[id]; has && c.device == device {
			c.end()
			delete(d.claims, id)
		}
	}
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// Rename has a device keep its claims under another name.
func (d *Desk) Rename(name, to string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, c := range d.claims {
		if c.device == name {
			c.device = to
			d.claims[id] = c
		}
	}
	if all, had := d.boots[name]; had {
		delete(d.boots, name)
		d.boots[to] = all
	}
}

// Sweep ends the claims whose lease is over, and all of a device that is revoked.
func (d *Desk) Sweep(now time.Time, revoked string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, c := range d.claims {
		if now.After(c.until) || c.device == revoked {
			c.end()
			delete(d.claims, id)
		}
	}
}

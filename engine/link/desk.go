package link

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"yardtide/engine/fleet"
)

// Desk is where devices elsewhere ask about the others: the service's fleet answers, of
// which they are members by their mirrors. What a device claims ends by itself when it is
// not heard of. The zero value with a fleet is ready.
type Desk struct {
	Fleet *fleet.Fleet

	mu     sync.Mutex
	claims map[string]claim
	boots  map[string][]string // the last runs of each device's program, the present one last
}

// claim is what a device has the right to.
type claim struct {
	device string
	boot   string
	end    func()
	until  time.Time
}

// lease is how long a claim lasts after the device was heard of.
const lease = 90 * time.Second

// UnknownCall tells that a device asks something that nobody answers.
type UnknownCall struct{ What string }

func (e UnknownCall) Error() string { return "there is no question " + e.What }

// Answer answers a device. keepFree tells how much is kept free at a destination, and
// whether the plan has it.
func (d *Desk) Answer(ctx context.Context, device, what string, q Asked, keepFree func(destination string) (int64, bool)) (t Told, err error) {
	if !d.runs(device, q.Boot) {
		return t, errEnded
	}
	d.end(device, q.Ended)
	f := d.Fleet
	switch what {
	case "alike":
		t.Is, err = f.Alike(ctx, device, q.Copy, q.Look)
	case "holder":
		t.Copy, t.Device, t.Is, err = f.Holder(ctx, q.Destination, q.Bytes, q.Hash)
	case "taken":
		t.Is, err = f.Taken(ctx, device, q.Copy)
	case "found":
		t.Found, err = f.Found(ctx, q.Destination, q.Bytes)
	case "hashed":
		err = f.Hashed(ctx, q.Found, q.Hash, time.Now())
	case "lost":
		t.N, err = f.Lost(ctx, q.Destination, q.Path, q.Says, q.Todo)
	case "turn":
		t.Is, err = d.claim(ctx, claim{device: device, boot: q.Boot}, q.Claim, func(ctx context.Context) (func(), error) {
			turn, err := f.Turn(ctx, q.Copy, q.Look, q.Hash, q.Wait)
			return func() { f.End(turn) }, err
		})
	case "name":
		t.Is, err = d.claim(ctx, claim{device: device, boot: q.Boot}, q.Claim, func(ctx context.Context) (func(), error) {
			end, _, err := f.Name(ctx, q.Destination, q.Path)
			return end, err
		})
	case "room":
		t.Rooms = map[string]int64{}
		for _, r := range q.Rooms {
			if keep, known := keepFree(r.Destination); known {
				t.Rooms[r.Destination] = f.Part(device, r.Destination, keep, max(0, r.Underway), max(0, r.Wants), max(0, r.Landed))
			}
		}
	case "ended":
	default:
		return t, UnknownCall{what}
	}
	return t, err
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

// errLater ends the wait for a claim: the device asks again.
var errLater = errors.New("another has it still")

// claim gives a device a right, or false when another has it for so long that the device
// is to ask again.
func (d *Desk) claim(ctx context.Context, of claim, id string, take func(context.Context) (func(), error)) (bool, error) {
	d.mu.Lock()
	_, has := d.claims[id]
	d.mu.Unlock()
	if has {
		return true, nil
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
	if _, has := d.claims[id]; has { // asked twice
		end()
		return true, nil
	}
	if !d.present(of.device, of.boot) { // its program ended while this waited
		end()
		return false, errEnded
	}
	of.end, of.until = end, time.Now().Add(lease)
	d.claims[id] = of
	return true, nil
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
			c.until = now.Add(lease)
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

package device

import (
	"cmp"
	"context"
	"slices"
	"sync"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Fleet is the devices of one process. Here they agree on what one alone
// cannot know: that a file's bytes are at a destination by another, and how
// much room is left there. The zero value is ready.
type Fleet struct {
	mu         sync.Mutex
	devices    []*Device
	capacities map[string]*capacity
}

// capacity is what is known of a destination's space.
type capacity struct {
	space    destination.Space
	landed   int64 // bytes put there in all
	counted  int64 // those of them that space has counted
	underway int64 // bytes reserved by sends
}

func (f *Fleet) join(d *Device) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.devices = append(f.devices, d)
	slices.SortFunc(f.devices, func(a, b *Device) int { return cmp.Compare(a.Name, b.Name) })
}

func (f *Fleet) all() []*Device {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.devices)
}

// sameLook tells whether another copy of the same size and look goes or went to
// the destination, from any device.
func (f *Fleet) sameLook(ctx context.Context, own *Device, s *carriage) (bool, error) {
	for _, d := range f.all() {
		c := s.copy
		if d != own {
			c.ID = -1 // numbered by device: none of its copies is this one
		}
		if same, err := d.Records.SameLook(ctx, c, s.item.Look); err != nil || same {
			return same, err
		}
	}
	return false, nil
}

// twin finds a copy with the same content at the destination, and its device.
func (f *Fleet) twin(ctx context.Context, s *carriage) (records.Copy, string, bool, error) {
	for _, d := range f.all() {
		if !d.counts(s.copy.Destination) {
			continue // what it proved was proven elsewhere
		}
		if c, ok, err := d.Records.Twin(ctx, s.copy.Destination, s.copy.Bytes, s.hash); err != nil || ok {
			return c, d.Name, ok, err
		}
	}
	return records.Copy{}, "", false, nil
}

// taken tells whether another copy, of any device, has put something in place
// under a copy's path.
func (f *Fleet) taken(ctx context.Context, own *Device, s *carriage) (bool, error) {
	for _, d := range f.all() {
		but := s.copy.ID
		if d != own {
			but = -1 // numbered by device
		}
		if taken, err := d.Records.Taken(ctx, s.copy.Destination, s.copy.Remote, but); err != nil || taken {
			return taken, err
		}
	}
	return false, nil
}

// foundAt is a file that was at a destination before, and the device that has
// it in its records.
type foundAt struct {
	records.Found
	at *Device
}

func (f *Fleet) found(ctx context.Context, name string, size int64) ([]foundAt, error) {
	var all []foundAt
	for _, d := range f.all() {
		found, err := d.Records.FoundOf(ctx, name, size)
		if err != nil {
			return nil, err
		}
		for _, one := range found {
			all = append(all, foundAt{one, d})
		}
	}
	return all, nil
}

// clear lets a copy be sent whatever others send.
func (f *Fleet) clear(s *carriage) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s.cleared = true
}

// waitForTwin waits while another send may carry the same content, so that two
// never go at once. A send whose hash is not known yet may.
func (f *Fleet) waitForTwin(ctx context.Context, s *carriage) error {
	for {
		other := f.clearUnless(s)
		if other == nil {
			return nil
		}
		select {
		case <-other.done:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// clearUnless lets a copy be sent unless another send may carry its content.
func (f *Fleet) clearUnless(s *carriage) *carriage {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, d := range f.devices {
		d.mu.Lock()
		for _, o := range d.active {
			if o != s && o.cleared && o.copy.Destination == s.copy.Destination && o.copy.Bytes == s.copy.Bytes && o.item.Look == s.item.Look && (o.hash == "" || o.hash == s.hash) {
				d.mu.Unlock()
				return o
			}
		}
		d.mu.Unlock()
	}
	s.cleared = true
	return nil
}

// Landed is how many bytes were put at a destination in all: asked for before the
// destination is asked for its space, it tells what the answer has counted.
func (f *Fleet) Landed(name string) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.capacityOf(name).landed
}

// SetSpace notes what a destination has told of its space, when so much had landed.
func (f *Fleet) SetSpace(name string, s destination.Space, landed int64) {
	f.mu.Lock()
	r := f.capacityOf(name)
	changed := r.space != s || r.counted != landed
	r.space, r.counted = s, landed
	f.mu.Unlock()
	if changed {
		for _, d := range f.all() {
			nudge(d.wake)
		}
	}
}

// SpaceNow is what a destination told of its space, with what was put there
// since.
func (f *Fleet) SpaceNow(name string) destination.Space {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := f.capacityOf(name)
	s := r.space
	if s.Free >= 0 {
		s.Free = max(0, s.Free-r.since())
	}
	if s.Used >= 0 {
		s.Used += r.since()
	}
	return s
}

// since is what landed after the space was told.
func (r *capacity) since() int64 { return r.landed - r.counted }

func (f *Fleet) capacityOf(name string) *capacity {
	if f.capacities == nil {
		f.capacities = map[string]*capacity{}
	}
	if f.capacities[name] == nil {
		f.capacities[name] = &capacity{space: destination.Space{Free: -1, Used: -1}}
	}
	return f.capacities[name]
}

// Left is how many bytes may still be sent to a destination that keeps some
// room free, beside what is under way; -1 when nobody knows. It errs on the
// side of too little: what is under way may have been counted by the storage
// already.
func (f *Fleet) Left(name string, keep int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.capacityOf(name).left(keep)
}

func (r *capacity) left(keep int64) int64 {
	if r.space.Free < 0 {
		return -1
	}
	return max(0, r.space.Free-keep-r.since()-r.underway)
}

// take reserves room for a send; false when it is not there.
func (f *Fleet) take(name string, bytes, keep int64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := f.capacityOf(name)
	if left := r.left(keep); left >= 0 && bytes > left {
		return false
	}
	r.underway += bytes
	return true
}

// give ends a reservation; landed tells that the bytes are there now.
func (f *Fleet) give(name string, bytes int64, landed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := f.capacityOf(name)
	r.underway -= bytes
	if landed {
		r.landed += bytes
	}
}

// Shares tells what is at a destination and what is still to come, by device,
// rule and kind. It reads counters only.
func (f *Fleet) Shares(ctx context.Context, name string) (there, coming []wire.Share, err error) {
	there, coming = []wire.Share{}, []wire.Share{}
	add := func(list []wire.Share, d *Device, c records.Counter) []wire.Share {
		for i := range list {
			if list[i].Device == d.Name && list[i].Rule == c.Rule && list[i].Kind == c.Kind {
				list[i].Amount = list[i].Plus(c.N, c.Bytes)
				return list
			}
		}
		return append(list, wire.Share{Device: d.Name, Rule: c.Rule, Kind: c.Kind, Amount: wire.Amount{N: c.N, Bytes: c.Bytes}})
	}
	for _, d := range f.all() {
		counters, err := d.Records.Counters(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, c := range counters {
			if c.Destination != name {
				continue
			}
			switch c.State {
			case queue.Safe, queue.Proving: // also while its proof is owed anew
				there = add(there, d, c)
			case queue.Waiting, queue.Preparing, queue.Sending, queue.Stuck:
				coming = add(coming, d, c)
			}
		}
	}
	bySize := func(a, b wire.Share) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Device, b.Device), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Kind, b.Kind))
	}
	slices.SortFunc(there, bySize)
	slices.SortFunc(coming, bySize)
	return there, coming, nil
}

package fleet

import (
	"cmp"
	"context"
	"slices"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// capacity is what is known of a destination's space.
type capacity struct {
	space    destination.Space
	landed   int64 // bytes put there in all
	counted  int64 // those of them that space has counted
	underway int64 // bytes reserved by sends
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
		for _, m := range f.all() {
			m.Wake()
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
	return f.left(name, keep)
}

func (f *Fleet) left(name string, keep int64) int64 {
	left := f.capacityOf(name).left(keep)
	if left < 0 {
		return -1
	}
	for _, bytes := range f.parted[name] {
		left -= min(left, bytes)
	}
	return left
}

// reserve is which part of what is left a device is given beyond what it wants: what is
// taken while it is away from the service goes there, too.
const reserve = 16

// Room is how many bytes there is room for in all beside what is under way, whoever it was
// given to; -1 when nobody knows.
func (f *Fleet) Room(name string, keep int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.capacityOf(name).left(keep)
}

// Part gives a device elsewhere its part of the room at a destination: so many bytes it
// may send there, beside what it has on its way, until it asks again; -1 when nobody
// knows the room. Wants is what it has still to send there, and landed what it put there
// since it asked last. Each of them and those here have an equal part of what is left, as
// far as they want it; what it was given before is given anew.
func (f *Fleet) Part(device, name string, keep, underway, wants, landed int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.parted == nil {
		f.parted = map[string]map[string]int64{}
	}
	if f.parted[name] == nil {
		f.parted[name] = map[string]int64{}
	}
	r, parts := f.capacityOf(name), f.parted[name]
	// What a device says of room is bounded by what it was given, and by what the place told.
	if r.space.Free >= 0 {
		had, given := parts[device]
		if !given { // it was given room before this service began
			had = r.space.Free / 2
		}
		landed, underway, wants = min(landed, had), min(underway, had), min(wants, r.space.Free)
	}
	r.landed += landed
	parts[device] = underway
	left := f.left(name, keep)
	if left < 0 {
		return -1
	}
	wanting := int64(1) // those here
	for _, bytes := range parts {
		if bytes > 0 {
			wanting++
		}
	}
	part := min(wants+left/reserve, left/(wanting+1))
	parts[device] += part
	return part
}

func (r *capacity) left(keep int64) int64 {
	if r.space.Free < 0 {
		return -1
	}
	return max(0, r.space.Free-keep-r.since()-r.underway)
}

// Take reserves room for a send; false when it is not there.
func (f *Fleet) Take(name string, bytes, keep int64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := f.capacityOf(name)
	if left := f.left(name, keep); left >= 0 && bytes > left {
		return false
	}
	r.underway += bytes
	return true
}

// Give ends a reservation; landed tells that the bytes are there now.
func (f *Fleet) Give(name string, bytes int64, landed bool) {
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
	add := func(list []wire.Share, device string, c records.Counter) []wire.Share {
		for i := range list {
			if list[i].Device == device && list[i].Rule == c.Rule && list[i].Kind == c.Kind {
				list[i].Amount = list[i].Plus(c.N, c.Bytes)
				return list
			}
		}
		return append(list, wire.Share{Device: device, Rule: c.Rule, Kind: c.Kind,
			Amount: wire.Amount{N: c.N, Bytes: c.Bytes}})
	}
	for _, m := range f.all() {
		counters, err := m.Records().Queue.Counters(ctx)
		if m.left(ctx, err) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		for _, c := range counters {
			if c.Destination != name {
				continue
			}
			if c.Shelf != plan.Main { // it takes room, and is no item
				c.N = 0
			}
			switch c.State {
			case queue.Safe, queue.Proving: // also while its proof is owed anew
				there = add(there, m.Name, c)
			case queue.Waiting, queue.Preparing, queue.Sending, queue.Stuck:
				coming = add(coming, m.Name, c)
			}
		}
	}
	bySize := func(a, b wire.Share) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Device, b.Device), cmp.Compare(a.Rule, b.Rule),
			cmp.Compare(a.Kind, b.Kind))
	}
	slices.SortFunc(there, bySize)
	slices.SortFunc(coming, bySize)
	return there, coming, nil
}

// Package fleet is where the devices of one process, and those elsewhere by way of their
// mirrors, agree on what one alone cannot
// know: who has a file's bytes at a destination, whose turn it is to send them, and
// how much room is left there. A device knows the others by this only. One that is
// alone in it is answered for itself.
package fleet

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"yardtide/engine/records"
)

// Fleet is the devices of one process. The zero value is ready.
type Fleet struct {
	mu         sync.Mutex
	members    []Member
	turns      []*Turn
	names      map[nameKey]chan struct{} // closed when the path is free
	capacities map[string]*capacity
	parted     map[string]map[string]int64 // room given to devices elsewhere, by destination and device
}

// Member is one of the devices, as the others know it.
type Member struct {
	Name string
	// Records are its own, or their mirror as it is now.
	Records func() *records.Records
	// Counts tells whether what it proved at a destination counts there now.
	Counts func(destination string) bool
	// Wake has it decide anew; Tell that something changed which is only told.
	Wake, Tell func()
	// Lost takes copies that rest on a path back from safe, where that is not done in the
	// records: those of a device elsewhere are only a mirror.
	Lost func(ctx context.Context, destination, path, says, todo string) (int64, error)
	// Spoiled is told that the mirror of a device elsewhere cannot be read: that one is left
	// out then, and spoils no answer. nil where the records are the device's own.
	Spoiled func(err error)
}

// left tells whether a member is left out of an answer, as what it told cannot be read.
func (m Member) left(ctx context.Context, err error) bool {
	if err == nil || m.Spoiled == nil || ctx.Err() != nil {
		return false
	}
	m.Spoiled(err)
	return true
}

// Join takes a device in.
func (f *Fleet) Join(m Member) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.members = append(f.members, m)
	slices.SortFunc(f.members, func(a, b Member) int { return cmp.Compare(a.Name, b.Name) })
}

// Leave takes a device out, and gives back the room it had.
func (f *Fleet) Leave(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.members = slices.DeleteFunc(f.members, func(m Member) bool { return m.Name == name })
	for _, parts := range f.parted {
		delete(parts, name)
	}
}

// Rename calls a device otherwise; it keeps the room it had.
func (f *Fleet) Rename(name, to string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range f.members {
		if f.members[i].Name == name {
			f.members = slices.Clone(f.members)
			f.members[i].Name = to
		}
	}
	for _, parts := range f.parted {
		if had, parted := parts[name]; parted {
			delete(parts, name)
			parts[to] = had
		}
	}
}

func (f *Fleet) all() []Member {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.members)
}

// own is a copy as the records of a member know it: copies are numbered by device, so
// that for the records of others none is this one.
func (m Member) own(device string, c records.Copy) records.Copy {
	if m.Name != device {
		c.ID = -1
	}
	return c
}

// ask puts a question to one member after the other, until one has the answer. A member is left
// out of it when what it told cannot be read.
func (f *Fleet) ask(ctx context.Context, question func(m Member) (answered bool, err error)) error {
	for _, m := range f.all() {
		answered, err := question(m)
		if m.left(ctx, err) {
			continue
		}
		if err != nil || answered {
			return err
		}
	}
	return nil
}

// Alike tells whether another copy of the same size and look as one of a device goes
// or went to its destination, from any device.
func (f *Fleet) Alike(ctx context.Context, device string, c records.Copy, look string) (alike bool, err error) {
	err = f.ask(ctx, func(m Member) (_ bool, err error) {
		alike, err = m.Records().Queue.SameLook(ctx, m.own(device, c), look)
		return alike, err
	})
	return alike, err
}

// HasAny tells whether one of some devices has a content proven at a destination, as shot; without a hash, whether it has
// any of so many bytes.
func (f *Fleet) HasAny(ctx context.Context, devices []string, destination string, bytes int64, sha256 string) (has bool, err error) {
	err = f.ask(ctx, func(m Member) (_ bool, err error) {
		if !slices.Contains(devices, m.Name) || !m.Counts(destination) {
			return false, nil
		}
		if sha256 == "" {
			has, err = m.Records().Queue.OfSize(ctx, destination, bytes)
		} else {
			_, has, err = m.Records().Queue.Twin(ctx, destination, bytes, sha256)
		}
		return has, err
	})
	return has, err
}

// Holder finds a copy with the same content that is proven at a destination, and the
// device whose it is.
func (f *Fleet) Holder(ctx context.Context, destination string, bytes int64,
	sha256 string) (c records.Copy, device string, ok bool, err error) {
	err = f.ask(ctx, func(m Member) (_ bool, err error) {
		if !m.Counts(destination) {
			return false, nil // what it proved was proven elsewhere
		}
		device = m.Name
		c, ok, err = m.Records().Queue.Twin(ctx, destination, bytes, sha256)
		return ok, err
	})
	if err != nil || !ok {
		return records.Copy{}, "", false, err
	}
	return c, device, true, nil
}

// Taken tells whether another copy than one of a device has put something in place
// under that one's path. So it is where nobody can tell.
func (f *Fleet) Taken(ctx context.Context, device string, c records.Copy) (taken bool, err error) {
	err = f.ask(ctx, func(m Member) (_ bool, err error) {
		taken, err = m.Records().Places.Taken(ctx, c.Destination, c.Remote, m.own(device, c).ID)
		if m.left(ctx, err) {
			taken, err = true, nil
		}
		return taken, err
	})
	return taken, err
}

// Found lists files of a size that were at a destination before.
func (f *Fleet) Found(ctx context.Context, destination string, bytes int64) (found []records.Lying, err error) {
	err = f.ask(ctx, func(m Member) (bool, error) {
		more, err := m.Records().Adopted.FoundOf(ctx, destination, bytes)
		found = append(found, more...)
		return false, err
	})
	return found, err
}

// Hashed keeps the hash of a file that was at a destination before, "" when it is
// there no longer.
func (f *Fleet) Hashed(ctx context.Context, file records.Lying, sha256 string, at time.Time) error {
	for _, m := range f.all() {
		if m.Lost != nil {
			continue // it keeps none
		}
		if err := m.Records().Adopted.SetFound(ctx, file.Destination, file.Path, sha256, at); err != nil {
			return err
		}
	}
	return nil
}

// Ours tells which of some paths at a destination were put there by a device here.
func (f *Fleet) Ours(ctx context.Context, destination string, paths []string) (map[string]bool, error) {
	ours := map[string]bool{}
	err := f.ask(ctx, func(m Member) (bool, error) {
		own, err := m.Records().Adopted.Ours(ctx, destination, paths)
		maps.Copy(ours, own)
		return false, err
	})
	return ours, err
}

// Matching counts the waiting copies that have the size of a file that was at a
// destination before.
func (f *Fleet) Matching(ctx context.Context, destination string) (n int64, err error) {
	err = f.ask(ctx, func(m Member) (bool, error) {
		one, err := m.Records().Adopted.Matching(ctx, destination)
		n += one
		return false, err
	})
	return n, err
}

// Lost takes every copy that rests on what lay at a path back from safe. It returns
// how many.
func (f *Fleet) Lost(ctx context.Context, destination, path, says, todo string) (n int64, err error) {
	err = f.ask(ctx, func(m Member) (bool, error) {
		lose := m.Lost
		if lose == nil {
			lose = func(ctx context.Context, destination, path, says, todo string) (int64, error) {
				return m.Records().Proofs.Lost(ctx, destination, path, says, todo, time.Now())
			}
		}
		lost, err := lose(ctx, destination, path, says, todo)
		if err == nil {
			n += lost
			m.Tell()
		}
		return false, err
	})
	return n, err
}

// Alone tells whether nobody tells what devices elsewhere have: never, where they are members.
func (f *Fleet) Alone() bool { return false }

// Resting lists what is called safe at a path, of whichever device: a hash and a size each.
func (f *Fleet) Resting(ctx context.Context, destination, path string) (list []Proven, err error) {
	err = f.ask(ctx, func(m Member) (bool, error) {
		copies, err := m.Records().Proofs.RestingOn(ctx, destination, path)
		for _, c := range copies {
			if one := (Proven{c.SHA256, c.Bytes}); !slices.Contains(list, one) {
				list = append(list, one)
			}
		}
		return false, err
	})
	return list, err
}

// Proven is what a copy was proven with.
type Proven struct {
	SHA256 string
	Bytes  int64
}

// Turn is one's right to send content to a destination: two never send the same at
// once.
type Turn struct {
	destination, look, hash string
	bytes                   int64
	ended                   chan struct{}
}

// Turn gives the right to send content, its hash "" when nobody knows it. With wait it
// waits while another send may carry the same: its size and look are alike, and it is
// not known that the hash is another.
func (f *Fleet) Turn(ctx context.Context, c records.Copy, look, hash string, wait bool) (*Turn, error) {
	t := &Turn{destination: c.Destination, look: look, hash: hash, bytes: c.Bytes, ended: make(chan struct{})}
	for {
		f.mu.Lock()
		i := slices.IndexFunc(f.turns, func(o *Turn) bool {
			return o.destination == t.destination && o.bytes == t.bytes && o.look == t.look && (o.hash == "" || o.hash == t.hash)
		})
		if i < 0 || !wait {
			f.turns = append(f.turns, t)
			f.mu.Unlock()
			return t, nil
		}
		other := f.turns[i]
		f.mu.Unlock()
		select {
		case <-other.ended:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// End gives a turn back; nil has none.
func (f *Fleet) End(t *Turn) {
	if t == nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.turns = slices.DeleteFunc(f.turns, func(o *Turn) bool { return o == t })
	close(t.ended)
}

package inbox

import (
	"fmt"
	"sync"
	"time"

	"yardtide/core/words"
)

// Room is how much all inboxes of a service may take together. It counts what lies there and what is on its way, so
// that writers at once do not pass the bounds. Only Free and Most must be set.
type Room struct {
	// Free tells how many bytes the disk has free, -1 where nobody knows.
	Free func() int64
	// Most is how many bytes all may take, KeepFree what is kept free on the disk.
	Most     func() int64
	KeepFree int64

	mu     sync.Mutex
	taken  map[string]int64 // by phone: what lies there and what is on its way; of every phone that there is
	lacked map[string]Lack  // by phone
	coming int64            // of it what is on its way: the disk does not know of it yet
}

// NoRoom tells that the inbox has no room for something.
type NoRoom struct{ Says string }

func (e NoRoom) Error() string { return e.Says }

// take takes room for what is on its way, and what else is asked for beside where there is as much. The error is NoRoom.
func (r *Room) take(phone string, bytes, beside, most int64) (took int64, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	took = bytes + beside
	if beside > 0 && r.lack(phone, took, most) != "" {
		took = bytes
	}
	if says := r.lack(phone, took, most); says != "" {
		if r.lacked == nil {
			r.lacked = map[string]Lack{}
		}
		r.lacked[phone] = Lack{time.Now(), says}
		return 0, NoRoom{says}
	}
	r.change(phone, took)
	r.coming += took
	return took, nil
}

// lack tells why there is no room for so much, "" where there is. The caller has the lock.
func (r *Room) lack(phone string, bytes, most int64) string {
	free, left := r.Free(), int64(0)
	if free >= 0 {
		left = free - r.coming - r.KeepFree
	}
	switch {
	case r.taken[phone]+bytes > most:
		return fmt.Sprintf("There is no room for %s: the inbox of %s may take %s, and %s lie in it. Its room is freed as they get safe.",
			words.Bytes(bytes), phone, words.Bytes(most), words.Bytes(r.taken[phone]))
	case r.others(phone)+r.taken[phone]+bytes > r.Most():
		return fmt.Sprintf("There is no room for %s: all inboxes together may take %s. Room is freed as what lies there gets safe.",
			words.Bytes(bytes), words.Bytes(r.Most()))
	case free >= 0 && bytes > left:
		return fmt.Sprintf("There is no room for %s: the disk of the inbox has %s free, of which %s are kept.", words.Bytes(bytes),
			words.Bytes(free), words.Bytes(r.KeepFree))
	}
	return ""
}

// others is how much of all is left to other phones: what they have, or their even share where that is more. So no phone
// takes what another has a right to. The caller has the lock.
func (r *Room) others(phone string) (bytes int64) {
	share := r.Most() / int64(max(1, len(r.taken)))
	for name, n := range r.taken {
		if name != phone {
			bytes += max(n, share)
		}
	}
	return bytes
}

// Lack is when a phone was told last that there is no room, and in which words.
type Lack struct {
	At   time.Time
	Says string
}

// Lacked tells when a phone was told last that there is no room for something.
func (r *Room) Lacked(phone string) Lack {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lacked[phone]
}

// change adds to what a phone has. The caller has the lock.
func (r *Room) change(phone string, by int64) {
	if r.taken == nil {
		r.taken = map[string]int64{}
	}
	r.taken[phone] = max(0, r.taken[phone]+by)
}

// give gives back room of what does not come, or is freed.
func (r *Room) give(phone string, bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.change(phone, -bytes)
	r.coming = max(0, r.coming-bytes)
}

// holds notes what lies in an inbox that is opened.
func (r *Room) holds(phone string, bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.change(phone, bytes)
}

// landed notes that what was on its way lies there: the disk counts it from now on.
func (r *Room) landed(bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.coming = max(0, r.coming-bytes)
}

// freed notes that what lay there is gone.
func (r *Room) freed(phone string, bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.change(phone, -bytes)
}

// leave forgets a phone.
func (r *Room) leave(phone string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.taken, phone)
}

// Taken is how much of the room a phone has.
func (r *Room) Taken(phone string) int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.taken[phone]
}

// asRoom tells a full disk as no room.
func asRoom(err error) error {
	if isFull(err) {
		return NoRoom{"There is no room: the disk of the inbox is full. Room is freed as what lies there gets safe."}
	}
	return err
}

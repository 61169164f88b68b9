package carry

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/fleet"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Way is how a copy goes, as it was decided.
type Way struct {
	Lane    int
	Ordered bool // by the keeper: gates don't stop it
	Metered bool // its bytes cost
	Proving bool // only the proof is owed
	Where   string
	Spend   records.Spend
	Limits  []records.Limit
}

// Send is one copy on its way. What its carrier changes and others read is under mu.
type Send struct {
	Way
	Began time.Time
	stop  context.CancelCauseFunc
	meter meter

	mu        sync.Mutex
	copy      records.Copy
	proving   bool
	landed    bool // its bytes take room at the destination
	recording bool // it is done at the storage: its sender's place is free
	driver    destination.Driver

	reserved   bool // bytes are set aside for it in the ledger
	item       records.Item
	path       string      // of the file
	rights     fs.FileMode // of the file
	name       string      // that it has at the place, before it is made safe
	hash       string      // of the content, once it is known
	turn       *fleet.Turn
	place      records.NamedFact // the place that it goes to: a proof counts for no other
	temp       string            // what it sends to, "" before it does
	twin       string            // the path that it shares with a copy of the same content
	placed     bool              // it was put under its own name in one step
	ours       bool              // what lies at its path was put there by it, or is known to be its content
	unrecorded *landing          // it was put in place, and that is still to be recorded
}

// NewSend makes a copy ready to be carried. Its item may be known already; the zero one is read.
// Stop cuts it.
func NewSend(c records.Copy, item records.Item, w Way, stop context.CancelCauseFunc) *Send {
	return &Send{Way: w, copy: c, item: item, proving: w.Proving, Began: time.Now(), stop: stop}
}

// Why a send is cut.
var (
	ErrShut     = errors.New("a gate shut")
	ErrStopping = errors.New("the service stops")
	ErrUnwanted = errors.New("the plan no longer asks for it")
	ErrMoved    = errors.New("its destination stands for another address")
)

// Cut ends a send; it says why. The first word counts.
func (s *Send) Cut(why error) { s.stop(why) }

// Copy is the copy, as far as it has come.
func (s *Send) Copy() records.Copy {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.copy
}

// Takes tells whose senders a send takes, for what, and whether it is done at the storage and
// waits for its last step.
func (s *Send) Takes() (destination string, kind media.Kind, bytes int64, recording bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.copy.Destination, s.copy.Kind, s.copy.Bytes, s.recording
}

// Under is what decides whether it may go on.
func (s *Send) Under() gate.Under {
	s.mu.Lock()
	defer s.mu.Unlock()
	return gate.Under{Class: s.copy.Class, Lane: s.Lane, Ordered: s.Ordered, Metered: s.Metered, Proving: s.proving}
}

// Landed tells that its bytes take room at the destination.
func (s *Send) Landed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.landed
}

// lies notes where its content lies, whether it takes room there, and that it is known to be its content.
func (s *Send) lies(path, sha256 string, landed bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.copy.Remote, s.copy.SHA256, s.landed, s.ours = path, sha256, landed, true
}

// largeSend is the size from which a send says that it cannot go on.
const largeSend = 32 << 20

// Told is how far it is.
func (s *Send) Told(key string, now time.Time) wire.Send {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.copy
	told := wire.Send{Item: key, Name: c.Name, Kind: c.Kind, Destination: c.Destination, Shelf: c.Shelf, State: c.State,
		Bytes: c.Bytes, Sent: s.meter.from.Load() + s.meter.n.Load(), Metered: s.Metered}
	if took := now.Sub(s.Began).Seconds(); took > 0.5 && !s.proving {
		told.Rate = int64(float64(s.meter.n.Load()) / took)
	}
	if r, able := s.driver.(destination.Resumer); told.Bytes >= largeSend && told.State == queue.Sending {
		told.BeginsAnew = !able || !r.Resumes()
	}
	return told
}

package link

import (
	"context"
	"errors"
	"sync"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/fleet"
	"yardtide/engine/records"
	"yardtide/engine/work"
)

// Others is what a device elsewhere knows of the others: it asks the service, and while
// that says nothing it answers by itself, on the safe side. It is alone in its process.
type Others struct {
	fleet.Fleet // of this device alone
	agent       *Agent
	// SendsTo lists the destinations that this device sends to, and how much is kept free
	// at each.
	SendsTo func() map[string]int64

	mu      sync.Mutex
	claimed map[*fleet.Turn]string // what the service calls it
	ended   []string               // claims that are given back
	rooms   map[string]*roomLeft
	need    work.Bell // room is short
	over    work.Bell // there are claims to give back
	wake    func()
}

// roomLeft is what the device was given at a destination.
type roomLeft struct {
	given    int64 // -1 when nobody knows how much there is
	left     int64 // of it
	underway int64
	landed   int64 // since the service was told
}

// NewOthers makes one.
func NewOthers(sendsTo func() map[string]int64) *Others {
	return &Others{SendsTo: sendsTo, claimed: map[*fleet.Turn]string{}, rooms: map[string]*roomLeft{}, need: work.NewBell(),
		over: work.NewBell(), wake: func() {}}
}

func (o *Others) connect(a *Agent) { o.agent = a }

// Join takes the device in.
func (o *Others) Join(m fleet.Member) {
	o.wake = m.Wake
	o.Fleet.Join(m)
}

// Asked is a question about the others, with what it is about.
type Asked struct {
	Copy        records.Copy  `json:"copy"`
	Destination string        `json:"destination,omitempty"`
	Look        string        `json:"look,omitempty"`
	Hash        string        `json:"hash,omitempty"`
	Bytes       int64         `json:"bytes,omitempty"`
	Path        string        `json:"path,omitempty"`
	Says        string        `json:"says,omitempty"`
	Todo        string        `json:"todo,omitempty"`
	Wait        bool          `json:"wait,omitempty"`
	Claim       string        `json:"claim,omitempty"`
	Ended       []string      `json:"ended,omitempty"` // claims that are given back
	Boot        string        `json:"boot,omitempty"`  // names this run of the device's program
	Found       records.Lying `json:"found,omitzero"`
	Rooms       []RoomAsked   `json:"rooms,omitempty"`
}

// RoomAsked tells how a device stands at a destination, and asks for its part anew.
type RoomAsked struct {
	Destination string `json:"destination"`
	Underway    int64  `json:"underway"`
	Wants       int64  `json:"wants"`  // what is still to be sent there
	Landed      int64  `json:"landed"` // since it asked last
}

// Answered answers it.
type Answered struct {
	Is     bool             `json:"is,omitempty"`
	Remote string           `json:"remote,omitempty"` // where bytes lie that the device has, too
	Found  []records.Lying  `json:"found,omitempty"`
	N      int64            `json:"n,omitempty"`
	Rooms  map[string]int64 `json:"rooms,omitempty"`
}

// errAlone tells that the service does not answer.
var errAlone = errors.New("the service does not answer")

// ask asks the service. The error is errAlone when it does not answer, for whatever reason.
func (o *Others) ask(ctx context.Context, what string, q Asked, more time.Duration) (t Answered, err error) {
	if o.agent == nil || !o.agent.online(ctx) {
		return t, errAlone
	}
	o.mu.Lock()
	q.Ended, q.Boot = o.ended, o.agent.boot
	o.ended = nil
	o.mu.Unlock()
	err = o.agent.caller.ask(ctx, "/link/others/"+what, q, &t, more)
	if err == nil {
		return t, nil
	}
	o.mu.Lock()
	o.ended = append(o.ended, q.Ended...)
	o.mu.Unlock()
	if ctx.Err() != nil {
		return t, context.Cause(ctx)
	}
	var refused *Refusal
	if errors.As(err, &refused) { // a fault there, or programs of two versions: nothing here fails by it
		o.agent.Log.Warn("the service does not tell of the other devices", "asked", what, "err", err)
	} else {
		o.agent.note(func(s *State) { s.Failed = sentence(err) })
	}
	return t, errAlone
}

// Alike tells whether another copy of the same size and look goes or went there.
func (o *Others) Alike(ctx context.Context, device string, c records.Copy, look string) (bool, error) {
	if own, err := o.Fleet.Alike(ctx, device, c, look); err != nil || own {
		return own, err
	}
	t, err := o.ask(ctx, "alike", Asked{Copy: c, Look: look}, 0)
	return t.Is, alone(err)
}

// alone is the error of a question that is answered without the others.
func alone(err error) error {
	if errors.Is(err, errAlone) {
		return nil
	}
	return err
}

// Holder finds a copy with the same content that is proven there.
func (o *Others) Holder(ctx context.Context, destination string, bytes int64,
	sha256 string) (records.Copy, string, bool, error) {
	if c, device, ok, err := o.Fleet.Holder(ctx, destination, bytes, sha256); err != nil || ok {
		return c, device, ok, err
	}
	t, err := o.ask(ctx, "holder", Asked{Destination: destination, Bytes: bytes, Hash: sha256}, 0)
	return records.Copy{Remote: t.Remote, SHA256: sha256, Bytes: bytes}, "", t.Is && t.Remote != "", alone(err)
}

// Taken tells whether another copy was put in place under this one's path. When nobody
// can tell, it was.
func (o *Others) Taken(ctx context.Context, device string, c records.Copy) (bool, error) {
	if own, err := o.Fleet.Taken(ctx, device, c); err != nil || own {
		return own, err
	}
	t, err := o.ask(ctx, "taken", Asked{Copy: c}, 0)
	return t.Is || errors.Is(err, errAlone), alone(err)
}

// Found lists files of a size that were there before.
func (o *Others) Found(ctx context.Context, destination string, bytes int64) ([]records.Lying, error) {
	own, err := o.Fleet.Found(ctx, destination, bytes)
	if err != nil {
		return nil, err
	}
	t, err := o.ask(ctx, "found", Asked{Destination: destination, Bytes: bytes}, 0)
	return append(own, t.Found...), alone(err)
}

// Alone tells whether the service does not answer: nobody tells then what the others have.
func (o *Others) Alone() bool { return o.agent == nil || o.agent.State().Failed != "" }

// Hashed keeps the hash of one.
func (o *Others) Hashed(ctx context.Context, file records.Lying, sha256 string, at time.Time) error {
	if err := o.Fleet.Hashed(ctx, file, sha256, at); err != nil {
		return err
	}
	_, err := o.ask(ctx, "hashed", Asked{Found: file, Hash: sha256}, 0)
	return alone(err)
}

// Turn gives the right to send content. Among the devices of the yard it is a claim at
// the service, that ends by itself when the device is not heard of; without the service
// it goes ahead.
func (o *Others) Turn(ctx context.Context, c records.Copy, look, hash string, wait bool) (*fleet.Turn, error) {
	turn, err := o.Fleet.Turn(ctx, c, look, hash, wait)
	if err != nil {
		return nil, err
	}
	id := newID()
	for {
		t, err := o.ask(ctx, "turn", Asked{Copy: c, Look: look, Hash: hash, Wait: wait, Claim: id}, waitTime)
		switch {
		case errors.Is(err, errAlone):
			o.endClaim(id) // it may have been given, and the answer lost
			return turn, nil
		case err != nil:
			o.Fleet.End(turn)
			return nil, err
		case t.Is:
			o.mu.Lock()
			o.claimed[turn] = id
			o.mu.Unlock()
			return turn, nil
		}
	}
}

// End gives a turn back.
func (o *Others) End(t *fleet.Turn) {
	o.Fleet.End(t)
	o.mu.Lock()
	id, claimed := o.claimed[t]
	delete(o.claimed, t)
	o.mu.Unlock()
	if claimed {
		o.endClaim(id)
	}
}

// mostEnded bounds what is kept to be given back: the service ends claims by itself.
const mostEnded = 1000

func (o *Others) endClaim(id string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.ended) < mostEnded {
		o.ended = append(o.ended, id)
	}
	o.over.Ring()
}

// claims are those that the device still needs.
func (o *Others) claims() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	list := []string{}
	for _, id := range o.claimed {
		list = append(list, id)
	}
	return list
}

// Name gives the right to put something in place under a path. Without the service
// another device may have it, too.
func (o *Others) Name(ctx context.Context, destination, path string) (end func(), sure bool, err error) {
	own, _, err := o.Fleet.Name(ctx, destination, path)
	if err != nil {
		return nil, false, err
	}
	id := newID()
	for {
		t, err := o.ask(ctx, "name", Asked{Destination: destination, Path: path, Claim: id}, waitTime)
		switch {
		case errors.Is(err, errAlone):
			o.endClaim(id)
			return own, false, nil
		case err != nil:
			own()
			return nil, false, err
		case t.Is:
			return sync.OnceFunc(func() {
				own()
				o.endClaim(id)
			}), true, nil
		}
	}
}

// Lost takes every copy that rests on a path back from safe, of the others, too.
func (o *Others) Lost(ctx context.Context, destination, path, says, todo string) (int64, error) {
	n, err := o.Fleet.Lost(ctx, destination, path, says, todo)
	if err != nil {
		return n, err
	}
	_, err = o.ask(ctx, "lost", Asked{Destination: destination, Path: path, Says: says, Todo: todo}, 0)
	return n, alone(err)
}

// Left is how many bytes may still go to a destination: of what it has, and of what this
// device was given of it.
func (o *Others) Left(destination string, keep int64) int64 {
	left := o.Fleet.Left(destination, keep)
	o.mu.Lock()
	defer o.mu.Unlock()
	r := o.rooms[destination]
	switch {
	case r == nil:
		return 0 // it was given nothing yet
	case r.left < 0:
		return left
	case left < 0:
		return r.left
	}
	return min(left, r.left)
}

// Take reserves room for a send.
func (o *Others) Take(destination string, bytes, keep int64) bool {
	o.mu.Lock()
	r := o.rooms[destination]
	if r == nil || r.left >= 0 && r.left < bytes {
		o.mu.Unlock()
		o.askForRoom()
		return false
	}
	o.mu.Unlock()
	if !o.Fleet.Take(destination, bytes, keep) {
		return false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if r.left >= 0 {
		if r.left = max(0, r.left-bytes); r.left < r.given/2 { // before it is short
			o.askForRoom()
		}
	}
	r.underway += bytes
	return true
}

// Give ends a reservation.
func (o *Others) Give(destination string, bytes int64, landed bool) {
	o.Fleet.Give(destination, bytes, landed)
	o.mu.Lock()
	defer o.mu.Unlock()
	r := o.rooms[destination]
	if r == nil {
		return
	}
	r.underway = max(0, r.underway-bytes)
	if landed {
		r.landed += bytes
	} else if r.left >= 0 {
		r.left += bytes
	}
}

func (o *Others) askForRoom() { o.need.Ring() }

// roomFact keeps what the device was given, for a start without the service.
const roomFact records.Fact[keptRoom] = "link room"

// How often the parts of the room are told anew: while something goes on there, or the part is
// short, and while it is enough and nothing does. Claims that are over are gathered for a
// moment before they are given back.
const (
	partBeat = 10 * time.Second
	restBeat = 40 * time.Second
	endBeat  = 300 * time.Millisecond
)

// part asks for the device's part of the room at its destinations, and gives claims back.
func (o *Others) part(ctx context.Context) error {
	beat, err := o.partNow(ctx)
	if err != nil {
		return err
	}
	next := time.NewTimer(beat)
	defer next.Stop()
	for {
		if err := o.giveBack(ctx); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-o.need:
			return nil
		case <-next.C:
			return nil
		case <-o.over:
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(endBeat):
		}
	}
}

// giveBack tells which claims are over, where there are any.
func (o *Others) giveBack(ctx context.Context) error {
	o.mu.Lock()
	some := len(o.ended) > 0
	o.mu.Unlock()
	if !some {
		return nil
	}
	_, err := o.ask(ctx, "ended", Asked{}, 0)
	return alone(err)
}

// partNow asks for the device's part. It returns when to ask again.
func (o *Others) partNow(ctx context.Context) (beat time.Duration, err error) {
	q := Asked{Boot: o.agent.boot}
	wants := map[string]int64{}
	counters, err := o.agent.Records.Queue.Counters(ctx)
	if err != nil {
		return 0, err
	}
	for _, c := range counters {
		if c.State == queue.Waiting {
			wants[c.Destination] += c.Bytes
		}
	}
	o.mu.Lock()
	for name := range o.SendsTo() {
		one := RoomAsked{Destination: name, Wants: wants[name]}
		if r := o.rooms[name]; r != nil {
			one.Underway, one.Landed = r.underway, r.landed
		}
		q.Rooms = append(q.Rooms, one)
	}
	o.mu.Unlock()
	if len(q.Rooms) == 0 {
		return restBeat, nil // a change of the plan wakes
	}
	var t Answered
	if err := o.agent.caller.ask(ctx, "/link/others/room", q, &t, 0); err != nil {
		return 0, err
	}
	beat = restBeat
	o.mu.Lock()
	more := false
	for _, asked := range q.Rooms {
		given, told := t.Rooms[asked.Destination]
		if !told || asked.Underway+asked.Landed > 0 || given >= 0 && given < asked.Wants {
			beat = partBeat
		}
		if !told {
			continue
		}
		r := o.rooms[asked.Destination]
		if r == nil {
			r = &roomLeft{}
			o.rooms[asked.Destination] = r
			more = true
		}
		began := r.underway + r.landed - asked.Underway - asked.Landed // meanwhile
		r.landed -= asked.Landed
		before := r.left
		if r.left = given; given >= 0 {
			r.left = max(0, given-max(0, began))
		}
		r.given = r.left
		more = more || r.left != before && (r.left < 0 || r.left > before)
	}
	kept := keptRoom{At: time.Now(), Left: map[string]int64{}}
	for name, r := range o.rooms {
		kept.Left[name] = r.left
	}
	o.mu.Unlock()
	if more {
		o.wake()
	}
	return beat, roomFact.Keep(ctx, &o.agent.Records.Facts, kept)
}

// keptRoom is how the records keep it.
type keptRoom struct {
	At   time.Time        `json:"at"`
	Left map[string]int64 `json:"left"` // by destination, -1 when nobody knows
}

// restore takes up what the device was given before it was stopped, less what it put
// there since.
func (o *Others) restore(ctx context.Context, r *records.Records) error {
	kept, _, err := roomFact.Read(ctx, &r.Facts)
	if err != nil {
		return err
	}
	for name, left := range kept.Left {
		if left >= 0 {
			landed, err := r.Places.LandedSince(ctx, name, kept.At)
			if err != nil {
				return err
			}
			left = max(0, left-landed)
		}
		o.mu.Lock()
		o.rooms[name] = &roomLeft{given: left, left: left}
		o.mu.Unlock()
	}
	return nil
}

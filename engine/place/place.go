// Package place knows, for one device, which place each destination's name stands for,
// and what is wrong there. Everything that is done at a destination goes through
// Reach, which looks whether what answers is that place. What is done there is not
// decided here.
package place

import (
	"context"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// Ledger is what the records keep of places: facts, and the proofs that rest on them.
type Ledger interface {
	records.FactFile
	// Owe has every proof at a destination taken again, and sets a fact in the same step.
	Owe(ctx context.Context, destination, says string, is records.NamedFact, at time.Time) (int64, error)
	// Abandon leaves what is at a destination's old place, and sets a fact in the same step.
	Abandon(ctx context.Context, destination, place, says string, is records.NamedFact, at time.Time) (int64, error)
}

// LedgerOf are the parts of a device's records that its places write.
func LedgerOf(r *records.Records) Ledger {
	type facts = records.Facts // which has a method of its name
	return struct {
		*facts
		*records.Places
	}{&r.Facts, &r.Places}
}

// Options make the places of a device. All are needed.
type Options struct {
	Device  string
	Owner   string // what temporary names of the device begin with
	Records Ledger
	// Driver gives the driver of a destination in the plan.
	Driver func(name string) (destination.Driver, error)
	// Changed is called, and must not block, when something changed that decisions rest
	// on; Tell when something did that is only told.
	Changed, Tell func()
	Log           *slog.Logger
	Jitter        func() float64                    // in [0,1)
	Wait          func(time.Duration) time.Duration // stretches or shortens waits
}

// Places are the places of a device. Its methods are safe for concurrent use.
type Places struct {
	Options

	mu     sync.Mutex
	plan   *plan.Plan
	places map[string]*place // by destination
	anew   bool              // the records were begun anew: places that were not seen since are unseen
}

// bound is the place that a name stands for, as the records keep it.
type bound struct {
	ID    string `json:"id"`
	Where string `json:"where"` // its address, as the plan had it
	Stamp string `json:"stamp"` // of its marker, where the storage tells a copy from it
}

// fact is how the records keep it for a destination.
func (b bound) fact(name string) records.NamedFact {
	is, _ := placeFact.For(name).Is(b) // three strings: it never fails
	return is
}

// place is what is known of one destination's place.
type place struct {
	bound   bound
	put     int64  // the number of what this device put there last, where the storage counts
	putAt   string // the path of that number, kept when the device is called otherwise; "" before the first
	seen    string // the identity of what answers instead, "" for none
	foreign bool   // another place answers: the keeper is asked
	driver  destination.Driver
	dialled uint64    // the connection over which the place was last seen
	sightAt time.Time // when
	looking chan struct{}
	shared  int    // how many shared the last one
	next    *sight // the look that begins when the one under way ends; nil when nobody waits for it

	failing  gate.Failing // for every copy
	tries    int          // that failed so
	failedAt time.Time    // when something last failed there
	listed   bool         // what lies there was looked at since the records were begun anew
}

// New reads which places the names stood for.
func New(ctx context.Context, o Options) (*Places, error) {
	ps := &Places{Options: o, plan: &plan.Plan{}, places: map[string]*place{}}
	places, err := placeFact.All(ctx, o.Records)
	if err != nil {
		return nil, err
	}
	for name, is := range places {
		ps.of(name).bound = is
	}
	puts, err := putFact.All(ctx, o.Records)
	if err != nil {
		return nil, err
	}
	for name, last := range puts {
		ps.of(name).put, ps.of(name).putAt = last.n, last.at
	}
	if _, ps.anew, err = records.RebuildFact.Read(ctx, o.Records); err != nil || !ps.anew {
		return ps, err
	}
	listed, err := listedFact.All(ctx, o.Records)
	for name := range listed {
		ps.of(name).listed = true
	}
	return ps, err
}

// What is kept of a destination's place: the place that its name stands for, the number of what
// was put there last, and when what lies there was looked at since the records were begun anew.
const (
	placeFact  records.Fact[bound]     = "place "
	putFact    records.Fact[lastPut]   = "put "
	listedFact records.Fact[time.Time] = "rebuilt "
)

// lastPut is the number of what was put at a place last, and the path of the counter there.
type lastPut struct {
	n  int64
	at string
}

// MarshalText implements encoding.TextMarshaler.
func (l lastPut) MarshalText() ([]byte, error) { return fmt.Appendf(nil, "%d %s", l.n, l.at), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (l *lastPut) UnmarshalText(text []byte) (err error) {
	n, at, _ := strings.Cut(string(text), " ")
	l.at = at
	l.n, err = strconv.ParseInt(n, 10, 64)
	return err
}

// Listed notes that what lies at a destination was looked at since the records were
// begun anew: it may be sent to.
func (ps *Places) Listed(ctx context.Context, name string) error {
	err := listedFact.For(name).Keep(context.WithoutCancel(ctx), ps.Records, time.Now().UTC())
	if err == nil {
		ps.mu.Lock()
		ps.of(name).listed = true
		ps.mu.Unlock()
	}
	return err
}

// SetPlan gives the plan in force.
func (ps *Places) SetPlan(p *plan.Plan) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.plan = p
}

// At is what is known of a destination's place, but for its room.
func (ps *Places) At(name string) gate.At {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.of(name)
	at := gate.At{Unseen: ps.anew && !p.listed, Failing: p.failing, Left: -1}
	if !ps.settled(name) {
		at.Moved = ps.hold(name)
		if at.Moved.You {
			at.MovedTodo = Todo(queue.Elsewhere, name)
		}
	}
	return at
}

// Counts tells whether what was proven at a destination counts there now.
func (ps *Places) Counts(name string) bool {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return ps.settled(name)
}

// Is is the fact that a destination's name stands for the place that it does now: a
// proof that is recorded only while it is so counts for no other.
func (ps *Places) Is(name string) records.NamedFact {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return ps.of(name).bound.fact(name)
}

// of is the place of a destination. The caller has the lock.
func (ps *Places) of(name string) *place {
	p := ps.places[name]
	if p == nil {
		p = &place{looking: make(chan struct{}, 1)}
		ps.places[name] = p
	}
	return p
}

// Bind tells records that know nothing of a destination's place which one it
// is.
func Bind(ctx context.Context, r Ledger, name, id, where string) error {
	if _, known, err := placeFact.For(name).Read(ctx, r); err != nil || known {
		return err
	}
	return placeFact.For(name).Keep(ctx, r, bound{ID: id, Where: where})
}

// Reach is the driver of a destination, once what answers there is seen to be the
// place that the name stands for. It is looked at anew for every connection. Where the
// storage is able to, the driver is tied to the place (see destination.Anchorer); of any
// other, Still tells whether the place answers after the work.
func (ps *Places) Reach(ctx context.Context, name string) (destination.Driver, error) {
	driver, err := ps.Driver(name)
	if err != nil {
		return nil, err
	}
	v := ps.visit(name, driver)
	if tied, seen := v.inSight(); seen {
		return tied, nil
	}
	select {
	case v.place.looking <- struct{}{}:
		defer func() { <-v.place.looking }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	if tied, seen := v.inSight(); seen {
		return tied, nil
	}
	return v.look(ctx)
}

// sight is one look at a place, for all who asked for it before it began.
type sight struct {
	done chan struct{}
	err  error
	of   int // how many share it
}

// Still sees that the place of a destination answers, by a look that began after the call:
// what was done there before was done at the place. Calls that come while a look goes on
// share the next one. A driver that is tied to its place looks with each call anyway.
func (ps *Places) Still(ctx context.Context, name string) error {
	driver, err := ps.Driver(name)
	if err != nil {
		return err
	}
	if _, tied := driver.(destination.Anchorer); tied {
		_, err := ps.Reach(ctx, name)
		return err
	}
	v := ps.visit(name, driver)
	return ps.together(ctx, v.place, func(ctx context.Context) error {
		_, err := v.look(ctx)
		return err
	})
}

// Put is Still for what was put at a place and is to be called safe. Where the storage counts
// (destination.Counter), the number is higher afterwards, there and in the records. The proof is
// taken after the call and through its driver: what was put elsewhere in the moment of an
// exchange is then missing, whichever disk answers.
func (ps *Places) Put(ctx context.Context, name string) (destination.Driver, error) {
	driver, err := ps.Driver(name)
	if err != nil {
		return nil, err
	}
	if _, counts := driver.(destination.Anchorer); !counts {
		return driver, ps.Still(ctx, name)
	}
	v := ps.visit(name, driver)
	if err := ps.together(ctx, v.place, v.count); err != nil {
		return nil, err
	}
	return v.tied(), nil
}

// together does something at a place once for all who asked for it before it began.
func (ps *Places) together(ctx context.Context, p *place, do func(context.Context) error) error {
	ps.mu.Lock()
	is := p.next
	if is == nil {
		is = &sight{done: make(chan struct{})}
		p.next = is
	}
	is.of++
	ps.mu.Unlock()
	select {
	case <-is.done:
		return is.err
	case <-ctx.Done():
		return context.Cause(ctx)
	case p.looking <- struct{}{}:
		defer func() { <-p.looking }()
	}
	ps.gather(ctx, p, is)
	ps.mu.Lock()
	ours := p.next == is
	if ours {
		p.next = nil
	}
	p.shared = is.of
	ps.mu.Unlock()
	if !ours { // another did it for this call
		<-is.done
		return is.err
	}
	// It is for others too: it goes on when this send is cut, within a bound.
	ctx, cancel := context.WithTimeoutCause(context.WithoutCancel(ctx), togetherWait, errSlow)
	defer cancel()
	is.err = do(ctx)
	close(is.done)
	return is.err
}

// gather waits a moment for more to share what is done, where the last one was shared.
func (ps *Places) gather(ctx context.Context, p *place, is *sight) {
	ps.mu.Lock()
	waits := p.next == is && p.shared > 1
	ps.mu.Unlock()
	if !waits {
		return
	}
	select {
	case <-time.After(gatherWait):
	case <-ctx.Done(): // whoever shares it goes on
	}
}

// gatherWait is how long more are waited for.
const gatherWait = 4 * time.Millisecond

// togetherWait bounds what several sends wait for.
const togetherWait = 30 * time.Second

// errSlow is the cause when a place takes longer than togetherWait.
var errSlow = &destination.Error{Cause: queue.Unreachable, Says: "the storage takes too long to answer"}

func elsewhere(name, where string, before bound, seen string) string {
	lies := "nothing tells which place it is (its file " + destination.MarkerName + " is missing)"
	switch seen {
	case "":
	case before.ID:
		lies = "it is an older copy of it, without what was put there last"
	default:
		lies = "it is another place, " + seen
	}
	if before.Where != where {
		return fmt.Sprintf("it is not known whether what lies at %s is the place of %s: %s, and the one at %s was %s", where,
			name, lies, before.Where, before.ID)
	}
	return fmt.Sprintf("what lies at %s is not the place that was there, %s: %s", where, before.ID, lies)
}

// settled tells whether a destination's name stands for the place at which its
// copies were proven: else none of them counts as safe. The caller has the lock.
func (ps *Places) settled(name string) bool {
	p := ps.places[name]
	if _, named := ps.plan.Destinations[name]; !named || p == nil || p.bound.ID == "" {
		return true // nothing of what is known speaks against it
	}
	return !p.foreign && p.bound.Where == ps.plan.Destinations[name].Where()
}

// hold is why copies that were safe do not count, while the name may stand for
// another place. The caller has the lock.
func (ps *Places) hold(name string) gate.Hold {
	p, where := ps.of(name), ps.plan.Destinations[name].Where()
	if !p.foreign {
		return gate.Hold{Gate: gate.Place, Says: words.AnotherAddress(name, where)}
	}
	return gate.Hold{Gate: gate.Place, Says: destination.Sentence(&destination.Error{Says: elsewhere(name, where, p.bound,
		p.seen)}), Since: p.sightAt, You: true}
}

// Problem is why what was proven at a destination does not count now, and what the
// keeper can do; "" when it counts.
func (ps *Places) Problem(name string) (says, todo string) {
	at := ps.At(name)
	if !at.Moved.You && !ps.Asked(name) {
		return "", "" // nothing of this device's goes there any more
	}
	return at.Moved.Says, at.MovedTodo
}

// StandsFor tells whether a place's identity is the one that a name stands for, as
// far as is known.
func (ps *Places) StandsFor(name, id string) bool {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.places[name]
	return p == nil || p.bound.ID == "" || p.bound.ID == id
}

// Stands tells the identity of the place that a name stands for, and when it was seen
// there last, as far as is known.
func (ps *Places) Stands(name string) (id string, seen time.Time) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if p := ps.places[name]; p != nil {
		return p.bound.ID, p.sightAt
	}
	return "", time.Time{}
}

// lookWait is how often it is looked whether a folder is the one it was, when
// nothing else has it looked at.
const lookWait = time.Minute

// LookDue tells whether a place is to be looked at: it was not seen yet, or not since
// its address changed, or it is a folder that was not looked at for a while. Else next
// is when.
func (ps *Places) LookDue(name string, now time.Time) (due bool, next time.Time) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p, dest := ps.of(name), ps.plan.Destinations[name]
	if p.bound.ID == "" || p.foreign || p.bound.Where != dest.Where() {
		return true, time.Time{}
	}
	if dest.Kind != plan.Folder {
		return false, time.Time{}
	}
	next = p.sightAt.Add(ps.Wait(lookWait))
	return !now.Before(next), next
}

// Look looks at a place anew, whatever was seen before.
func (ps *Places) Look(ctx context.Context, name string) error {
	ps.mu.Lock()
	p := ps.of(name)
	p.sightAt = time.Time{}
	ps.mu.Unlock()
	_, err := ps.Reach(ctx, name)
	if err == nil {
		ps.answers(name)
		return nil
	}
	ps.mu.Lock()
	if p.sightAt.IsZero() {
		p.sightAt = time.Now() // it is tried again by who needs it, or after a while
	}
	ps.mu.Unlock()
	return err
}

// Asked tells whether this device sends to a destination.
func (ps *Places) Asked(name string) bool {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return ps.plan.SendsTo(ps.Device, name)
}

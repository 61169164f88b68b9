package link

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/engine/face"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/work"
)

// AgentOptions make an agent. All are needed.
type AgentOptions struct {
	Home    Home
	Version string // of the program
	Records *records.Records
	Others  *Others
	// Follow takes up a plan, with the secrets of its places. Removed is told that the
	// device was revoked.
	Follow  func(ctx context.Context, p Plan) error
	Removed func()
	// Next is closed at the next change of what the device tells.
	Next func() <-chan struct{}
	Tell func() // what is told of the link itself changed
	Log  *slog.Logger
}

// Agent is the device's end of the link. Its methods are safe for concurrent use.
type Agent struct {
	AgentOptions
	caller *caller
	here   Here
	boot   string        // names this run
	first  chan struct{} // closed when the service was called once, whatever came of it

	answers work.Crew // to questions

	mu    sync.Mutex
	state State
	asked bool
	plan  string // the mark of the one that is followed
	sent  sent
	count int64
}

// State is how the link stands, as the device sees it.
type State struct {
	Address string
	Heard   time.Time     // when the service answered last, zero for never
	Failed  string        // why it does not, "" when it does
	Ahead   time.Duration // how far the service's clock is before the device's
	Removed bool
}

// sent is what the device told last, as its records keep it: so a kill between telling
// and noting that it was told tells nothing anew.
type sent struct {
	Last    string    `json:"last"`    // the batch that the service took last
	Pending []pending `json:"pending"` // those after it of which that is not known
	Whole   int64     `json:"whole"`   // everything is told when the notes up to this one are; 0 when it is
	Begun   bool      `json:"begun"`
}

// pending is a batch that was sent.
type pending struct {
	ID   string `json:"id"`
	Note int64  `json:"note"` // the last note that it tells
}

// mostPending is how many are kept: with one that is forgotten everything is told anew.
const mostPending = 32

// nextID is the name of a batch that tells the notes up to one: that of the last, where
// it tells as many and may not have arrived.
func (s sent) nextID(note int64) string {
	if n := len(s.Pending); n > 0 && s.Pending[n-1].Note == note {
		return s.Pending[n-1].ID
	}
	return newID()
}

const (
	sentFact  records.Fact[sent]  = "link sent"
	doneFact  records.Fact[int64] = "link done"  // the last order that was carried out
	heardFact records.Fact[int64] = "link heard" // when the service answered last, in Unix milliseconds
)

// NewAgent makes the agent of a device and reads how far it was.
func NewAgent(ctx context.Context, o AgentOptions, here Here) (*Agent, error) {
	a := &Agent{AgentOptions: o, caller: newCaller(o.Home), here: here, boot: newID(), first: make(chan struct{}),
		answers: work.Crew{Hands: mostQuestions, Line: mostAsked}, state: State{Address: o.Home.Address}}
	o.Others.connect(a)
	if err := o.Others.restore(ctx, o.Records); err != nil {
		return nil, err
	}
	if err := o.Records.Outbox.Follow(ctx); err != nil {
		return nil, err
	}
	var err error
	if a.sent, _, err = sentFact.Read(ctx, &o.Records.Facts); err != nil {
		return nil, err
	}
	heard, known, err := heardFact.Read(ctx, &o.Records.Facts)
	if known {
		a.state.Heard = records.FromMS(heard)
	}
	return a, err
}

// Following tells the agent which plan is followed, by its mark.
func (a *Agent) Following(mark string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.plan = mark
}

// State is how the link stands.
func (a *Agent) State() State {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.state
}

// silentAfter is how long the service may say nothing before it counts as away.
const silentAfter = 70 * time.Second

// firstTime is how long a device that begins waits for the service's first word, before it
// goes ahead alone.
const firstTime = 10 * time.Second

// online tells whether the service answered lately.
func (a *Agent) online(ctx context.Context) bool {
	wait := time.NewTimer(firstTime)
	defer wait.Stop()
	select {
	case <-a.first:
	case <-wait.C:
	case <-ctx.Done():
	}
	s := a.State()
	return s.Failed == "" && !s.Heard.IsZero() && time.Since(s.Heard) < silentAfter
}

// Run keeps the link until the context ends, or the device is revoked.
func (a *Agent) Run(ctx context.Context) error {
	defer a.caller.close()
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return a.again(ctx, a.push) })
	g.Go(func() error { return a.again(ctx, a.pull) })
	g.Go(func() error { return a.again(ctx, a.Others.part) })
	err := g.Wait()
	a.answers.End(work.Forever)
	if errors.Is(err, errRemoved) {
		a.Removed()
		return nil
	}
	return err
}

// ErrRenamed ends the link of a device that has another name now: it begins anew under it.
var ErrRenamed = errors.New("the device has another name now")

var errRemoved = errors.New("the device was revoked")

// rests is how long the link rests after it failed so many times.
func rests(failed int) time.Duration {
	return min(time.Second<<min(failed, 5), 30*time.Second)
}

// again does a step of the link time and again. One that fails rests, ever longer.
func (a *Agent) again(ctx context.Context, step func(context.Context) error) error {
	failed := 0
	for ctx.Err() == nil {
		err := step(ctx)
		switch {
		case err == nil:
			failed = 0
			continue
		case ctx.Err() != nil:
			return nil
		case refusedWith(err, http.StatusUnauthorized):
			a.note(func(s *State) { s.Removed, s.Failed = true, "The service does not know this device any more." })
			return errRemoved
		case errors.Is(err, ErrRenamed):
			return err
		case records.IsFailure(err):
			a.Log.Error("the link rests: the records failed", "err", err)
		default:
			a.note(func(s *State) { s.Failed = sentence(err) })
		}
		select {
		case <-ctx.Done():
		case <-time.After(rests(failed)):
		}
		failed++
	}
	return nil
}

func sentence(err error) string {
	var other OtherKey
	var refused *Refusal
	switch {
	case errors.As(err, &other):
		return other.Error() + "."
	case errors.As(err, &refused):
		return refused.Detail
	}
	return "The service cannot be reached: " + err.Error() + "."
}

func (a *Agent) note(change func(*State)) {
	a.mu.Lock()
	before := a.state
	change(&a.state)
	if !a.asked {
		a.asked = true
		close(a.first)
	}
	changed := before.Failed != a.state.Failed || before.Removed != a.state.Removed ||
		before.Heard.IsZero() != a.state.Heard.IsZero()
	a.mu.Unlock()
	if changed {
		a.Tell()
	}
}

// heard notes that the service answered, and what its clock said.
func (a *Agent) heard(asked, service time.Time) {
	now := time.Now()
	a.note(func(s *State) {
		s.Heard, s.Failed = now, ""
		s.Ahead = service.Sub(asked.Add(now.Sub(asked) / 2)).Round(time.Second)
	})
}

// A batch has so many rows at most. What changes is told at once, and while it goes on
// changing this often. A device that has nothing to tell is heard of as it waits for news.
const (
	batchRows = 2000
	pushPace  = 250 * time.Millisecond
	pushBeat  = time.Minute
)

// push tells what changed, and waits for the next change.
func (a *Agent) push(ctx context.Context) error {
	next := a.Next()
	for {
		more, err := a.pushOne(ctx)
		if err != nil {
			return err
		}
		if !more {
			break
		}
	}
	select {
	case <-ctx.Done():
		return nil
	case <-next:
	case <-time.After(pushBeat):
	}
	select {
	case <-ctx.Done():
	case <-time.After(pushPace):
	}
	return nil
}

// pushOne tells one batch. It returns whether there is more to tell.
func (a *Agent) pushOne(ctx context.Context) (more bool, err error) {
	a.mu.Lock()
	s := a.sent
	a.count++
	b := Batch{Boot: a.boot, Count: a.count, Plan: a.plan}
	a.mu.Unlock()
	known := a.here.Known()
	b.Known, b.Epoch, b.Time, b.Version = &known, a.Records.Catalogue.Epoch(), time.Now(), a.Version
	rows, note, err := a.Records.Outbox.Noted(ctx, batchRows)
	if err != nil {
		return false, err
	}
	if len(rows) > 0 || !s.Begun {
		b.ID, b.After, b.Rows = s.nextID(note), s.Last, rows
		b.Begin = !s.Begun
		if b.Begin {
			if s.Whole, err = a.Records.Outbox.LastNote(ctx); err != nil {
				return false, err
			}
			b.After = ""
		}
		b.Whole = s.Whole > 0 && note >= s.Whole || len(rows) == 0
		s.Pending = append(slices.DeleteFunc(slices.Clone(s.Pending), func(p pending) bool { return p.ID == b.ID }),
			pending{b.ID, note})
		s.Pending = s.Pending[max(0, len(s.Pending)-mostPending):]
		if err := a.keep(ctx, s); err != nil { // it is known before it can be taken
			return false, err
		}
	}
	body, err := b.Pack()
	if err != nil {
		return false, err
	}
	asked := time.Now()
	var have Have
	ctx, cancel := context.WithTimeout(ctx, answerTime+30*time.Second)
	defer cancel()
	if err := a.caller.call(ctx, "/link/changes", body, "application/cbor", &have); err != nil {
		return false, err
	}
	a.heard(asked, have.Time)
	if b.ID == "" && have.Last == s.Last {
		return false, nil
	}
	return a.taken(ctx, have)
}

// taken notes how far the service is. It returns whether there is more to tell.
func (a *Agent) taken(ctx context.Context, have Have) (more bool, err error) {
	a.mu.Lock()
	s := a.sent
	a.mu.Unlock()
	for _, p := range s.Pending {
		if p.ID != have.Last {
			continue
		}
		s.Last, s.Pending, s.Begun = p.ID, nil, true
		if p.Note >= s.Whole {
			s.Whole = 0
		}
		return true, a.keep(ctx, s, p.Note)
	}
	if have.Last == s.Last && s.Begun {
		return true, nil // the batch is not there: it is told again
	}
	// One of the two is not what it was: put back from a copy, or begun anew.
	a.Log.Info("everything is told to the service anew", "device", a.Home.Device)
	if err := a.Records.Outbox.Anew(ctx); err != nil {
		return false, err
	}
	return true, a.keep(ctx, sent{})
}

// keep keeps what was told, with the notes up to one taken away.
func (a *Agent) keep(ctx context.Context, s sent, upTo ...int64) error {
	is, err := sentFact.Is(s)
	if err != nil {
		return err
	}
	if len(upTo) > 0 {
		heard, herr := heardFact.Is(time.Now().UnixMilli())
		if err = herr; err == nil {
			err = a.Records.Outbox.Told(ctx, upTo[0], is, heard)
		}
	} else {
		err = a.Records.Facts.SetFact(ctx, is.Name, is.Value)
	}
	if err != nil {
		return err
	}
	a.mu.Lock()
	a.sent = s
	a.mu.Unlock()
	return nil
}

func newID() string {
	var b [12]byte
	_, _ = rand.Read(b[:]) // it never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

// waitTime is how long the service lets a device wait for news.
const waitTime = 25 * time.Second

// pull waits for the plan and for orders, and does them.
func (a *Agent) pull(ctx context.Context) error {
	done, _, err := doneFact.Read(ctx, &a.Records.Facts)
	if err != nil {
		return err
	}
	a.mu.Lock()
	w := Wait{Plan: a.plan, Claims: a.Others.claims(), Done: done, Boot: a.boot}
	a.mu.Unlock()
	var news News
	if err := a.caller.ask(ctx, "/link/wait", w, &news, waitTime); err != nil {
		return err
	}
	a.heard(time.Now(), news.Time)
	if news.Plan != nil {
		if err := a.Follow(ctx, *news.Plan); err != nil {
			return fmt.Errorf("taking up the plan: %w", err)
		}
		a.Following(news.Plan.Mark)
		a.Others.askForRoom() // it may send where it sent nothing before
	}
	for _, o := range news.Orders {
		if o.Asks {
			a.answer(ctx, o)
			continue
		}
		if err := a.obey(ctx, o, done); err != nil {
			return err
		}
		done = max(done, o.ID)
	}
	return nil
}

// obey carries an order out, once, and answers.
func (a *Agent) obey(ctx context.Context, o Order, done int64) error {
	answer := Answer{ID: o.ID}
	if o.ID > done {
		if answer = a.do(ctx, o); ctx.Err() != nil {
			return nil
		}
		if err := doneFact.Keep(ctx, &a.Records.Facts, o.ID); err != nil {
			return err
		}
	}
	return a.caller.ask(ctx, "/link/answer", answer, nil, 0)
}

// mostQuestions is how many questions are answered at once, and mostAsked how many more wait.
const (
	mostQuestions = 4
	mostAsked     = 60
)

// answer answers a question, beside everything else. One that finds no place is not answered:
// whoever asked asks again.
func (a *Agent) answer(ctx context.Context, o Order) {
	began := a.answers.Begin(o.ID, func() {
		answer := a.do(ctx, o)
		if ctx.Err() != nil {
			return
		}
		if err := a.caller.ask(ctx, "/link/answer", answer, nil, 0); err != nil {
			a.Log.Info("an answer did not reach the service", "asked", o.Do, "err", err)
		}
	})
	if !began {
		a.Log.Info("too much is asked at once; a question is left", "asked", o.Do)
	}
}

// questionTime is how long the device may take to answer a question.
const questionTime = 60 * time.Second

// do does what is asked.
func (a *Agent) do(ctx context.Context, o Order) Answer {
	ctx, cancel := context.WithTimeout(ctx, questionTime)
	defer cancel()
	does, known := duties[o.Do]
	if !known {
		return Answer{ID: o.ID, Says: fmt.Sprintf("this device's program does not know what %q is; bring it up to date",
			o.Do)}
	}
	is, err := does(ctx, a.here, o.With)
	var text []byte
	if err == nil && is != nil {
		text, err = json.Marshal(is)
	}
	if err != nil {
		return Answer{ID: o.ID, Says: err.Error(), Kind: kindOf(err)}
	}
	return Answer{ID: o.ID, Is: text}
}

// The errors that a caller decides on, as they cross.
var kinds = map[string]error{"none": face.ErrNone, "away": face.ErrAway, "busy": face.ErrBusy}

func kindOf(err error) string {
	for kind, is := range kinds {
		if errors.Is(err, is) {
			return kind
		}
	}
	var noQuestion place.NoQuestion
	if errors.As(err, &noQuestion) {
		return "no question"
	}
	return ""
}

// failure is the error of an answer.
func (a Answer) failure(destination string) error {
	switch {
	case a.Says == "":
		return nil
	case kinds[a.Kind] != nil:
		return kinds[a.Kind]
	case a.Kind == "no question":
		return place.NoQuestion{Name: destination}
	}
	return errors.New(a.Says)
}

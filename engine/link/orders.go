package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/engine/atomicfile"
	"yardtide/engine/bringback"
	"yardtide/engine/makeroom"
	"yardtide/wire"
)

// This file is what the service orders a device to do: kept until the device says that it
// was done, or asked while somebody waits.

// orders are those of one device.
type orders struct {
	file string

	mu        sync.Mutex
	kept      []Order // until they are carried out
	questions map[int64]*question
	last      int64
	next      chan struct{} // closed at the next order, or plan
}

// question is one that somebody waits for.
type question struct {
	order  Order
	given  time.Time // when it was given to the device last
	answer chan Answer
}

// mostKept is how many orders wait for a device at most.
const mostKept = 1000

func (o *orders) load() error {
	text, err := os.ReadFile(o.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(text, &o.kept)
	}
	if err != nil {
		return fmt.Errorf("reading the orders: %w", err)
	}
	for _, one := range o.kept {
		o.last = max(o.last, one.ID)
	}
	return nil
}

// save keeps the orders on disk. The caller has the lock.
func (o *orders) save() error {
	text, err := json.Marshal(o.kept)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(o.file), 0o700)
	}
	if err == nil {
		err = atomicfile.Write(o.file, string(text))
	}
	if err != nil {
		return fmt.Errorf("keeping the orders: %w", err)
	}
	return nil
}

// number is the next one. They grow over restarts and copies put back, too.
func (o *orders) number() int64 {
	o.last = max(o.last+1, time.Now().UnixMicro())
	return o.last
}

// order has something done as soon as the device is heard of.
func (o *orders) order(do string, with any) error {
	text, err := json.Marshal(with)
	if err != nil {
		return fmt.Errorf("ordering: %w", err)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.kept) >= mostKept {
		return fmt.Errorf("%d orders wait for the device already; it must be heard of first", len(o.kept))
	}
	o.kept = append(o.kept, Order{ID: o.number(), Do: do, With: text})
	if err := o.save(); err != nil {
		o.kept = o.kept[:len(o.kept)-1]
		return err
	}
	o.tell()
	return nil
}

// tell wakes who waits. The caller has the lock.
func (o *orders) tell() {
	if o.next != nil {
		close(o.next)
		o.next = nil
	}
}

func (o *orders) wakeUp() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.tell()
}

// giveAgain is when a question is given again that was not answered.
const giveAgain = 20 * time.Second

// due are the orders that the device is to be given, and what is closed when there may
// be more. Done is the last that it carried out.
func (o *orders) due(done int64, now time.Time) (list []Order, next <-chan struct{}) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if n := len(o.kept); n > 0 && o.kept[0].ID <= done {
		o.kept = slices.DeleteFunc(o.kept, func(one Order) bool { return one.ID <= done })
		_ = o.save() // else they are given again, and not carried out again
	}
	list = slices.Clone(o.kept)
	for _, q := range o.questions {
		if now.Sub(q.given) > giveAgain {
			q.given = now
			list = append(list, q.order)
		}
	}
	slices.SortFunc(list, func(a, b Order) int { return int(min(1, max(-1, a.ID-b.ID))) })
	if o.next == nil {
		o.next = make(chan struct{})
	}
	return list, o.next
}

// answered takes an answer in.
func (o *orders) answered(a Answer) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if q := o.questions[a.ID]; q != nil {
		delete(o.questions, a.ID)
		q.answer <- a
		return nil
	}
	before := len(o.kept)
	o.kept = slices.DeleteFunc(o.kept, func(one Order) bool { return one.ID == a.ID })
	if len(o.kept) == before {
		return nil // a repeated one
	}
	return o.save()
}

// Silent tells that a device is asked something that it must answer itself, and is not
// heard of.
type Silent struct {
	Device string
	Heard  time.Time
}

func (e Silent) Error() string {
	if e.Heard.IsZero() {
		return e.Device + " was not heard of yet; this is answered by the device itself"
	}
	return fmt.Sprintf("%s was last heard of at %s; this is answered by the device itself, when it is heard of again",
		e.Device, e.Heard.Format("2 January 15:04"))
}

// ask asks the device, and waits for its answer.
func (m *Mirror) ask(ctx context.Context, do string, with, into any) error {
	m.mu.Lock()
	heard, connected := m.told.Heard, m.told.connected(time.Now())
	m.mu.Unlock()
	if !connected {
		return Silent{m.DeviceName(), heard}
	}
	text, err := json.Marshal(with)
	if err != nil {
		return fmt.Errorf("asking %s: %w", m.DeviceName(), err)
	}
	o := &m.orders
	q := &question{answer: make(chan Answer, 1)}
	o.mu.Lock()
	q.order = Order{ID: o.number(), Do: do, With: text, Asks: true}
	if o.questions == nil {
		o.questions = map[int64]*question{}
	}
	o.questions[q.order.ID] = q
	o.tell()
	o.mu.Unlock()
	ctx, cancel := context.WithTimeoutCause(ctx, questionTime+10*time.Second, Silent{m.DeviceName(), heard})
	defer cancel()
	select {
	case <-ctx.Done():
		o.mu.Lock()
		delete(o.questions, q.order.ID)
		o.mu.Unlock()
		return context.Cause(ctx)
	case a := <-q.answer:
		var of ofPlace
		_ = json.Unmarshal(text, &of) // other questions are about no destination
		if err := a.failure(of.Destination); err != nil || into == nil {
			return err
		}
		if err := json.Unmarshal(a.Is, into); err != nil {
			return fmt.Errorf("reading the answer of %s: %w", m.DeviceName(), err)
		}
		return Sound(into)
	}
}

// Answered takes an answer of the device in. The error is records.Wrong for what is none.
func (m *Mirror) Answered(a Answer) error {
	if err := a.check(); err != nil {
		return err
	}
	return m.orders.answered(a)
}

// Due are the orders that the device is to be given, and what is closed when there may be
// more.
func (m *Mirror) Due(done int64) ([]Order, <-chan struct{}) {
	m.Heard()
	return m.orders.due(done, time.Now())
}

// Orders are what a device elsewhere does when it is told.
type Orders struct{ m *Mirror }

// Pause holds everything on the device until a time, or until Resume when it is zero.
func (o Orders) Pause(_ context.Context, until time.Time) error {
	return o.expect(gate.PauseState{On: true, Since: time.Now(), Until: until}, "pause", pauseUntil{until})
}

// Resume ends a pause.
func (o Orders) Resume(context.Context) error {
	return o.expect(gate.PauseState{}, "resume", struct{}{})
}

// Finish has the device sleep, or go off, when nothing more can go. It is asked, not kept:
// one that is told tomorrow would go off tomorrow.
func (o Orders) Finish(ctx context.Context, then string) error {
	return o.m.ask(ctx, "finish", ofRest{then}, nil)
}

// expect orders a pause, and shows it as ordered until the device tells what is so. One that
// is refused is not shown.
func (o Orders) expect(p gate.PauseState, do string, with any) error {
	if err := o.m.orders.order(do, with); err != nil {
		return err
	}
	o.m.mu.Lock()
	o.m.told.Known.Pause = p
	o.m.mu.Unlock()
	o.m.Tell()
	return nil
}

// SendNow lets items go whatever their gates say. Over a network that costs it needs
// leave: otherwise the error is tell.NeedsMetered and nothing is ordered.
func (o Orders) SendNow(ctx context.Context, keys []string, metered bool) (wire.Cost, error) {
	c, _, err := o.m.Told.teller().MayCost(ctx, keys, metered)
	if err != nil {
		return c, err
	}
	return c, o.m.orders.order("send now", itemKeys{keys, metered})
}

// Retry takes up again what is stuck: the items named, or all with none. It returns how
// many items.
func (o Orders) Retry(ctx context.Context, keys []string) (int64, error) {
	n, err := o.m.Told.teller().Stuck(ctx, keys)
	if err != nil {
		return 0, err
	}
	return n, o.m.orders.order("retry", itemKeys{Keys: keys})
}

// Reprove has the proofs of safe copies taken again.
func (o Orders) Reprove(ctx context.Context, destination string, sample int64) (int64, error) {
	n, err := o.m.Told.teller().Safe(ctx, destination)
	if err != nil || n == 0 {
		return n, err
	}
	if sample > 0 {
		n = min(n, sample)
	}
	return n, o.m.orders.order("prove", ofPlace{Destination: destination, Sample: sample})
}

// StopReproving has no more proofs taken again.
func (o Orders) StopReproving(_ context.Context, destination string) error {
	return o.m.orders.order("stop proving", ofPlace{Destination: destination})
}

// TryAgain has a destination in trouble tried at once.
func (o Orders) TryAgain(destination string) {
	if err := o.m.orders.order("try again", ofPlace{Destination: destination}); err != nil {
		o.m.Log.Error("an order could not be kept", "device", o.m.DeviceName(), "err", err)
	}
}

// Lose takes copies that rest on a path back from safe. Until the device is heard of and has
// done so, they are doubted.
func (o Orders) Lose(ctx context.Context, destination, path, says, todo string) (int64, error) {
	rests, err := o.m.Records().Proofs.RestOn(ctx, destination, path)
	if err != nil || rests == 0 || o.m.Told.doubts(destination, path) {
		return 0, err
	}
	defer o.m.Tell()
	return rests, o.m.orders.order(losing, ofPlace{Destination: destination, Path: path, Says: says, Todo: todo})
}

// SettlePlace is the keeper's answer about a destination whose name has come to stand
// for another place.
func (o Orders) SettlePlace(ctx context.Context, destination string, moved bool) (n int64, err error) {
	err = o.m.ask(ctx, "settle", ofPlace{Destination: destination, Moved: moved}, &n)
	return n, err
}

// Adopt is done by the service's own devices.
func (o Orders) Adopt(context.Context, string, func(wire.Adopted)) (wire.Adopted, error) {
	return wire.Adopted{}, errors.New("what lies at a destination is listed by the computer of the service")
}

// Bring has the device bring files of an item back.
func (o Orders) Bring(ctx context.Context, order bringback.Order) (r bringback.Result, err error) {
	return r, o.m.ask(ctx, "bring", order, &r)
}

// MakeRoom has the device have items go into the holding place.
func (o Orders) MakeRoom(ctx context.Context, order makeroom.Order) (r makeroom.Result, err error) {
	err = o.m.ask(ctx, "make room", order, &r)
	return r, err
}

// TakeBack has the device put items from the holding place back.
func (o Orders) TakeBack(ctx context.Context, items []int64) (n int64, err error) {
	err = o.m.ask(ctx, "take back", ofItems{Items: items}, &n)
	return n, err
}

// Say has the device change what the keeper said of items.
func (o Orders) Say(ctx context.Context, items []int64, change media.KeeperChange) (n int64, err error) {
	err = o.m.ask(ctx, "say", ofItems{Items: items, Say: change}, &n)
	return n, err
}

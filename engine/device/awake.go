package device

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/awake"
	"yardtide/wire"
)

// This file keeps the system awake while something goes, where the plan says so, and sends
// it to sleep when everything is done, where the keeper did.

// waking is how that stands.
type waking struct {
	device string
	system awake.System // nil where nothing here can be kept awake
	wait   func(time.Duration) time.Duration
	log    *slog.Logger

	mu      sync.Mutex
	release func()     // lets the system sleep; nil while nothing holds it
	failed  string     // why it cannot be held, or sent to sleep
	then    awake.Then // what the keeper wants when nothing more can go, "" for nothing
	still   time.Time  // since when nothing goes
	left    int64      // bytes that go, or will
}

// settled is how long nothing may go before everything counts as done: one step follows
// another.
const settled = 3 * time.Second

// keep holds the system, or lets go of it, by what was decided; looking tells that more may be
// found. It returns when to look again.
func (w *waking) keep(ctx context.Context, last decision, sending, looking bool) time.Time {
	if w.system == nil {
		return time.Time{}
	}
	now := time.Now()
	own := last.Plan.Devices[w.device]
	w.mu.Lock()
	defer w.mu.Unlock()
	w.left = last.goingBytes
	busy := sending || last.goingBytes > 0 || last.proofs
	if busy || looking { // what is still to be found may be to go
		w.still = time.Time{}
	} else if w.still.IsZero() {
		w.still = now
	}
	wanted := busy && own.Awake == plan.AwakeWhileSending && last.Meets(own.AwakeWhen) || w.then != ""
	switch {
	case wanted && w.release == nil:
		release, err := w.system.Hold(ctx, "Pictures are on their way to storage")
		if err != nil {
			w.say("This device cannot be kept awake: " + err.Error() + ".")
			break
		}
		w.release, w.failed = release, ""
	case !wanted:
		w.letGo()
	}
	if w.then == "" || busy || looking {
		return time.Time{}
	}
	if end := w.still.Add(w.wait(settled)); now.Before(end) {
		return end
	}
	then := w.then
	w.then = ""
	w.letGo()
	w.log.Info("nothing more can go: the system is sent to rest", "device", w.device, "then", then)
	if err := w.system.Do(ctx, then); err != nil {
		w.say(fmt.Sprintf("Everything is done, and the system could not be sent to %s: %s.", then, err))
	}
	return time.Time{}
}

// say keeps why it failed. The caller has the lock.
func (w *waking) say(says string) {
	if w.failed != says {
		w.log.Warn("the system's sleep", "device", w.device, "says", says)
	}
	w.failed = says
}

// end lets the system sleep, when the device ends.
func (w *waking) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.letGo()
}

// finish has the system do something when nothing more can go; "" takes that back.
func (w *waking) finish(then awake.Then) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.then, w.still, w.failed = then, time.Time{}, ""
}

// letGo lets the system sleep, if it is held. The caller has the lock.
func (w *waking) letGo() {
	if w.release != nil {
		w.release()
		w.release = nil
	}
}

// told tells how that stands; rate is how many bytes a second go.
func (w *waking) told(rate int64, now time.Time) wire.Awake {
	w.mu.Lock()
	defer w.mu.Unlock()
	a := wire.Awake{Able: w.system != nil, Held: w.release != nil, Then: string(w.then), Says: w.failed}
	if !a.Held && a.Then == "" {
		return a
	}
	until := "until everything that can go has gone"
	if rate > 0 && w.left > 0 {
		a.Until = now.Add(time.Duration(w.left/rate) * time.Second)
		until = "until about " + a.Until.Format("15:04")
	}
	switch says := "Kept awake " + until; {
	case a.Says != "":
	case a.Then == string(awake.Sleep):
		a.Says = says + ", and then sent to sleep."
	case a.Then == string(awake.Off):
		a.Says = says + ", and then switched off."
	default:
		a.Says = says + "."
	}
	return a
}

// going counts what goes or is about to, as it was decided.
func (last *decision) going(s gate.Situation, class queue.Class, bytes int64) {
	if last.verdicts[class].Open() && !s.Places[class.Destination].Failing.Is() {
		last.goingBytes += bytes
	}
}

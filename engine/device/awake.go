package device

import (
	"context"
	"fmt"
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

// keepAwake holds the system, or lets go of it, by what was decided. It returns when to
// look again.
func (d *Device) keepAwake(ctx context.Context, last decision) time.Time {
	if d.Awake == nil {
		return time.Time{}
	}
	now := time.Now()
	d.mu.Lock()
	sending := len(d.active)
	d.mu.Unlock()
	own := last.Plan.Devices[d.Name]
	looking := d.isLooking()
	w := &d.waking
	w.mu.Lock()
	defer w.mu.Unlock()
	w.left = last.goingBytes
	busy := sending > 0 || last.goingBytes > 0 || last.proofs
	if busy || looking { // what is still to be found may be to go
		w.still = time.Time{}
	} else if w.still.IsZero() {
		w.still = now
	}
	wanted := busy && own.Awake == plan.AwakeWhileSending && last.Meets(own.AwakeWhen) || w.then != ""
	switch {
	case wanted && w.release == nil:
		release, err := d.Awake.Hold(ctx, "Pictures are on their way to storage")
		if err != nil {
			w.say(d, "This device cannot be kept awake: "+err.Error()+".")
			break
		}
		w.release, w.failed = release, ""
	case !wanted:
		w.letGo()
	}
	if w.then == "" || busy || looking {
		return time.Time{}
	}
	if end := w.still.Add(d.Wait(settled)); now.Before(end) {
		return end
	}
	then := w.then
	w.then = ""
	w.letGo()
	d.Log.Info("nothing more can go: the system is sent to rest", "device", d.Name, "then", then)
	if err := d.Awake.Do(ctx, then); err != nil {
		w.say(d, fmt.Sprintf("Everything is done, and the system could not be sent to %s: %s.", then, err))
	}
	return time.Time{}
}

// isLooking tells whether a source was not walked to its end yet: what is in it may be to go. A
// source that is known not to answer is not waited for.
func (d *Device) isLooking() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.sources {
		if s.at.IsZero() && len(s.problems) == 0 {
			return true
		}
	}
	return d.applied != d.plan
}

// say keeps why it failed. The caller has the lock.
func (w *waking) say(d *Device, says string) {
	if w.failed != says {
		d.Log.Warn("the system's sleep", "device", d.Name, "says", says)
	}
	w.failed = says
}

// letSleep ends what holds the system, when the device ends.
func (d *Device) letSleep() {
	d.waking.mu.Lock()
	defer d.waking.mu.Unlock()
	d.waking.letGo()
}

// letGo lets the system sleep, if it is held. The caller has the lock.
func (w *waking) letGo() {
	if w.release != nil {
		w.release()
		w.release = nil
	}
}

// awakeNow tells how that stands; rate is how many bytes a second go.
func (d *Device) awakeNow(rate int64, now time.Time) wire.Awake {
	w := &d.waking
	w.mu.Lock()
	defer w.mu.Unlock()
	a := wire.Awake{Able: d.Awake != nil, Held: w.release != nil, Then: string(w.then), Says: w.failed}
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

package place

import (
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Trouble is why a destination fails for every copy, and what the keeper can do; ""
// when it does not.
func (ps *Places) Trouble(name string) (says, todo string) {
	f := ps.At(name).Failing
	return f.Says, f.Todo
}

// Todo is what the keeper can do about a destination that fails for a cause.
func Todo(cause queue.Cause, name string) string {
	return strings.ReplaceAll(queue.Judge(cause, 1, 0, 0).Do, "NAME", name)
}

// Fail notes that a destination fails for everything, for what an error tells; sends
// that fail at the same time count once.
func (ps *Places) Fail(name string, err error) {
	ps.FailFor(name, destination.CauseOf(err), destination.Sentence(err))
}

// FailFor notes that a destination fails for everything.
func (ps *Places) FailFor(name string, cause queue.Cause, says string) {
	now := time.Now()
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.of(name)
	p.failedAt = now
	f := &p.failing
	if !f.Is() {
		f.Since = now
	} else if now.Before(f.Until) {
		return
	}
	p.tries++
	o := queue.Judge(cause, p.tries, ps.Jitter(), 0)
	wait := o.Wait
	if wait == 0 { // a copy would be stuck; a destination is tried again
		wait = queue.Wait(p.tries, ps.Jitter())
	}
	f.Says, f.Todo, f.You, f.Until = says, strings.ReplaceAll(o.Do, "NAME", name), o.You, now.Add(ps.Wait(wait))
	ps.Log.Warn("a destination fails", "device", ps.Device, "destination", name, "says", says, "next", f.Until)
}

// Mended notes that a destination works: something was done there as it was to be.
func (ps *Places) Mended(name string) { ps.mended(name, 0) }

// answers notes that a place answered to a look. Whether what failed there works again is seen
// when it is tried: if it fails again, it waits longer than before.
func (ps *Places) answers(name string) {
	ps.mu.Lock()
	tries := ps.of(name).tries
	ps.mu.Unlock()
	ps.mended(name, tries)
}

func (ps *Places) mended(name string, tries int) {
	ps.mu.Lock()
	p := ps.of(name)
	failed := p.failing.Is()
	p.failing, p.tries = gate.Failing{}, tries
	ps.mu.Unlock()
	if failed {
		ps.Log.Info("a destination works again", "device", ps.Device, "destination", name)
		ps.Changed()
	}
}

// TryAgain has a destination that fails tried at once, or all with "".
func (ps *Places) TryAgain(name string) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	for is, p := range ps.places {
		if name == "" || is == name {
			p.failing.Until = time.Time{}
		}
	}
}

// Late notes that something failed at a destination whose bytes may still arrive
// there, or lie there.
func (ps *Places) Late(name string) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.of(name).failedAt = time.Now()
}

// LateSince is when something last failed at a destination so; zero when nothing did.
func (ps *Places) LateSince(name string) time.Time {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return ps.of(name).failedAt
}

// Package queue knows the life of a copy: its states, the steps between them,
// how long to wait after a failure, and which failures need a person. It
// stores nothing: engine/records keeps copies and refuses steps that Step
// refuses.
package queue

import (
	"fmt"
	"slices"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// State is where a copy stands.
type State string

// The states. Safe, stuck and skipped rest; the others move by themselves.
const (
	Waiting   State = "waiting"
	Preparing State = "preparing"
	Sending   State = "sending"
	Proving   State = "proving"
	Safe      State = "safe"
	Stuck     State = "stuck"
	Skipped   State = "skipped"
)

// States lists every state in the order of a copy's life.
var States = []State{Waiting, Preparing, Sending, Proving, Safe, Stuck, Skipped}

// steps are the legal ones. One from a state to itself is a try that failed and
// is made again later.
var steps = map[State][]State{
	Waiting:   {Waiting, Preparing, Sending, Proving, Stuck, Skipped}, // sending: there is nothing to prepare
	Preparing: {Sending, Proving, Waiting, Stuck, Skipped},            // proving: the content is there already
	Sending:   {Sending, Proving, Waiting, Stuck, Skipped},            // sending: what the storage was to copy is sent
	Proving:   {Proving, Safe, Waiting, Stuck, Skipped},
	Safe:      {Stuck, Proving, Waiting, Skipped}, // a later proof found it missing or different; its place is another
	Stuck:     {Waiting, Skipped},
	Skipped:   {Waiting},
}

// StepError is an illegal step.
type StepError struct{ From, To State }

func (e StepError) Error() string {
	return fmt.Sprintf("a copy cannot go from %s to %s", e.From, e.To)
}

// Step checks a step; the error is a StepError.
func Step(from, to State) error {
	if slices.Contains(steps[from], to) {
		return nil
	}
	return StepError{from, to}
}

// Resume is the state in which a copy goes on after the process was killed in
// the given one: whatever was being prepared or sent begins anew, a proof is
// taken again.
func Resume(s State) State {
	if s == Preparing || s == Sending {
		return Waiting
	}
	return s
}

// together is the order in which one copy's state is its item's: what needs a
// person, what moves, what waits; safe only when nothing else is there.
var together = []State{Stuck, Sending, Preparing, Waiting, Proving, Safe, Skipped}

// Together is the state of an item whose copies stand so: safe when every copy is
// that the plan asks for. Without any copy it is skipped.
func Together(copies []State) State {
	for _, s := range together {
		if slices.Contains(copies, s) {
			return s
		}
	}
	return Skipped
}

// NotAsked is said of copies that a plan no longer asks for; by it they are
// found again when a later plan does.
const NotAsked = "The plan does not ask for this copy."

// Class is what copies are decided by: all of one class have one verdict.
type Class struct {
	Rule        string     `json:"rule" db:"rule"`
	Kind        media.Kind `json:"kind" db:"kind"`
	Destination string     `json:"destination" db:"destination"`
	Shelf       plan.Shelf `json:"shelf,omitempty" db:"shelf"`
}

// Unsafe is the filter of items that are not safe yet, whatever they wait for. What is skipped is not asked for.
const Unsafe = "unsafe"

// Cause is what made a step fail, told apart by what mends it.
type Cause string

// The causes.
const (
	Unreachable Cause = "unreachable" // no answer, connection lost, time-out
	Busy        Cause = "busy"        // the storage answered an error of its own (5xx, 429)
	Full        Cause = "full"        // no space left
	SignIn      Cause = "sign-in"     // password or permission refused for everything
	Identity    Cause = "identity"    // what answers is not the storage that the plan names
	Misplaced   Cause = "misplaced"   // the destination's own folder or address is not there
	Elsewhere   Cause = "elsewhere"   // what lies there is another place than the name stood for
	Refused     Cause = "refused"     // this one name or request is refused
	Taken       Cause = "taken"       // something else has its name, and the rule skips such
	Different   Cause = "different"   // what lies there is not what was sent
	Changed     Cause = "changed"     // the file changed while it was read
	Gone        Cause = "gone"        // the file is no longer there
	Unreadable  Cause = "unreadable"  // the file cannot be read
	Away        Cause = "away"        // the folder or the volume that the file lies on is not there
	Shut        Cause = "shut"        // a gate shut while it was sent
	Bug         Cause = "bug"         // ours
)

// Outcome is what follows from a failure.
type Outcome struct {
	To State
	// Wait is how long until the next try of this copy.
	Wait time.Duration
	// Destination tells that the destination as a whole waits: for Wait, or
	// until it answers again.
	Destination bool
	// You tells that it does not mend itself; Do says what to do.
	You bool
	Do  string
}

// Tries after which a copy that keeps failing needs a person.
const (
	maxBusy      = 8 // the storage answers, but not for this copy
	maxDifferent = 3
)

// Judge decides what follows when a copy's try number tries (from 1) failed.
// r is a random number in [0,1) that jitters the wait; retryAfter is what the
// storage asked for, or 0.
func Judge(c Cause, tries int, r float64, retryAfter time.Duration) Outcome {
	wait := max(Wait(tries, r), retryAfter)
	switch c {
	case Unreachable:
		return Outcome{To: Waiting, Destination: true, Wait: wait}
	case Busy:
		if tries >= maxBusy {
			return Outcome{To: Stuck, You: true, Do: "The storage keeps failing on this one. Look at the storage's own " +
				"log, then retry."}
		}
		return Outcome{To: Waiting, Wait: wait}
	case Full:
		return Outcome{To: Waiting, Destination: true, You: true, Wait: max(wait, time.Minute),
			Do: "Make room at the storage or enlarge it; sending goes on by itself."}
	case SignIn:
		return Outcome{To: Waiting, Destination: true, You: true, Wait: max(wait, time.Minute),
			Do: "Check the user and the password that the plan points to; sending goes on by itself when they are right."}
	case Identity:
		return Outcome{To: Waiting, Destination: true, You: true, Wait: max(wait, time.Minute),
			Do: "If the storage was set up anew, put the new fingerprint into the plan. If not, somebody else answers in " +
				"its place: find out who. Nothing is sent until then."}
	case Misplaced:
		return Outcome{To: Waiting, Destination: true, You: true, Wait: max(wait, time.Minute),
			Do: "Check the destination's address or path in the plan; sending goes on by itself when it is there."}
	case Elsewhere:
		return Outcome{To: Waiting, Destination: true, You: true, Wait: max(wait, time.Minute),
			Do: "If it is the wrong disk or address, put the right one there; it goes on by itself. Else say on the page " +
				"Destinations, or with yardtide destination place NAME moved|new, whether what was there was moved here, or " +
				"this is a new place."}
	case Refused:
		return Outcome{To: Stuck, You: true, Do: "The storage refuses this name or request. Rename the file, or allow " +
			"it at the storage, then retry."}
	case Different:
		if tries >= maxDifferent {
			return Outcome{To: Stuck, You: true, Do: "The storage gives back other bytes than it was sent, again and " +
				"again. Check its disk and memory, then retry."}
		}
		return Outcome{To: Waiting, Wait: wait}
	case Changed:
		return Outcome{To: Waiting, Wait: wait}
	case Away: // it goes on when what it lies on is back
		return Outcome{To: Waiting, Wait: lastWait}
	case Gone, Taken:
		return Outcome{To: Skipped}
	case Unreadable:
		return Outcome{To: Stuck, You: true, Do: "Allow reading the file, then retry."}
	case Shut:
		return Outcome{To: Waiting}
	}
	return Outcome{To: Stuck, You: true, Do: "This is a fault of Yard Tide's. Retry; if it comes back, report what " +
		"the log says."}
}

// The waits between tries.
const (
	firstWait = 2 * time.Second
	lastWait  = 15 * time.Minute
)

// Wait is the wait after try number tries (from 1): doubling from 2 s to
// 15 min, jittered by a quarter each way with r in [0,1) so that many copies
// or devices don't come back at once.
func Wait(tries int, r float64) time.Duration {
	wait := lastWait
	if shift := max(tries, 1) - 1; shift < 9 {
		wait = min(firstWait<<shift, lastWait)
	}
	return time.Duration(float64(wait) * (0.75 + r/2))
}

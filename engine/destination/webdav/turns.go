package webdav

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Who puts something in place has the turn. A turn is a folder with a number:
// making a folder is the one thing that all servers do for one of many at the
// same time, as their file systems do (locks are given to two at once by some:
// decision 0007). The highest number has the turn until its folder is gone, or
// nobody moved for too long.

const (
	turnsName = "turns"
	turnsDir  = destination.TempDir + "/" + turnsName
)

// Of a turn: how long it lasts at most if its holder dies, how many lives another
// waits for it, how long it is held with nothing to put in place, and how often
// one who waits looks.
const (
	turnLife = 10 * time.Second
	turnWait = 3
	holdIdle = 200 * time.Millisecond
	turnPoll = 30 * time.Millisecond
)

// turns is the turn of this process: one is held over many files that are put in
// place, as each costs a few requests.
type turns struct {
	at    *Driver
	life  time.Duration // of a turn whose holder died; it is held for a third of that
	own   chan struct{} // has room for one: who filled it may use the rest
	held  int64         // the number, 0 while it has none
	since time.Time
	users int
	freed chan struct{} // closed when it is let go of
	idle  *time.Timer
	again time.Time // not asked for before: others' turn
}

func (t *turns) old() bool { return time.Since(t.since) >= t.life/3 }

// enter takes the turn, or joins who has it in this process. What is returned
// leaves it, and the context ends before another may take the turn.
func (t *turns) enter(ctx context.Context) (context.Context, func(), error) {
	for {
		select {
		case t.own <- struct{}{}:
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		}
		if t.held == 0 || !t.old() {
			break
		}
		freed := t.freed
		if t.users == 0 {
			t.letGo()
		}
		<-t.own
		select {
		case <-freed:
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		}
	}
	defer func() { <-t.own }()
	if t.held == 0 {
		if err := pause(ctx, time.Until(t.again)); err != nil {
			return nil, nil, err
		}
		number, err := t.take(ctx)
		if err != nil {
			return nil, nil, err
		}
		t.held, t.since, t.freed = number, time.Now(), make(chan struct{})
	}
	t.users++
	within, cancel := context.WithDeadlineCause(ctx, t.since.Add(t.life*9/10), errTurnOver)
	return within, func() { cancel(); t.leave() }, nil
}

// errTurnOver tells that the storage took longer than a turn lasts.
var errTurnOver = &destination.Error{Cause: queue.Busy, Says: "the storage took too long to put the file in place"}

func (t *turns) leave() {
	t.own <- struct{}{}
	defer func() { <-t.own }()
	t.users--
	switch {
	case t.users > 0:
	case t.old():
		t.letGo()
	case t.idle == nil:
		t.idle = time.AfterFunc(holdIdle, t.end)
	default:
		t.idle.Reset(holdIdle)
	}
}

// end lets go of the turn if nothing is being put in place.
func (t *turns) end() {
	t.own <- struct{}{}
	defer func() { <-t.own }()
	if t.users == 0 && t.held != 0 {
		t.letGo()
	}
}

// letGo ends the turn. The caller may use the rest. One that cannot be ended ends
// by itself.
func (t *turns) letGo() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = t.unmark(ctx, turnFolder(t.held))
	if t.old() { // others may have waited for all of it
		t.again = time.Now().Add(2 * turnPoll)
	}
	t.held = 0
	close(t.freed)
}

func turnFolder(n int64) string { return fmt.Sprintf("%s/%d", turnsDir, n) }

// take waits for the turn and takes it.
func (t *turns) take(ctx context.Context) (int64, error) {
	if err := t.at.makeFolders(ctx, turnsDir); err != nil {
		return 0, err
	}
	var seen int64 // who had the turn, and since when nobody else had it
	var since time.Time
	for deadline := time.Now().Add(turnWait * t.life); ; {
		holder, last, err := t.now(ctx)
		if err != nil {
			return 0, err
		}
		if holder != seen {
			seen, since = holder, time.Now()
		}
		if holder == 0 || time.Since(since) > t.life {
			won, err := t.claim(ctx, last+1)
			if err != nil || won {
				return last + 1, err
			}
		}
		if time.Now().After(deadline) {
			return 0, &destination.Error{Cause: queue.Busy, Says: "somebody else puts something in place and does not end"}
		}
		if err := pause(ctx, turnPoll); err != nil {
			return 0, err
		}
	}
}

// now tells who has the turn, 0 for nobody, and the last number. The last
// turn leaves its number behind, so that no number comes twice.
func (t *turns) now(ctx context.Context) (holder, last int64, err error) {
	there, err := t.list(ctx)
	if err != nil {
		return 0, 0, err
	}
	for _, e := range there {
		name, done := strings.CutPrefix(e.Name, "after-")
		n, err := strconv.ParseInt(name, 10, 64)
		if err != nil || !e.Folder {
			continue // not ours
		}
		last = max(last, n)
		if !done {
			holder = max(holder, n)
		}
	}
	return holder, last, nil
}

// claim makes the folder of a turn. It is won by who made it, if its number was
// not used before and no later one was: who asked long ago may come late.
func (t *turns) claim(ctx context.Context, n int64) (bool, error) {
	// What was asked is not cut short: a turn that nobody knows of lasts.
	ctx = context.WithoutCancel(ctx)
	code, err := t.mark(ctx, turnFolder(n))
	if err != nil {
		return false, err
	}
	switch code {
	case http.StatusCreated:
	case http.StatusMethodNotAllowed, http.StatusForbidden, http.StatusLocked: // somebody else made it
		return false, nil
	case http.StatusConflict, http.StatusNotFound:
		t.at.forget()
		return false, t.at.makeFolders(ctx, turnsDir)
	}
	won, err := t.confirm(ctx, n)
	if err != nil || !won {
		return false, errors.Join(err, t.unmark(ctx, turnFolder(n)))
	}
	return true, nil
}

// confirm sees that a turn whose folder was made is one's own, marks its number as
// used, and removes what stands before it.
func (t *turns) confirm(ctx context.Context, n int64) (bool, error) {
	there, err := t.list(ctx)
	if err != nil {
		return false, err
	}
	var stale []string
	for _, e := range there {
		name, done := strings.CutPrefix(e.Name, "after-")
		other, err := strconv.ParseInt(name, 10, 64)
		switch {
		case err != nil:
		case other > n || other == n && done:
			return false, nil
		case other < n:
			stale = append(stale, turnsDir+"/"+e.Name)
		}
	}
	code, err := t.mark(ctx, fmt.Sprintf("%s/after-%d", turnsDir, n))
	if err != nil || code != http.StatusCreated {
		return false, err
	}
	for _, name := range stale {
		if err := t.unmark(ctx, name); err != nil {
			return false, err
		}
	}
	return true, nil
}

// insist asks again a few times when the storage is busy: a turn takes several
// requests, and one that is left in the middle keeps everybody waiting.
func insist(ctx context.Context, ask func() error) error {
	for try := 0; ; try++ {
		err := ask()
		if err == nil || destination.CauseOf(err) != queue.Busy || try == 8 {
			return err
		}
		if perr := pause(ctx, turnPoll); perr != nil {
			return perr
		}
	}
}

func (t *turns) list(ctx context.Context) (there []destination.Entry, err error) {
	err = insist(ctx, func() error { there, err = t.at.List(ctx, turnsDir); return err })
	return there, err
}

// mark makes a folder and returns what the storage answered: it may be there,
// or be somebody else's this moment.
func (t *turns) mark(ctx context.Context, folder string) (code int, err error) {
	err = insist(ctx, func() error {
		res, err := t.at.makeFolder(ctx, folder)
		if err != nil {
			return err
		}
		switch code = res.StatusCode; code {
		case http.StatusCreated, http.StatusMethodNotAllowed, http.StatusForbidden, http.StatusLocked, http.StatusConflict,
			http.StatusNotFound:
			return nil
		}
		return status("taking the turn", res)
	})
	return code, err
}

func (t *turns) unmark(ctx context.Context, folder string) error {
	return insist(ctx, func() error { return t.at.removeFolder(ctx, folder) })
}

// inUse tells whether somebody has the turn.
func (t *turns) inUse(ctx context.Context) (bool, error) {
	holder, _, err := t.now(ctx)
	if errors.Is(err, destination.ErrNotFound) {
		return false, nil
	}
	return holder != 0, err
}

func pause(ctx context.Context, t time.Duration) error {
	if t <= 0 {
		return nil
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(t):
		return nil
	}
}

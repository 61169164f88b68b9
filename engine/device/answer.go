package device

import (
	"io/fs"
	"os"
	"sync"
	"time"
)

// This file asks folders that may not answer: a share that went keeps a call for ever. Whoever
// asks goes on without the answer.

// answerTime is how long a folder has to answer what is asked beside its scan.
const answerTime = 5 * time.Second

// answered makes a call in a goroutine of its own, and waits a while for it; ok is false when
// the call is left behind.
func answered[T any](most time.Duration, call func() T) (is T, ok bool) {
	done := make(chan T, 1)
	go func() { done <- call() }()
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case is = <-done:
		return is, true
	case <-timer.C:
		return is, false
	}
}

// asked is a folder whose identity is asked for again and again. While an answer is owed it is
// asked nothing more, and is what it was.
type asked struct {
	folder string

	mu   sync.Mutex
	is   fs.FileInfo // nil while it is not known
	owed bool
}

// now is the folder as it is now, or was when it answered last; ok is false while an answer is owed.
func (a *asked) now() (is fs.FileInfo, ok bool) {
	a.mu.Lock()
	if a.owed {
		defer a.mu.Unlock()
		return a.is, false
	}
	a.owed = true
	a.mu.Unlock()
	answered(answerTime, func() struct{} {
		info, err := os.Stat(a.folder) // it may be mounted only later
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.owed = false; err == nil {
			a.is = info
		} else {
			a.is = nil
		}
		return struct{}{}
	})
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.is, !a.owed
}

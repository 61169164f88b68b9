package records

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"yardtide/core/queue"
)

// Steps that are asked for while another is being committed share the next commit:
// with many copies on their way, a commit and its flush to disk cost more than all
// that is in it. While steps are shared, a commit waits a moment for more.

// mostShared is how many steps share a commit at most. Where manyShare or more shared the last one, a
// commit waits shareTime for more.
const (
	mostShared = 32
	shareTime  = 4 * time.Millisecond
	manyShare  = 4
)

// sharer gathers what is to be committed together. The zero value is ready.
type sharer struct {
	mu     sync.Mutex
	queue  []*sharing
	leader bool // somebody commits
	last   int  // how many shared the last commit
}

// sharing is one's part of a commit.
type sharing struct {
	doing string
	do    func(*transaction) error
	sync  bool // it is on disk when it is told as done
	lead  chan struct{}
	done  chan error
}

// shared is tx, or durably, in a commit that others may share. do is run again, by
// itself, when the commit fails for another's reason: it changes nothing but the
// transaction.
func (r *file) shared(ctx context.Context, doing string, durable bool, do func(*transaction) error) error {
	own := &sharing{doing, do, durable, make(chan struct{}, 1), make(chan error, 1)}
	s := &r.sharer
	s.mu.Lock()
	s.queue = append(s.queue, own)
	if s.leader {
		s.mu.Unlock()
		select {
		case err := <-own.done:
			return err
		case <-own.lead:
		}
	} else {
		s.leader = true
		s.mu.Unlock()
	}
	// It is this one's turn: its own part is the first of the queue.
	s.mu.Lock()
	if s.last >= manyShare && len(s.queue) < mostShared {
		s.mu.Unlock()
		time.Sleep(shareTime)
		s.mu.Lock()
	}
	n := min(len(s.queue), mostShared)
	batch := s.queue[:n:n]
	s.queue, s.last = s.queue[n:], n
	s.mu.Unlock()
	r.commit(context.WithoutCancel(ctx), batch)
	s.mu.Lock()
	if len(s.queue) > 0 {
		s.queue[0].lead <- struct{}{}
	} else {
		s.leader = false
	}
	s.mu.Unlock()
	return <-own.done
}

// harmless tells an error of a step that was refused before it changed anything.
func harmless(err error) bool {
	var illegal queue.StepError
	return errors.As(err, &illegal) || errors.Is(err, ErrFactChanged)
}

// commit does a batch in one transaction. Who was refused harms nobody; after any
// other failure each is done alone.
func (r *file) commit(ctx context.Context, batch []*sharing) {
	durable := false
	for _, one := range batch {
		durable = durable || one.sync
	}
	run := func(sync bool, doing string, do func(*transaction) error) error {
		if sync {
			return r.durably(ctx, doing, do)
		}
		return r.tx(ctx, doing, do)
	}
	if len(batch) > 1 {
		refused := make([]error, len(batch))
		err := run(durable, "committing steps", func(tx *transaction) error {
			for i, one := range batch {
				if err := one.do(tx); harmless(err) {
					refused[i] = fmt.Errorf("%s: %w", one.doing, err)
				} else if err != nil {
					return err
				}
			}
			return nil
		})
		if err == nil {
			for i, one := range batch {
				one.done <- refused[i]
			}
			return
		}
	}
	for _, one := range batch {
		one.done <- run(one.sync, one.doing, one.do)
	}
}

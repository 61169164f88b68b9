// Package jobs runs the long work that the keeper starts: bounded, told while it runs, stopped when asked, waited
// for at the end. It knows nothing of what the work is.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/work"
	"yardtide/wire"
)

// Of jobs: how many run at once, and how many that ended are still told.
const (
	mostJobs  = 16
	keptEnded = 12
)

// ErrTooMany refuses a job while so many run.
var ErrTooMany = fmt.Errorf("%d jobs are running already; wait for one to end, or stop one", mostJobs)

// ErrNone says that there is no job of a name.
var ErrNone = errors.New("there is no such job")

// Jobs is the long work that the keeper started. The zero value is ready.
type Jobs struct {
	Tell func() // something about a job changed

	mu      sync.Mutex
	list    []*job // the oldest first
	numbers int
	running work.Crew
}

type job struct {
	is   wire.Job
	stop context.CancelCauseFunc
}

// ErrStopped ends a job that the keeper stopped; errClosing one that the service does.
var (
	ErrStopped = errors.New("stopped by the keeper")
	errClosing = errors.New("the service stopped")
)

// Begin begins a job, and returns how it stands. One of the same kind that runs
// already for the same destination is that one, unless it may run again beside.
//
// The work tells how far it is with tell, and may end with an error, which the job
// then says.
func (j *Jobs) Begin(one wire.Job, beside bool,
	work func(ctx context.Context, tell func(func(*wire.Job))) error) (wire.Job, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	n := 0
	for _, o := range j.list {
		if o.is.State != wire.JobRunning {
			continue
		}
		if n++; !beside && o.is.Kind == one.Kind && o.is.Destination == one.Destination {
			return o.is, nil
		}
	}
	if n >= mostJobs {
		return wire.Job{}, ErrTooMany
	}
	ctx, stop := context.WithCancelCause(context.Background()) // it outlives the call; close ends it
	j.numbers++
	one.ID, one.State, one.Began = strconv.Itoa(j.numbers), wire.JobRunning, time.Now()
	this := &job{is: one, stop: stop}
	began := j.running.Begin(this, func() {
		err := work(ctx, func(change func(*wire.Job)) { j.change(this, change) })
		j.change(this, func(is *wire.Job) { end(is, err, context.Cause(ctx)) })
		stop(nil)
		j.forget()
	})
	if !began { // the service ends
		stop(nil)
		return wire.Job{}, ErrTooMany
	}
	j.list = append(j.list, this)
	return one, nil
}

func end(is *wire.Job, err, cause error) {
	is.Ended, is.State = time.Now(), wire.JobDone
	switch {
	case errors.Is(cause, ErrStopped):
		is.State, is.Says = wire.JobStopped, "Stopped by you."
	case cause != nil:
		is.State, is.Says = wire.JobStopped, "The service stopped."
	case err != nil:
		is.State, is.Says = wire.JobFailed, destination.Sentence(err)
	}
}

func (j *Jobs) change(this *job, change func(*wire.Job)) {
	j.mu.Lock()
	change(&this.is)
	j.mu.Unlock()
	j.Tell()
}

// forget lets go of jobs that ended long ago.
func (j *Jobs) forget() {
	j.mu.Lock()
	defer j.mu.Unlock()
	more := -keptEnded
	for _, o := range j.list {
		if o.is.State != wire.JobRunning {
			more++
		}
	}
	j.list = slices.DeleteFunc(j.list, func(o *job) bool {
		if more <= 0 || o.is.State == wire.JobRunning {
			return false
		}
		more--
		return true
	})
}

// All lists the jobs, the newest first.
func (j *Jobs) All() []wire.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	list := make([]wire.Job, 0, len(j.list))
	for _, o := range slices.Backward(j.list) {
		list = append(list, o.is)
	}
	return list
}

func (j *Jobs) find(id string) (*job, error) {
	i := slices.IndexFunc(j.list, func(o *job) bool { return o.is.ID == id })
	if i < 0 {
		return nil, ErrNone
	}
	return j.list[i], nil
}

// Get tells of one. The error is ErrNone when there is none.
func (j *Jobs) Get(id string) (wire.Job, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	o, err := j.find(id)
	if err != nil {
		return wire.Job{}, err
	}
	return o.is, nil
}

// Stop ends one; one that ended stays as it is.
func (j *Jobs) Stop(id string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	o, err := j.find(id)
	if err == nil {
		o.stop(ErrStopped)
	}
	return err
}

// Close ends all, and waits for them.
func (j *Jobs) Close() {
	j.mu.Lock()
	j.running.Shut()
	for _, o := range j.list {
		o.stop(errClosing)
	}
	j.mu.Unlock()
	j.running.End(work.Forever)
}

// TellLook writes what was found so far into its job.
func TellLook(is *wire.Job, l wire.Look) {
	is.Look, is.Done, is.Of = &l, l.ByContent, l.All.N
	is.Says = fmt.Sprintf("%s: %s, %s.", l.Path, words.Files(l.All.N), words.Bytes(l.All.Bytes))
}

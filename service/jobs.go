package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/destination"
	"yardtide/wire"
)

// Of jobs: how many run at once, and how many that ended are still told.
const (
	mostJobs  = 16
	keptEnded = 12
)

// ErrTooManyJobs refuses a job while so many run.
var ErrTooManyJobs = fmt.Errorf("%d jobs are running already; wait for one to end, or stop one", mostJobs)

// ErrNoJob says that there is no job of a name.
var ErrNoJob = errors.New("there is no such job")

// jobs is the long work that the keeper started. The zero value is ready.
type jobs struct {
	tell func() // something about a job changed

	mu      sync.Mutex
	list    []*job // the oldest first
	numbers int
	ended   bool // no more are begun
	running sync.WaitGroup
}

type job struct {
	is   wire.Job
	stop context.CancelCauseFunc
}

// errStopped ends a job that the keeper stopped; errClosing one that the service does.
var (
	errStopped = errors.New("stopped by the keeper")
	errClosing = errors.New("the service stopped")
)

// begin begins a job, and returns how it stands. One of the same kind that runs
// already for the same destination is that one, unless it may run again beside.
//
// The work tells how far it is with tell, and may end with an error, which the job
// then says.
func (j *jobs) begin(one wire.Job, beside bool, work func(ctx context.Context, tell func(func(*wire.Job))) error) (wire.Job, error) {
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
	if n >= mostJobs || j.ended {
		return wire.Job{}, ErrTooManyJobs
	}
	ctx, stop := context.WithCancelCause(context.Background()) // it outlives the call; close ends it
	j.numbers++
	one.ID, one.State, one.Began = strconv.Itoa(j.numbers), wire.JobRunning, time.Now()
	this := &job{is: one, stop: stop}
	j.list = append(j.list, this)
	j.running.Go(func() {
		err := work(ctx, func(change func(*wire.Job)) { j.change(this, change) })
		j.change(this, func(is *wire.Job) { end(is, err, context.Cause(ctx)) })
		stop(nil)
		j.forget()
	})
	return one, nil
}

func end(is *wire.Job, err, cause error) {
	is.Ended, is.State = time.Now(), wire.JobDone
	switch {
	case errors.Is(cause, errStopped):
		is.State, is.Says = wire.JobStopped, "Stopped by you."
	case cause != nil:
		is.State, is.Says = wire.JobStopped, "The service stopped."
	case err != nil:
		is.State, is.Says = wire.JobFailed, destination.Sentence(err)
	}
}

func (j *jobs) change(this *job, change func(*wire.Job)) {
	j.mu.Lock()
	change(&this.is)
	j.mu.Unlock()
	j.tell()
}

// forget lets go of jobs that ended long ago.
func (j *jobs) forget() {
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

// all lists the jobs, the newest first.
func (j *jobs) all() []wire.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	list := make([]wire.Job, 0, len(j.list))
	for _, o := range slices.Backward(j.list) {
		list = append(list, o.is)
	}
	return list
}

func (j *jobs) find(id string) (*job, error) {
	i := slices.IndexFunc(j.list, func(o *job) bool { return o.is.ID == id })
	if i < 0 {
		return nil, ErrNoJob
	}
	return j.list[i], nil
}

// get tells of one. The error is ErrNoJob when there is none.
func (j *jobs) get(id string) (wire.Job, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	o, err := j.find(id)
	if err != nil {
		return wire.Job{}, err
	}
	return o.is, nil
}

// stop ends one; one that ended stays as it is.
func (j *jobs) stop(id string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	o, err := j.find(id)
	if err == nil {
		o.stop(errStopped)
	}
	return err
}

// close ends all, and waits for them.
func (j *jobs) close() {
	j.mu.Lock()
	j.ended = true
	for _, o := range j.list {
		o.stop(errClosing)
	}
	j.mu.Unlock()
	j.running.Wait()
}

// Jobs lists the jobs that run or ended lately, the newest first.
func (s *Service) Jobs() []wire.Job { return s.jobs.all() }

// Job tells of one. The error is ErrNoJob when there is none.
func (s *Service) Job(id string) (wire.Job, error) { return s.jobs.get(id) }

// StopJob ends a job.
func (s *Service) StopJob(id string) error { return s.jobs.stop(id) }

// Prove begins to have proofs of safe copies taken again.
func (s *Service) Prove(ctx context.Context, o wire.ProveOrder, devices []Device) (wire.Job, error) {
	before, err := s.proving(ctx, o.Destination)
	if err != nil {
		return wire.Job{}, err
	}
	of := before.Left
	for _, d := range devices {
		n, err := d.Reprove(ctx, o.Destination, o.Sample)
		if err != nil {
			return wire.Job{}, err
		}
		of += n
	}
	return s.followProofs(o.Destination, before, of)
}

// followProofs begins the job of so many proofs that are to be taken again: the devices
// take them by themselves, also after a start.
func (s *Service) followProofs(name string, before wire.Proving, of int64) (wire.Job, error) {
	return s.jobs.begin(wire.Job{Kind: wire.JobProofs, Destination: name, Says: "Proofs are taken again.", Of: of, Proving: &wire.Proving{Left: of, Stuck: before.Stuck}}, false, func(ctx context.Context, tell func(func(*wire.Job))) error {
		for {
			changed := s.Changes.Next()
			p, err := s.proving(ctx, name)
			if err != nil {
				return err
			}
			of = max(of, p.Left)
			tell(func(is *wire.Job) {
				is.Proving, is.Done, is.Of, is.Says = &p, of-p.Left, of, provingSays(p, p.Stuck-before.Stuck, of)
			})
			if p.Left == 0 {
				return nil
			}
			select {
			case <-ctx.Done():
				return s.stopProofs(ctx, name)
			case <-time.After(provingPace):
			}
			select {
			case <-ctx.Done():
				return s.stopProofs(ctx, name)
			case <-changed:
			case <-time.After(time.Minute):
			}
		}
	})
}

// provingPace is how often it is looked how far the proofs are.
const provingPace = 200 * time.Millisecond

// stopProofs takes back what was still to be proven, where the keeper stopped it.
func (s *Service) stopProofs(ctx context.Context, name string) error {
	if !errors.Is(context.Cause(ctx), errStopped) {
		return nil // it goes on at the next start
	}
	for _, d := range s.Devices() {
		if err := d.StopReproving(context.WithoutCancel(ctx), name); err != nil {
			return err
		}
	}
	return nil
}

func provingSays(p wire.Proving, lost, of int64) string {
	says := fmt.Sprintf("%s of %s proofs are taken.", gate.Count(of-p.Left), gate.Count(of))
	switch {
	case p.Left == 0 && lost <= 0:
		return "All of it is what was proven."
	case lost > 0 && p.Left == 0:
		says = "All proofs are taken."
	case p.Held == p.Left:
		says = fmt.Sprintf("What could be proven now is what it was. %s wait until the network costs nothing, a pause ends, or the storage answers.", gate.Count(p.Held))
	}
	switch {
	case lost == 1:
		says += " 1 copy is no longer what was proven: it is stuck, and says what to do."
	case lost > 1:
		says += " " + gate.Count(lost) + " copies are no longer what was proven: they are stuck, and say what to do."
	}
	return says
}

// proving tells how far the proofs are that are taken again at a destination, or at
// all with "".
func (s *Service) proving(ctx context.Context, name string) (out wire.Proving, err error) {
	for _, d := range s.Devices() {
		one, err := d.Proving(ctx, name)
		if err != nil {
			return out, err
		}
		out.Left, out.Held, out.Stuck = out.Left+one.Left, out.Held+one.Held, out.Stuck+one.Stuck
	}
	return out, nil
}

// Adopt begins to list what was at a destination before, so that it is not sent
// again. The first device here that the plan sends there from keeps it.
func (s *Service) Adopt(name string) (wire.Job, error) {
	p := s.planOrEmpty()
	if _, there := p.Destinations[name]; !there {
		return wire.Job{}, ErrNoDestination
	}
	own := s.own()
	if len(own) == 0 {
		return wire.Job{}, errors.New("no device runs here")
	}
	chosen := own[0]
	if i := slices.IndexFunc(own, func(d Device) bool { return p.SendsTo(d.DeviceName(), name) }); i > 0 {
		chosen = own[i]
	}
	return s.jobs.begin(wire.Job{Kind: wire.JobAdoption, Destination: name, Says: "It is listed what lies there."}, false, func(ctx context.Context, tell func(func(*wire.Job))) error {
		found := func(a wire.Adopted) {
			tell(func(is *wire.Job) {
				is.Adopted, is.Done, is.Says = &a, a.Files, fmt.Sprintf("%s found so far, %s.", files(a.Files), gate.Bytes(a.Bytes))
			})
		}
		a, err := chosen.Adopt(ctx, name, found)
		if err == nil {
			tell(func(is *wire.Job) { is.Adopted, is.Done, is.Of, is.Says = &a, a.Files, a.Files, adoptedSays(name, a) })
		}
		return err
	})
}

func files(n int64) string {
	if n == 1 {
		return "1 file"
	}
	return gate.Count(n) + " files"
}

func adoptedSays(name string, a wire.Adopted) string {
	says := fmt.Sprintf("%s holds %s (%s) that Yard Tide did not put there.", name, files(a.Files), gate.Bytes(a.Bytes))
	switch a.Compare {
	case 0:
		return says + " Nothing that waits has the size of one of them."
	case 1:
		return says + " 1 copy that waits has the size of one of them: the two are compared over a network that costs nothing, and what is the same is safe and not sent."
	}
	return says + fmt.Sprintf(" %s copies that wait have the size of one of them: each is compared over a network that costs nothing, and what is the same is safe and not sent.", gate.Count(a.Compare))
}

// beginTrial begins a trial as a job.
func (s *Service) beginTrial(t *trial, run func(ctx context.Context) bool) (wire.Job, error) {
	return s.jobs.begin(wire.Job{Kind: wire.JobTrial, Destination: t.name, Says: "It is tried, step by step.", Trial: &wire.Trial{Steps: []wire.TrialStep{}}}, true, func(ctx context.Context, tell func(func(*wire.Job))) error {
		ctx, cancel := context.WithTimeout(ctx, trialTime)
		defer cancel()
		show := func(says string) {
			now := t.result
			now.Steps = slices.Clone(now.Steps)
			tell(func(is *wire.Job) { is.Trial, is.Done, is.Says = &now, int64(len(now.Steps)), says })
		}
		t.tried = func() { show("It is tried, step by step.") }
		if t.result.OK = run(ctx); t.result.OK {
			show("It works, and nothing of the trial is left there.")
		} else {
			show("It does not work yet.")
		}
		return nil
	})
}

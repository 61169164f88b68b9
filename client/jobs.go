package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"yardtide/wire"
)

// Jobs are the calls about long work that was started.
type Jobs struct{ c Client }

// Jobs returns the calls about long work that was started.
func (c Client) Jobs() Jobs { return Jobs{c} }

// List lists the jobs that run or ended lately, the newest first.
func (of Jobs) List(ctx context.Context) ([]wire.Job, error) {
	return ask[[]wire.Job](ctx, of.c, http.MethodGet, "/jobs", nil)
}

// Get asks how far a job is.
func (of Jobs) Get(ctx context.Context, id string) (wire.Job, error) {
	return ask[wire.Job](ctx, of.c, http.MethodGet, "/jobs/"+url.PathEscape(id), nil)
}

// Stop stops a job.
func (of Jobs) Stop(ctx context.Context, id string) error {
	return of.c.do(ctx, http.MethodDelete, "/jobs/"+url.PathEscape(id), nil, nil)
}

// jobPace is how often Follow asks how far a job is.
const jobPace = 200 * time.Millisecond

// Follow shows how far a job is until it ends, or show says that it is enough. That
// the context ends leaves the job going on.
func (of Jobs) Follow(ctx context.Context, j wire.Job, show func(wire.Job) (enough bool)) (wire.Job, error) {
	for j.State == wire.JobRunning && !show(j) {
		select {
		case <-ctx.Done():
			return j, ctx.Err()
		case <-time.After(jobPace):
		}
		var err error
		if j, err = of.Get(ctx, j.ID); err != nil {
			return j, err
		}
	}
	return j, nil
}

package service_test

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/service"
	"yardtide/service/caller"
	"yardtide/service/jobs"
	"yardtide/wire"
)

// mute is a storage that takes every request and never answers one.
func mute(t *testing.T) (url string, asked *atomic.Int64) {
	asked = &atomic.Int64{}
	done := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		select {
		case <-r.Context().Done():
		case <-done:
		}
	}))
	t.Cleanup(func() { close(done); server.Close() })
	return server.URL + "/dav/", asked
}

func TestJobsAreStoppedBoundedAndEndWithTheService(t *testing.T) {
	s := open(t, t.TempDir())
	url, asked := mute(t)
	try := func() (wire.Job, error) {
		return s.Destinations.Try(t.Context(), wire.Draft{Name: "locker",
			Destination: plan.Destination{Kind: plan.WebDAV, URL: url, Layout: plan.DefaultLayout}})
	}
	first, err := try()
	require.NoError(t, err)
	assert.Equal(t, wire.JobRunning, first.State)
	require.Eventually(t, func() bool { return asked.Load() > 0 }, 20*time.Second, time.Millisecond)
	j, err := s.Jobs.Get(first.ID)
	require.NoError(t, err)
	require.NotEmpty(t, j.Trial.Steps, "what went well so far is told")
	assert.Equal(t, "name", j.Trial.Steps[0].Name)

	require.NoError(t, s.Jobs.Stop(first.ID))
	stopped := ended(t, s, first)
	assert.Equal(t, wire.JobStopped, stopped.State)
	assert.Equal(t, "Stopped by you.", stopped.Says)
	assert.False(t, stopped.Ended.IsZero())
	require.NoError(t, s.Jobs.Stop(first.ID), "one that ended stays as it is")

	_, err = s.Jobs.Get("nobody's")
	require.ErrorIs(t, err, jobs.ErrNone)
	require.ErrorIs(t, s.Jobs.Stop("nobody's"), jobs.ErrNone)

	begun := 0
	for ; begun < 100; begun++ {
		if _, err = try(); err != nil {
			break
		}
	}
	require.ErrorIs(t, err, jobs.ErrTooMany)
	assert.Equal(t, 16, begun)
	for _, j := range s.Jobs.All() {
		require.NoError(t, s.Jobs.Stop(j.ID))
	}
	require.Eventually(t, func() bool {
		return !slices.ContainsFunc(s.Jobs.All(), func(j wire.Job) bool { return j.State == wire.JobRunning })
	}, 20*time.Second, time.Millisecond)
	last, err := try()
	require.NoError(t, err, "there is room again")
	assert.Len(t, s.Jobs.All(), 13, "of those that ended some are told, and the one that runs")
	assert.Equal(t, last.ID, s.Jobs.All()[0].ID, "the newest first")

	require.NoError(t, s.Close(), "who closes waits for all of them")
	j, err = s.Jobs.Get(last.ID)
	require.NoError(t, err)
	assert.Equal(t, wire.JobStopped, j.State)
	assert.Equal(t, "The service stopped.", j.Says)
	_, err = try()
	require.Error(t, err, "and none begins after it")
}

func TestTheSameJobRunsOnce(t *testing.T) {
	var sense sensor.Set
	s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler),
		Members: []service.Local{{Name: "desk", Root: t.TempDir(), Sensor: &sense}}})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var runs errgroup.Group
	runs.Go(func() error { return s.Run(ctx) })
	t.Cleanup(func() {
		stop()
		assert.NoError(t, runs.Wait())
		assert.NoError(t, s.Close())
	})
	url, asked := mute(t)
	_, err = s.Adopt("locker")
	require.ErrorIs(t, err, service.ErrNoDestination)
	_, err = s.Book.Apply(caller.AtTheMachine(t.Context()), "p",
		"yard: T\ntimezone: UTC\ndestinations:\n  locker: {kind: webdav, url: '"+url+"'}\n  disk: {kind: folder, path: "+
			t.TempDir()+"}\ndevices:\n  desk:\n    sources: [{folder: in, rule: all}]\nrules:\n  all: {take: [photo], to: "+
			"[locker], lanes: [{over: wifi}]}\n", 0)
	require.NoError(t, err)

	// No sensor ever told what the network costs: nothing is read over it.
	j, err := s.Adopt("locker")
	require.NoError(t, err)
	j = ended(t, s, j)
	assert.Equal(t, wire.JobFailed, j.State)
	assert.Contains(t, j.Says, "the device cannot tell that it does not")
	assert.Nil(t, j.Adopted)

	// A disk costs nothing.
	j, err = s.Adopt("disk")
	require.NoError(t, err)
	j = ended(t, s, j)
	assert.Equal(t, wire.JobDone, j.State)
	assert.Contains(t, j.Says, "disk holds 0 files")

	sense.Put(gate.Conditions{Network: plan.WiFi, Metered: gate.No, Roaming: gate.No})
	require.Eventually(t, func() bool { return asked.Load() > 0 }, 20*time.Second, time.Millisecond,
		"the device senses its network")
	j, err = s.Adopt("locker")
	require.NoError(t, err)
	again, err := s.Adopt("locker")
	require.NoError(t, err)
	assert.Equal(t, j.ID, again.ID)
	require.NoError(t, s.Jobs.Stop(j.ID))
	assert.Equal(t, wire.JobStopped, ended(t, s, j).State)
	again, err = s.Adopt("locker")
	require.NoError(t, err)
	assert.NotEqual(t, j.ID, again.ID, "what was stopped is begun anew")
}

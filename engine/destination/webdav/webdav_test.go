package webdav_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/web"
	"yardtide/engine/destination/webdav"
	"yardtide/standin"
	"yardtide/standin/apache"
)

func driver(t *testing.T, o webdav.Options) *webdav.Driver {
	t.Helper()
	if o.Password == nil {
		o.Password = func() (string, error) { return "tide & mud", nil }
	}
	d, err := webdav.New(o)
	require.NoError(t, err)
	return d
}

func storage(t *testing.T, s *standin.Storage) *standin.Storage {
	t.Helper()
	s.Dir, s.User, s.Password = t.TempDir(), "slip", "tide & mud"
	require.NoError(t, s.Start("127.0.0.1:0"))
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

func send(t *testing.T, d *webdav.Driver, n int) error {
	t.Helper()
	return d.Put(t.Context(), destinationtest.Temp(1), bytes.NewReader(bytes.Repeat([]byte("tide"), n/4)), 0, int64(n))
}

func TestFailuresAreToldApart(t *testing.T) {
	for name, c := range map[string]struct {
		faults standin.Faults
		cause  queue.Cause
		says   string
	}{
		"an error":       {standin.Faults{Errors: 1}, queue.Busy, "500"},
		"a reset":        {standin.Faults{Resets: 1}, queue.Unreachable, "the connection to"},
		"a stall":        {standin.Faults{Stalls: 1}, queue.Unreachable, "no longer answers"},
		"a short copy":   {standin.Faults{Truncate: 1}, queue.Different, "the storage kept"},
		"a full storage": {standin.Faults{Full: true}, queue.Full, "the storage is full"},
		"no sign-in":     {standin.Faults{Refuse: true}, queue.SignIn, "refuses the user or the password"},
		"nobody there":   {standin.Faults{Away: true}, queue.Unreachable, "the connection to"},
	} {
		t.Run(name, func(t *testing.T) {
			s := storage(t, &standin.Storage{})
			d := driver(t, webdav.Options{URL: s.URL(), User: "slip", Web: web.Options{Stall: 300 * time.Millisecond}})
			require.NoError(t, send(t, d, 4))
			s.SetFaults(c.faults)
			err := send(t, d, 2<<20)
			require.Equal(t, c.cause, destination.CauseOf(err), "%v", err)
			assert.ErrorContains(t, err, c.says)
			assert.NotContains(t, err.Error(), "mud")
			s.SetFaults(standin.Faults{})
			require.NoError(t, send(t, d, 2<<20), "it goes on when the fault is gone")
		})
	}
}

func TestABusyStorageSaysWhenToComeBack(t *testing.T) {
	s := storage(t, &standin.Storage{})
	s.SetFaults(standin.Faults{Busy: 1})
	var e *destination.Error
	require.ErrorAs(t, send(t, driver(t, webdav.Options{URL: s.URL(), User: "slip"}), 4), &e)
	assert.Equal(t, queue.Busy, e.Cause)
	assert.Equal(t, time.Second, e.RetryAfter)
}

func TestAFlippedByteIsSeenOnlyByReadingBack(t *testing.T) {
	s := storage(t, &standin.Storage{})
	s.SetFaults(standin.Faults{Flip: 1})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip"})
	require.NoError(t, send(t, d, 40_000), "the storage acknowledges it")
	r, err := d.Open(t.Context(), destinationtest.Temp(1))
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.NotEqual(t, bytes.Repeat([]byte("tide"), 10_000), got)
}

func TestNobodyListens(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	err = send(t, driver(t, webdav.Options{URL: "http://" + l.Addr().String() + "/dav/"}), 4)
	assert.Equal(t, queue.Unreachable, destination.CauseOf(err))
	assert.ErrorContains(t, err, "does not answer")
}

func TestTheAddressLeadsElsewhere(t *testing.T) {
	s := storage(t, &standin.Storage{})
	d := driver(t, webdav.Options{URL: s.URL() + "no/such/folder", User: "slip"})
	assert.Equal(t, queue.Misplaced, destination.CauseOf(send(t, d, 4)))
}

func TestAPasswordThatCannotBeRead(t *testing.T) {
	s := storage(t, &standin.Storage{})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip",
		Password: func() (string, error) { return "", errors.New("no such file") }})
	assert.Equal(t, queue.SignIn, destination.CauseOf(send(t, d, 4)))
}

func TestFoldersRemovedBehindItsBackAreMadeAgain(t *testing.T) {
	s := storage(t, &standin.Storage{})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip"})
	require.NoError(t, send(t, d, 4))
	require.NoError(t, d.Publish(t.Context(), destinationtest.Temp(1), "2026/a.jpg"))
	require.NoError(t, os.RemoveAll(filepath.Join(s.Dir, "2026")))
	require.NoError(t, send(t, d, 4))
	require.NoError(t, d.Publish(t.Context(), destinationtest.Temp(1), "2026/b.jpg"))
	assert.FileExists(t, filepath.Join(s.Dir, "2026/b.jpg"))
}

func TestSpaceIsToldByTheStorage(t *testing.T) {
	s := storage(t, &standin.Storage{Limit: 1000})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip"})
	require.NoError(t, send(t, d, 400))
	space, err := d.Space(t.Context())
	require.NoError(t, err)
	assert.Equal(t, destination.Space{Free: 600, Used: 400}, space)
	assert.Equal(t, queue.Full, destination.CauseOf(send(t, d, 4000)))
}

// Two services put files in place at one Apache, some under the same names. The
// turn is taken far less often than once a file.
func TestTheTurnIsHeldOverManyFiles(t *testing.T) {
	a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	there, err := url.Parse(a.URL)
	require.NoError(t, err)
	var turns atomic.Int64
	front := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		if r.In.Method == "MKCOL" && strings.Contains(r.In.URL.Path, "/turns/after-") {
			turns.Add(1)
		}
		if to := r.In.Header.Get("Destination"); to != "" {
			r.Out.Header.Set("Destination", strings.Replace(to, r.In.Host, there.Host, 1))
		}
		r.SetURL(&url.URL{Scheme: there.Scheme, Host: there.Host})
	}})
	t.Cleanup(front.Close)
	const files, shared = 100, 20
	var won [shared]atomic.Int64
	var all sync.WaitGroup
	drivers := []*webdav.Driver{driver(t, webdav.Options{URL: front.URL + "/dav/"}),
		driver(t, webdav.Options{URL: front.URL + "/dav/"})}
	for i, d := range drivers {
		for sender := range 4 {
			all.Go(func() {
				for n := sender; n < files; n += 4 {
					temp, name := destination.NewTemp("dev"), fmt.Sprint(i, "-", n)
					if n < shared {
						name = fmt.Sprint(n)
					}
					if !assert.NoError(t, d.Put(t.Context(), temp, strings.NewReader("tide"), 0, 4)) {
						return
					}
					switch err := d.Publish(t.Context(), temp, name); {
					case err == nil && n < shared:
						won[n].Add(1)
					case n < shared:
						assert.ErrorIs(t, err, destination.ErrExists)
					default:
						assert.NoError(t, err)
					}
				}
			})
		}
	}
	all.Wait()
	for n := range won {
		assert.EqualValues(t, 1, won[n].Load(), "who put %d in place", n)
	}
	for _, d := range drivers {
		require.NoError(t, d.Close())
	}
	assert.NotZero(t, turns.Load())
	assert.Less(t, turns.Load(), int64(files/2))
}

// A service that died with the turn keeps nobody waiting for long, and one that
// comes late with what it had seen before takes no turn from anybody.
func TestATurnOfTheDeadEnds(t *testing.T) {
	s := storage(t, &standin.Storage{})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip"})
	require.NoError(t, send(t, d, 4))
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, destination.TempDir, "turns", "7"), 0o755))
	began := time.Now()
	require.NoError(t, d.Publish(t.Context(), destinationtest.Temp(1), "a.jpg"))
	assert.Greater(t, time.Since(began), 5*time.Second, "who has the turn is not hurried")
	require.NoError(t, d.Close())
	left, err := filepath.Glob(filepath.Join(s.Dir, destination.TempDir, "turns", "*"))
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(s.Dir, destination.TempDir, "turns", "after-8")}, left)
}

// A storage that stops answering in the middle of the trial of ranges keeps who
// asks what it can do from nothing.
func TestAStorageThatStallsHoldsUpNobodyElse(t *testing.T) {
	s := storage(t, &standin.Storage{})
	d := driver(t, webdav.Options{URL: s.URL(), User: "slip", Web: web.Options{Stall: 30 * time.Second}})
	require.NoError(t, send(t, d, 4))
	s.SetFaults(standin.Faults{Stalls: 100})
	ctx, cancel := context.WithCancel(t.Context())
	var stalled sync.WaitGroup
	for range 3 {
		stalled.Go(func() {
			assert.Error(t, d.Put(ctx, destination.NewTemp("dev"), bytes.NewReader(make([]byte, 40<<20)), 0, 40<<20))
		})
	}
	answered := make(chan bool)
	go func() { answered <- d.Resumes() }()
	select {
	case able := <-answered:
		assert.False(t, able)
	case <-time.After(5 * time.Second):
		assert.Fail(t, "who only asks waits for the storage")
	}
	cancel()
	stalled.Wait()
}

func TestAServerThatIsBusyOnceIsTriedAgain(t *testing.T) {
	a, err := apache.Start(t.Context(), t.TempDir(), apache.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	to, err := url.Parse(a.URL)
	require.NoError(t, err)
	to.Path = ""
	proxy := httputil.NewSingleHostReverseProxy(to)
	var busy atomic.Value
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		what := "whole"
		if r.Header.Get("Content-Range") != "" {
			what = "a part"
		}
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, ".trial") && what == busy.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	for _, at := range []string{"", "whole", "a part"} {
		d := driver(t, webdav.Options{URL: server.URL + "/dav/"})
		busy.Store(at)
		require.NoError(t, send(t, d, 40<<20))
		assert.Equal(t, at == "", d.Resumes(), "busy at %q", at)
		busy.Store("")
		require.NoError(t, send(t, d, 40<<20))
		assert.True(t, d.Resumes(), "it was busy, and is able to")
	}
}

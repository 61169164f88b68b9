package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/sensor"
	"yardtide/service"
	"yardtide/service/caller"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
)

func open(t *testing.T, dir string) *service.Service {
	t.Helper()
	s, err := service.Open(t.Context(), service.Options{Dir: dir, Log: slog.New(slog.DiscardHandler),
		Members: []service.Local{{Name: "desk", Root: t.TempDir(), Sensor: &sensor.Set{}}}})
	require.NoError(t, err)
	return s
}

// ended waits for a job to end.
func ended(t *testing.T, s *service.Service, j wire.Job) wire.Job {
	t.Helper()
	for j.State == wire.JobRunning {
		changed := s.Changes.Next()
		var err error
		j, err = s.Jobs.Get(j.ID)
		require.NoError(t, err)
		if j.State != wire.JobRunning {
			break
		}
		select {
		case <-changed:
		case <-time.After(30 * time.Second):
			require.Fail(t, "the job does not end", "%+v", j)
		}
	}
	return j
}

// tried is what came of a trial that was begun.
func tried(t *testing.T, s *service.Service) func(wire.Job, error) wire.Trial {
	return func(j wire.Job, err error) wire.Trial {
		t.Helper()
		require.NoError(t, err)
		return *ended(t, s, j).Trial
	}
}

// thief answers like a storage and keeps whatever it is shown.
type thief struct {
	*httptest.Server
	mu    sync.Mutex
	shown []string
}

func newThief(t *testing.T) *thief {
	th := &thief{}
	th.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, password, ok := r.BasicAuth(); ok {
			th.mu.Lock()
			th.shown = append(th.shown, password)
			th.mu.Unlock()
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="yard"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	t.Cleanup(th.Close)
	return th
}

func (th *thief) saw() string {
	th.mu.Lock()
	defer th.mu.Unlock()
	return strings.Join(th.shown, " ")
}

const yard = `yard: Home
timezone: UTC
destinations:
  locker: {kind: webdav, url: '%s/dav/', user: me, password-from: 'kept:locker'}
  shed: {kind: webdav, url: '%s/shed/', user: me, password-from: 'env:YARD_SECRET'}
devices:
  desk: {sources: [{folder: Pictures, rule: all}]}
rules:
  all: {take: [photo], to: [locker], lanes: [{over: wifi}]}
`

func TestADraftIsShownNobodysSecret(t *testing.T) {
	console, machine := t.Context(), caller.AtTheMachine(t.Context())
	secret := t.TempDir() + "/shadow"
	require.NoError(t, os.WriteFile(secret, []byte("f1le-canary\n"), 0o600))
	t.Setenv("YARD_SECRET", "env-canary")
	home, stranger := newThief(t), newThief(t)
	s := open(t, t.TempDir())
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	_, err := s.Book.Apply(machine, "p", fmt.Sprintf(yard, home.URL, home.URL), 0)
	require.NoError(t, err)
	require.NoError(t, s.Destinations.SetSecret("locker", wire.Secrets{Password: "kept-canary"}))

	draft := func(name, at string, from plan.Secret) wire.Draft {
		return wire.Draft{Name: name, Destination: plan.Destination{Kind: plan.WebDAV, URL: at + "/dav/", User: "me",
			PasswordFrom: from, Layout: plan.DefaultLayout}}
	}
	for what, d := range map[string]wire.Draft{
		"a file":                            draft("x", stranger.URL, plan.Secret("file:"+secret)),
		"a variable":                        draft("x", stranger.URL, "env:YARD_SECRET"),
		"a secret kept for another":         draft("x", stranger.URL, "kept:locker"),
		"its own secret at another server":  draft("locker", stranger.URL, "kept:locker"),
		"the plan's variable, elsewhere":    draft("shed", stranger.URL, "env:YARD_SECRET"),
		"a kept secret under a like name":   draft("locker.key", stranger.URL, "kept:locker"),
		"a file of a destination that is":   draft("locker", home.URL, plan.Secret("file:"+secret)),
		"a path that is no file of its own": draft("x", stranger.URL, "kept:../secrets.key"),
	} {
		tried(t, s)(s.Destinations.Try(console, d))
		_, err := s.Destinations.Browse(console, wire.Browse{Draft: d})
		assert.Error(t, err, what)
		assert.Error(t, s.Destinations.Add(console, d), what)
		text, version := s.Book.Text()
		changed := strings.NewReplacer("kept:locker", string(d.Destination.PasswordFrom), home.URL,
			stranger.URL).Replace(text)
		if what == "a file" || what == "a variable" {
			_, err = s.Book.Apply(console, "p", changed, version)
			var refused vault.Refused
			assert.ErrorAs(t, err, &refused, what)
		}
		assert.NotContains(t, stranger.saw(), "canary", what)
		assert.NotContains(t, home.saw(), "f1le-canary", what)
	}
	// The plan in force is moved to another server: its secret is asked for again.
	text, version := s.Book.Text()
	_, err = s.Book.Apply(console, "p", strings.Replace(text, home.URL+"/dav", stranger.URL+"/dav", 1), version)
	require.NoError(t, err)
	trial := tried(t, s)(s.Destinations.Test(console, "locker"))
	assert.False(t, trial.OK)
	assert.Contains(t, fmt.Sprint(trial.Steps), "was given for "+home.URL)
	assert.Contains(t, fmt.Sprint(trial.Steps), "yardtide destination secret locker")
	assert.NotContains(t, stranger.saw(), "canary")
	require.NoError(t, s.Destinations.SetSecret("locker", wire.Secrets{Password: "a new one"}))
	tried(t, s)(s.Destinations.Test(console, "locker"))
	assert.Contains(t, stranger.saw(), "a new one", "what was given for it is used")

	// Who is at the machine may point at its files, if they are such as hold a secret.
	tried(t, s)(s.Destinations.Try(machine, draft("x", stranger.URL, plan.Secret("file:"+secret))))
	assert.Contains(t, stranger.saw(), "f1le-canary")
	pipe, long := t.TempDir()+"/pipe", t.TempDir()+"/long"
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(long, bytes.Repeat([]byte("x"), 64<<10+1), 0o600))
	for _, bad := range []string{pipe, long, t.TempDir(), "/dev/zero", "/nothing"} {
		trial := tried(t, s)(s.Destinations.Try(machine, draft("x", stranger.URL, plan.Secret("file:"+bad))))
		assert.Contains(t, fmt.Sprint(trial.Steps), "The password cannot be read", bad)
	}
}

func TestThePlanIsChangedByOneAtATime(t *testing.T) {
	ctx, dir := caller.AtTheMachine(t.Context()), t.TempDir()
	s := open(t, dir)
	_, err := s.Book.Apply(ctx, "p", fmt.Sprintf(yard, "http://a", "http://a"), 0)
	require.NoError(t, err)
	const writers, each = 4, 12
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for n := range each {
				name := fmt.Sprintf("d%d-%d", w, n)
				if w%2 == 0 {
					assert.NoError(t, s.Destinations.Add(ctx,
						wire.Draft{Name: name, Destination: plan.Destination{Kind: plan.Folder, Path: "/mnt/" + name}}))
					continue
				}
				for { // as a person does who is told that another was first
					text, version := s.Book.Text()
					changed, err := plantext.Set(text, plan.Edit{Path: []string{"destinations", name},
						Value: map[string]any{"kind": "folder", "path": "/mnt/" + name}})
					if !assert.NoError(t, err) {
						return
					}
					_, err = s.Book.Apply(ctx, "p", changed, version)
					var stale planbook.Stale
					if errors.As(err, &stale) {
						continue
					}
					assert.NoError(t, err)
					break
				}
			}
		})
	}
	all.Wait()
	text, version := s.Book.Text()
	assert.EqualValues(t, 1+writers*each, version, "each change made one version")
	assert.Len(t, s.Book.Plan().Destinations, 2+writers*each, "and none was lost")
	_, err = s.Book.Apply(ctx, "p", text, version-1)
	var stale planbook.Stale
	require.ErrorAs(t, err, &stale)
	assert.Equal(t, planbook.Stale{Base: version - 1, Now: version}, stale)
	require.NoError(t, s.Close())
	s = open(t, dir)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	again, n := s.Book.Text()
	assert.Equal(t, text, again, "what is in force is what lies on disk")
	assert.Equal(t, version, n)
}

func TestWhatEarlierVersionsKeptIsTakenOver(t *testing.T) {
	dir := t.TempDir()
	text := strings.Replace(fmt.Sprintf(yard, "http://a", "http://a"), "env:YARD_SECRET", "kept:shed.key", 1)
	require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(text), 0o600))
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/secrets.key", []byte(id.String()+"\n"), 0o600))
	require.NoError(t, os.MkdirAll(dir+"/secrets", 0o700))
	for _, name := range []string{"locker", "shed.key"} {
		var sealed bytes.Buffer
		w, err := age.Encrypt(&sealed, id.Recipient())
		require.NoError(t, err)
		_, err = w.Write([]byte("old secret of " + name))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets", name+".age"), sealed.Bytes(), 0o600))
	}
	th := newThief(t)
	for range 2 { // the second start finds it done
		s := open(t, dir)
		got, version := s.Book.Text()
		assert.Equal(t, text, got)
		assert.EqualValues(t, 1, version)
		require.NoError(t, s.Close())
	}
	assert.NoFileExists(t, dir+"/secrets/locker.age")
	assert.FileExists(t, dir+"/secrets/password/locker.age")
	assert.FileExists(t, dir+"/secrets/password/shed.key.age")
	s := open(t, dir)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	_, err = s.Book.Apply(t.Context(), "p", strings.ReplaceAll(text, "http://a/dav", th.URL+"/dav"), 1)
	require.NoError(t, err)
	tried(t, s)(s.Destinations.Test(t.Context(), "locker"))
	assert.Empty(t, th.saw(), "an old secret is for the server that it was kept for")
}

func TestTheKeyAndThePasswordOfLikeNamesAreKeptApart(t *testing.T) {
	s := open(t, t.TempDir())
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	ctx := context.Background()
	host := plan.Destination{Kind: plan.SFTP, Address: "127.0.0.1:1",
		HostKey: "SHA256:uNiVztksCsDhcc0u9e8BrrJlSV9OrFmvkHZtEEn2b3c", User: "me", Layout: plan.DefaultLayout}
	require.NoError(t, s.Destinations.Add(ctx, wire.Draft{Name: "shed", Destination: host, Key: "the key of shed"}))
	require.NoError(t, s.Destinations.Add(ctx,
		wire.Draft{Name: "shed.key", Destination: host, Password: "the password of shed.key"}))
	files, err := filepath.Glob(s.Dir + "/secrets/*/*.age")
	require.NoError(t, err)
	assert.Len(t, files, 2)
	require.NoError(t, s.Destinations.Remove(ctx, "shed.key"))
	assert.FileExists(t, s.Dir+"/secrets/key/shed.age", "one goes with its own destination")
}

// TestRecordsThatAreRemovedKeepNoPage has the records of the one device be gone in the middle of
// the work: under an open file, and under a new one.
func TestRecordsThatAreRemovedKeepNoPage(t *testing.T) {
	dir := t.TempDir()
	s, err := service.Open(t.Context(), service.Options{Dir: dir, Log: slog.New(slog.DiscardHandler),
		Members: []service.Local{{Name: "desk", Root: t.TempDir(), Sensor: &sensor.Set{}}}})
	require.NoError(t, err)
	defer s.Close()
	files, err := filepath.Glob(dir + "/devices/desk/*.db*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		require.NoError(t, os.Remove(f))
	}
	for range 50 { // connections are made as several ask at once
		var wait sync.WaitGroup
		for range 8 {
			wait.Go(func() {
				st, err := s.Status(context.Background())
				assert.NoError(t, err)
				_, merr := json.Marshal(st)
				assert.NoError(t, merr)
			})
		}
		wait.Wait()
	}
	st, err := s.Status(t.Context())
	require.NoError(t, err)
	require.Len(t, st.Devices, 1)
	t.Log(st.Devices[0].Problem)
}

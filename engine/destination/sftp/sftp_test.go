package sftp_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
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
	"yardtide/engine/destination/sftp"
	"yardtide/engine/proof"
	"yardtide/standin/sshd"
)

func server(t *testing.T) *sshd.Server {
	t.Helper()
	s, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

func options(s *sshd.Server, path string) sftp.Options {
	return sftp.Options{Address: s.Address, Path: path, User: s.User, HostKey: s.HostKey,
		Key: func() ([]byte, error) { return s.Key, nil }, Stall: 2 * time.Second}
}

func send(t *testing.T, d *sftp.Driver) error {
	t.Helper()
	return d.Put(t.Context(), destinationtest.Temp(1), strings.NewReader("tide"), 0, 4)
}

func TestAnotherHostKeyIsNeverTalkedTo(t *testing.T) {
	s, other := server(t), server(t)
	o := options(s, t.TempDir())
	o.HostKey = other.HostKey
	asked := false
	o.Password = func() (string, error) { asked = true; return "secret", nil }
	o.Key = nil
	err := send(t, sftp.New(o))
	assert.Equal(t, queue.Identity, destination.CauseOf(err), "%v", err)
	assert.ErrorContains(t, err, "is not the storage that the plan names: its host key has the fingerprint ssh-ed25519 "+
		s.HostKey)
	assert.True(t, asked, "the password is at hand, and is not sent")
	entries, rerr := os.ReadDir(o.Path)
	require.NoError(t, rerr)
	assert.Empty(t, entries)
}

func TestAnyOfTheServersKeysMayBePinned(t *testing.T) {
	s := server(t)
	for _, pinned := range []string{s.HostKey, s.RSA} {
		o := options(s, t.TempDir())
		o.HostKey = pinned
		d := sftp.New(o)
		assert.NoError(t, send(t, d))
		assert.NoError(t, d.Close())
	}
}

func TestFailuresAreToldApart(t *testing.T) {
	s := server(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, silent.Close()) })
	stranger := server(t)
	file := t.TempDir() + "/file"
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for name, c := range map[string]struct {
		change func(*sftp.Options)
		cause  queue.Cause
		says   string
	}{
		"nobody there": {func(o *sftp.Options) { o.Address = l.Addr().String() }, queue.Unreachable, "does not answer"},
		"no word":      {func(o *sftp.Options) { o.Address = silent.Addr().String() }, queue.Unreachable, "was lost"},
		"a stranger's key": {func(o *sftp.Options) { o.Key = func() ([]byte, error) { return stranger.Key, nil } },
			queue.SignIn, "refuses the user, the password or the key"},
		"not a key": {func(o *sftp.Options) { o.Key = func() ([]byte, error) { return []byte("hunter2"), nil } },
			queue.SignIn, "is not a private key"},
		"no key to read": {func(o *sftp.Options) {
			o.Key = func() ([]byte, error) {
				return nil, errors.New("no such file")
			}
		}, queue.SignIn, "the key cannot be read"},
		"no such folder":    {func(o *sftp.Options) { o.Path += "/none" }, queue.Misplaced, "the storage has no folder"},
		"a file for folder": {func(o *sftp.Options) { o.Path = file }, queue.Misplaced, "the storage has no folder"},
	} {
		t.Run(name, func(t *testing.T) {
			o := options(s, t.TempDir())
			c.change(&o)
			d := sftp.New(o)
			t.Cleanup(func() { assert.NoError(t, d.Close()) })
			err := send(t, d)
			assert.Equal(t, c.cause, destination.CauseOf(err), "%v", err)
			assert.ErrorContains(t, err, c.says)
			assert.NotContains(t, err.Error(), "hunter2")
		})
	}
}

func TestALostConnectionIsMadeAnew(t *testing.T) {
	s := server(t)
	o := options(s, t.TempDir())
	o.Stall = 300 * time.Millisecond // an idle connection is ended
	d := sftp.New(o)
	require.NoError(t, send(t, d))
	time.Sleep(500 * time.Millisecond)
	require.Eventually(t, func() bool { return send(t, d) == nil }, time.Minute, 50*time.Millisecond)
	require.NoError(t, s.Close())
	require.NoError(t, s.Begin(t.Context()))
	require.Eventually(t, func() bool { return send(t, d) == nil }, time.Minute, 50*time.Millisecond)
	require.NoError(t, d.Close())
}

// cutting listens before a server, and ends each connection instead of passing on what the
// client says for the time number n.
func cutting(t *testing.T, address string, n *atomic.Int64) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var running sync.WaitGroup
	t.Cleanup(func() { assert.NoError(t, l.Close()); running.Wait() })
	running.Go(func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", address)
			if !assert.NoError(t, err) {
				return
			}
			running.Go(func() {
				_, _ = io.Copy(near, far) // either may end first
				_ = near.Close()
			})
			running.Go(func() {
				said := make([]byte, 256<<10)
				for {
					k, err := near.Read(said)
					if err != nil || n.Add(-1) == 0 {
						break
					}
					if _, err := far.Write(said[:k]); err != nil {
						break
					}
				}
				_ = errors.Join(near.Close(), far.Close())
			})
		}
	})
	return l.Addr().String()
}

func TestAConnectionThatIsLostAtAnyWordIsALostConnection(t *testing.T) {
	s, content := server(t), bytes.Repeat([]byte("tide "), 10_000)
	var left atomic.Int64
	o := options(s, "")
	o.Address = cutting(t, s.Address, &left)
	lost := 0
	for words := int64(1); ; words++ {
		o.Path = t.TempDir()
		d := sftp.New(o)
		left.Store(words)
		err := d.Put(t.Context(), destinationtest.Temp(1), bytes.NewReader(content), 0, int64(len(content)))
		if err == nil {
			err = d.Publish(t.Context(), destinationtest.Temp(1), "2026/03/a.jpg")
		}
		if err == nil {
			_, err = proof.Read(t.Context(), d, "2026/03/a.jpg", int64(len(content)))
		}
		assert.NoError(t, d.Close())
		if left.Load() > 0 { // it was not cut
			require.NoError(t, err)
			break
		}
		if err != nil {
			lost++
			assert.Equal(t, queue.Unreachable, destination.CauseOf(err), "cut at word %d: %v", words, err)
		}
	}
	assert.Greater(t, lost, 20, "words at which a send is lost")
}

func TestMuchGoesThroughWhole(t *testing.T) {
	s := server(t)
	d := sftp.New(options(s, t.TempDir()))
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	content := bytes.Repeat([]byte("the tide comes and goes "), 1<<20)
	require.NoError(t, d.Put(t.Context(), destinationtest.Temp(1), bytes.NewReader(content), 0, int64(len(content))))
	r, err := d.Open(t.Context(), destinationtest.Temp(1))
	require.NoError(t, err)
	var got bytes.Buffer
	_, err = got.ReadFrom(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.True(t, bytes.Equal(content, got.Bytes()))
}

func TestNothingIsWrittenOrReadThroughALink(t *testing.T) {
	s := server(t)
	for _, link := range []string{destinationtest.Temp(1), destination.TempDir, "2026", "2026/03"} {
		t.Run(link, func(t *testing.T) {
			outside := t.TempDir()
			require.NoError(t, os.MkdirAll(outside+"/03", 0o755))
			target := outside
			if link == destinationtest.Temp(1) {
				target = outside + "/precious"
				require.NoError(t, os.WriteFile(target, []byte("precious"), 0o644))
			}
			o := options(s, t.TempDir())
			at := filepath.Join(o.Path, link)
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.Symlink(target, at))
			d := sftp.New(o)
			t.Cleanup(func() { assert.NoError(t, d.Close()) })
			_, err := d.Open(t.Context(), link+"/x")
			assert.Error(t, err)
			if target != outside {
				_, err = d.Open(t.Context(), link)
				assert.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
				assert.Equal(t, queue.Refused, destination.CauseOf(d.Publish(t.Context(), link, "a.jpg")))
				assert.Error(t, d.Put(t.Context(), link, strings.NewReader("e"), 3, 4), "it is not gone on in")
			}
			err = send(t, d)
			if link == destination.TempDir {
				assert.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
				return
			}
			require.NoError(t, err)
			if target == outside {
				assert.Equal(t, queue.Refused, destination.CauseOf(d.Publish(t.Context(), destinationtest.Temp(1),
					"2026/03/a.jpg")))
				assert.NoFileExists(t, outside+"/03/a.jpg")
				return
			}
			content, err := os.ReadFile(target)
			require.NoError(t, err)
			assert.Equal(t, "precious", string(content))
		})
	}
}

// A server that takes the connection and then says nothing, or stops in the
// middle, keeps nobody who gives up.
func TestWhoGivesUpIsNotKept(t *testing.T) {
	s := server(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, silent.Close()) })
	gone := errors.New("a gate shut")
	for name, c := range map[string]struct {
		silent, stopped bool
		do              func(context.Context, *sftp.Driver) error
	}{
		"connecting": {true, false, func(ctx context.Context, d *sftp.Driver) error {
			_, err := d.Size(ctx, "a")
			return err
		}},
		"sending": {false, true, func(ctx context.Context, d *sftp.Driver) error {
			return d.Put(ctx, destinationtest.Temp(2), bytes.NewReader(make([]byte, 1<<20)), 0, 1<<20)
		}},
		"looking": {false, true, func(ctx context.Context, d *sftp.Driver) error {
			_, err := d.Size(ctx, "a")
			return err
		}},
		"reading": {false, true, func(ctx context.Context, d *sftp.Driver) error {
			_, err := d.Open(ctx, "a")
			return err
		}},
		"putting in place": {false, true,
			func(ctx context.Context, d *sftp.Driver) error {
				return d.Publish(ctx, destinationtest.Temp(1), "a")
			}},
		"removing": {false, true,
			func(ctx context.Context, d *sftp.Driver) error {
				return d.Remove(ctx, destinationtest.Temp(1))
			}},
		"asking for space": {false, true, func(ctx context.Context, d *sftp.Driver) error {
			_, err := d.Space(ctx)
			return err
		}},
	} {
		t.Run(name, func(t *testing.T) {
			stops := &stopping{to: s.Address}
			require.NoError(t, stops.start())
			t.Cleanup(func() { assert.NoError(t, stops.close()) })
			o := options(s, t.TempDir())
			o.Stall, o.Address = 20*time.Second, stops.address
			if c.silent {
				o.Address = silent.Addr().String()
			}
			d := sftp.New(o)
			if c.stopped {
				require.NoError(t, send(t, d))
				stops.stop()
			}
			ctx, cancel := context.WithCancelCause(t.Context())
			time.AfterFunc(200*time.Millisecond, func() { cancel(gone) })
			began := time.Now()
			assert.ErrorIs(t, c.do(ctx, d), gone)
			assert.NoError(t, d.Close())
			assert.Less(t, time.Since(began), 10*time.Second, "neither it nor the end waits for the server")
		})
	}
}

// stopping passes connections on until it is stopped; they then stay, and nothing
// moves on them.
type stopping struct {
	to, address string
	listener    net.Listener
	stopped     atomic.Bool
	all         sync.WaitGroup
	mu          sync.Mutex
	conns       []net.Conn
}

func (s *stopping) start() (err error) {
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	s.address = s.listener.Addr().String()
	s.all.Go(func() {
		for {
			from, err := s.listener.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", s.to)
			if err != nil {
				_ = from.Close()
				continue
			}
			s.mu.Lock()
			s.conns = append(s.conns, from, to)
			s.mu.Unlock()
			for _, way := range [][2]net.Conn{{from, to}, {to, from}} {
				s.all.Go(func() {
					buffer := make([]byte, 64<<10)
					for {
						n, err := way[0].Read(buffer)
						if err != nil {
							_ = way[1].Close()
							return
						}
						if s.stopped.Load() {
							continue
						}
						if _, err := way[1].Write(buffer[:n]); err != nil {
							return
						}
					}
				})
			}
		}
	})
	return nil
}

func (s *stopping) stop() { s.stopped.Store(true) }

func (s *stopping) close() error {
	err := s.listener.Close()
	s.mu.Lock()
	for _, c := range s.conns {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.all.Wait()
	return err
}

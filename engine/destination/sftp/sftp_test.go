package sftp_test

import (
	"bytes"
	"errors"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/sftp"
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
	return sftp.Options{Address: s.Address, Path: path, User: s.User, HostKey: s.HostKey, Key: func() ([]byte, error) { return s.Key, nil }, Stall: 2 * time.Second}
}

func send(t *testing.T, d *sftp.Driver) error {
	t.Helper()
	return d.Put(t.Context(), destination.Temp("dev", 1, 1), strings.NewReader("tide"), 0, 4)
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
	assert.ErrorContains(t, err, "is not the storage that the plan names: its host key has the fingerprint ssh-ed25519 "+s.HostKey)
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
		"nobody there":      {func(o *sftp.Options) { o.Address = l.Addr().String() }, queue.Unreachable, "does not answer"},
		"no word":           {func(o *sftp.Options) { o.Address = silent.Addr().String() }, queue.Unreachable, "was lost"},
		"a stranger's key":  {func(o *sftp.Options) { o.Key = func() ([]byte, error) { return stranger.Key, nil } }, queue.SignIn, "refuses the user, the password or the key"},
		"not a key":         {func(o *sftp.Options) { o.Key = func() ([]byte, error) { return []byte("hunter2"), nil } }, queue.SignIn, "is not a private key"},
		"no key to read":    {func(o *sftp.Options) { o.Key = func() ([]byte, error) { return nil, errors.New("no such file") } }, queue.SignIn, "the key cannot be read"},
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
	require.Eventually(t, func() bool { return send(t, d) == nil }, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, s.Close())
	require.NoError(t, s.Begin(t.Context()))
	require.Eventually(t, func() bool { return send(t, d) == nil }, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, d.Close())
}

func TestMuchGoesThroughWhole(t *testing.T) {
	s := server(t)
	d := sftp.New(options(s, t.TempDir()))
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	content := bytes.Repeat([]byte("the tide comes and goes "), 1<<20)
	require.NoError(t, d.Put(t.Context(), destination.Temp("dev", 1, 1), bytes.NewReader(content), 0, int64(len(content))))
	r, err := d.Open(t.Context(), destination.Temp("dev", 1, 1))
	require.NoError(t, err)
	var got bytes.Buffer
	_, err = got.ReadFrom(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.True(t, bytes.Equal(content, got.Bytes()))
}

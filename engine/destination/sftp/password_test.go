package sftp_test

import (
	"crypto/ed25519"
	"errors"
	"net"
	"os"
	"sync"
	"testing"

	real "github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/sftp"
)

// passwords starts an SSH server that lets "slip" in with a password: the real
// one takes only those of the machine's own users.
func passwords(t *testing.T, config *ssh.ServerConfig) sftp.Options {
	t.Helper()
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var serving sync.WaitGroup
	t.Cleanup(func() { assert.NoError(t, l.Close()); serving.Wait() })
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return // closed
			}
			serving.Go(func() { serve(c, config) })
		}
	})
	return sftp.Options{Address: l.Addr().String(), Path: t.TempDir(), User: "slip",
		HostKey: ssh.FingerprintSHA256(signer.PublicKey())}
}

// serve answers one connection until its other end closes it.
func serve(c net.Conn, config *ssh.ServerConfig) {
	defer c.Close()
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return // not let in
	}
	var serving sync.WaitGroup
	defer serving.Wait()
	serving.Go(func() { ssh.DiscardRequests(requests) })
	for open := range channels {
		channel, asked, err := open.Accept()
		if err != nil {
			return
		}
		serving.Go(func() {
			for r := range asked {
				_ = r.Reply(r.Type == "subsystem", nil) // the other end may be gone
			}
		})
		serving.Go(func() {
			if s, err := real.NewServer(channel); err == nil {
				_ = s.Serve() // ends with the connection
			}
		})
	}
}

func TestAPasswordIsAskedForInEitherWay(t *testing.T) {
	const good = "tide & mud"
	wrong := errors.New("not let in")
	for way, config := range map[string]*ssh.ServerConfig{
		"as a password": {PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if c.User() == "slip" && string(password) == good {
				return nil, nil
			}
			return nil, wrong
		}},
		"as a question": {KeyboardInteractiveCallback: func(c ssh.ConnMetadata,
			ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "", []string{"Boat: ", "Password: "}, []bool{true, false})
			if err != nil || c.User() != "slip" || answers[0] != "" || answers[1] != good {
				return nil, wrong
			}
			return nil, nil
		}},
	} {
		t.Run(way, func(t *testing.T) {
			o := passwords(t, config)
			o.Password = func() (string, error) { return "mud & tide", nil }
			err := send(t, sftp.New(o))
			assert.Equal(t, queue.SignIn, destination.CauseOf(err), "%v", err)
			assert.NotContains(t, err.Error(), "mud")
			o.Password = func() (string, error) { return good, nil }
			d := sftp.New(o)
			require.NoError(t, send(t, d))
			require.NoError(t, d.Publish(t.Context(), destinationtest.Temp(1), "2026/a.jpg"))
			there, err := os.ReadFile(o.Path + "/2026/a.jpg")
			require.NoError(t, err)
			assert.Equal(t, "tide", string(there))
			require.NoError(t, d.Close())
		})
	}
}

// Package sshd starts a real OpenSSH server with internal-sftp on loopback,
// with throw-away keys, for tests and benchmarks. It needs Debian's package
// openssh-server.
package sshd

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"

	"golang.org/x/crypto/ssh"

	"yardtide/standin/server"
)

// Server is a running sshd.
type Server struct {
	Address string
	User    string
	Key     []byte // a private key that it lets in, PEM
	HostKey string // its own key's fingerprint
	RSA     string // that of its other key
	dir     string
	process *server.Process
}

const conf = `ListenAddress %s
HostKey %s/host
HostKey %s/rsa
AuthorizedKeysFile %s/authorized
PidFile none
UsePAM no
StrictModes no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin yes
LogLevel ERROR
Subsystem sftp internal-sftp
%s
`

// Options are how it serves.
type Options struct {
	TransferOnly bool   // no programs run, only file transfer
	Address      string // a free one when empty
}

// Start serves until Close. Keys and configuration are kept in dir.
func Start(ctx context.Context, dir string, o Options) (*Server, error) {
	me, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("finding the user: %w", err)
	}
	s := &Server{User: me.Username, dir: dir}
	host, hostPEM, err := newKey()
	if err != nil {
		return nil, err
	}
	other, otherPEM, err := newRSAKey()
	if err != nil {
		return nil, err
	}
	mine, minePEM, err := newKey()
	if err != nil {
		return nil, err
	}
	s.Key, s.HostKey, s.RSA = minePEM, ssh.FingerprintSHA256(host), ssh.FingerprintSHA256(other)
	if s.Address = o.Address; s.Address == "" {
		if s.Address, err = server.Port(); err != nil {
			return nil, err
		}
	}
	only := ""
	if o.TransferOnly {
		only = "ForceCommand internal-sftp"
	}
	err = errors.Join(
		os.WriteFile(filepath.Join(dir, "host"), hostPEM, 0o600),
		os.WriteFile(filepath.Join(dir, "rsa"), otherPEM, 0o600),
		os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(mine), 0o600),
		os.WriteFile(filepath.Join(dir, "sshd_config"), fmt.Appendf(nil, conf, s.Address, dir, dir, dir, only), 0o600))
	if err != nil {
		return nil, fmt.Errorf("setting sshd up: %w", err)
	}
	return s, s.Begin(ctx)
}

// Begin starts the server, again after a Close, under the same address and
// keys.
func (s *Server) Begin(ctx context.Context) (err error) {
	if os.Geteuid() == 0 { // where it separates privileges
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return fmt.Errorf("setting sshd up: %w", err)
		}
	}
	s.process, err = server.Start(ctx, s.Address, "Debian: apt-get install openssh-server", "/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(s.dir, "sshd_config"))
	return err
}

// Close stops the server; connections that are open stay, as they do when
// sshd is restarted.
func (s *Server) Close() error { return s.process.Kill() }

func newKey() (ssh.PublicKey, []byte, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, fmt.Errorf("making a key: %w", err)
	}
	return written(public, private)
}

func newRSAKey() (ssh.PublicKey, []byte, error) {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, nil, fmt.Errorf("making a key: %w", err)
	}
	return written(&private.PublicKey, private)
}

func written(public crypto.PublicKey, private crypto.PrivateKey) (ssh.PublicKey, []byte, error) {
	block, err := ssh.MarshalPrivateKey(private, "throw-away")
	if err != nil {
		return nil, nil, fmt.Errorf("writing a key: %w", err)
	}
	key, err := ssh.NewPublicKey(public)
	return key, pem.EncodeToMemory(block), err
}

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
	KeyFile string // where that is
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

// Start serves until Close. Keys and configuration are kept in dir, and those
// of an earlier start used again.
func Start(ctx context.Context, dir string, o Options) (*Server, error) {
	me, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("finding the user: %w", err)
	}
	s := &Server{User: me.Username, dir: dir, KeyFile: filepath.Join(dir, "key")}
	if s.Address = o.Address; s.Address == "" {
		if s.Address, err = server.Port(); err != nil {
			return nil, err
		}
	}
	ed := func() (crypto.Signer, error) { _, key, err := ed25519.GenerateKey(rand.Reader); return key, err }
	host, err := key(filepath.Join(dir, "host"), ed)
	if err != nil {
		return nil, err
	}
	other, err := key(filepath.Join(dir, "rsa"),
		func() (crypto.Signer, error) { return rsa.GenerateKey(rand.Reader, 2048) })
	if err != nil {
		return nil, err
	}
	mine, err := key(s.KeyFile, ed)
	if err != nil {
		return nil, err
	}
	if s.Key, err = os.ReadFile(s.KeyFile); err != nil {
		return nil, fmt.Errorf("reading a key: %w", err)
	}
	s.HostKey, s.RSA = ssh.FingerprintSHA256(host), ssh.FingerprintSHA256(other)
	only := ""
	if o.TransferOnly {
		only = "ForceCommand internal-sftp"
	}
	err = errors.Join(
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
	s.process, err = server.Start(ctx, s.Address, "Debian: apt-get install openssh-server", "/usr/sbin/sshd", "-D", "-e",
		"-f", filepath.Join(s.dir, "sshd_config"))
	return err
}

// Close stops the server; connections that are open stay, as they do when
// sshd is restarted.
func (s *Server) Close() error { return s.process.Kill() }

// key reads a private key, or makes it, and returns its public half.
func key(file string, create func() (crypto.Signer, error)) (ssh.PublicKey, error) {
	if text, err := os.ReadFile(file); err == nil {
		signer, err := ssh.ParsePrivateKey(text)
		if err != nil {
			return nil, fmt.Errorf("reading the key %s: %w", file, err)
		}
		return signer.PublicKey(), nil
	}
	private, err := create()
	if err != nil {
		return nil, fmt.Errorf("making a key: %w", err)
	}
	block, err := ssh.MarshalPrivateKey(private, "throw-away")
	if err != nil {
		return nil, fmt.Errorf("writing a key: %w", err)
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, fmt.Errorf("writing a key: %w", err)
	}
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return nil, fmt.Errorf("making a key: %w", err)
	}
	return public, nil
}

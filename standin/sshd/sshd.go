// Package sshd starts a real OpenSSH server with internal-sftp on loopback,
// with throw-away keys, for tests and benchmarks. It needs Debian's package
// openssh-server.
package sshd

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
)

// Server is a running sshd.
type Server struct {
	Address string
	User    string
	Key     []byte // a private key that it lets in, PEM
	HostKey string // its own key's fingerprint
	RSA     string // that of its other key
	dir     string
	cmd     *exec.Cmd
	out     *bytes.Buffer
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
`

// Start serves until Close. Keys and configuration are kept in dir.
func Start(ctx context.Context, dir string) (*Server, error) {
	me, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("finding the user: %w", err)
	}
	s := &Server{User: me.Username, dir: dir, out: &bytes.Buffer{}}
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
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("finding a port for sshd: %w", err)
	}
	s.Address = l.Addr().String()
	err = errors.Join(l.Close(),
		os.WriteFile(filepath.Join(dir, "host"), hostPEM, 0o600),
		os.WriteFile(filepath.Join(dir, "rsa"), otherPEM, 0o600),
		os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(mine), 0o600),
		os.WriteFile(filepath.Join(dir, "sshd_config"), fmt.Appendf(nil, conf, s.Address, dir, dir, dir), 0o600))
	if err != nil {
		return nil, fmt.Errorf("setting sshd up: %w", err)
	}
	return s, s.Begin(ctx)
}

// Begin starts the server, again after a Close, under the same address and
// keys.
func (s *Server) Begin(ctx context.Context) error {
	if os.Geteuid() == 0 { // where it separates privileges
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return fmt.Errorf("setting sshd up: %w", err)
		}
	}
	s.cmd = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(s.dir, "sshd_config"))
	s.cmd.Stdout, s.cmd.Stderr = s.out, s.out
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("starting sshd (Debian: apt-get install openssh-server): %w", err)
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline) && ctx.Err() == nil; time.Sleep(20 * time.Millisecond) {
		if c, err := net.Dial("tcp", s.Address); err == nil {
			return c.Close()
		}
	}
	return fmt.Errorf("starting sshd: %w\n%s", s.Close(), s.out)
}

// Close stops the server; connections that are open stay, as they do when
// sshd is restarted.
func (s *Server) Close() error {
	if err := s.cmd.Process.Kill(); err != nil {
		return fmt.Errorf("stopping sshd: %w", err)
	}
	_ = s.cmd.Wait() // killed
	return nil
}

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

// Package gateway starts a real S3 gateway (versitygw, built by `make
// bin/versitygw`) on loopback over a folder, for tests, benchmarks and the demo.
package gateway

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"yardtide/standin/server"
)

// Server is a gateway; each folder in Root is a bucket.
type Server struct {
	Root        string
	Endpoint    string // http://host:port
	User        string // the access key
	Password    string // the secret key
	Certificate server.Certificate
	Program     string // found beside the sources, or the demo's binary, when empty

	Address string // a free one when empty
	process *server.Process
}

// ErrMissing tells that the gateway's program is not there.
var ErrMissing = errors.New("the S3 gateway is not built (make bin/versitygw)")

// Find looks for the program beside the running one and in bin/ of the folders
// above the working one.
func Find() (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("finding this program: %w", err)
	}
	places := []string{filepath.Join(filepath.Dir(self), "versitygw")}
	for dir, err := os.Getwd(); err == nil; dir = filepath.Dir(dir) {
		places = append(places, filepath.Join(dir, "bin", "versitygw"))
		if dir == filepath.Dir(dir) {
			break
		}
	}
	for _, p := range places {
		if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() {
			return p, nil
		}
	}
	return "", ErrMissing
}

// Start serves Root with a bucket until Close. All fields but Root may be left
// out.
func (s *Server) Start(ctx context.Context, bucket string) (err error) {
	if s.User == "" {
		s.User, s.Password = "slip", "low tide at six"
	}
	if err := os.MkdirAll(filepath.Join(s.Root, "files", bucket), 0o755); err != nil {
		return fmt.Errorf("making the gateway's folder: %w", err)
	}
	if err := os.MkdirAll(filepath.Join(s.Root, "facts"), 0o755); err != nil {
		return fmt.Errorf("making the gateway's folder: %w", err)
	}
	if s.Program == "" {
		if s.Program, err = Find(); err != nil {
			return err
		}
	}
	if s.Address == "" {
		if s.Address, err = server.Port(); err != nil {
			return err
		}
	}
	return s.Begin(ctx)
}

// Begin starts the program, again after a Close, under the same address.
func (s *Server) Begin(ctx context.Context) (err error) {
	args := []string{"--access", s.User, "--secret", s.Password, "--port", s.Address, "--keep-alive", "--quiet"}
	s.Endpoint = "http://" + s.Address
	if s.Certificate.File != "" {
		args, s.Endpoint = append(args, "--cert", s.Certificate.File, "--key", s.Certificate.Key), "https://"+s.Address
	}
	// What a file system cannot keep in attributes lies in a folder beside.
	args = append(args, "posix", "--sidecar", filepath.Join(s.Root, "facts"), filepath.Join(s.Root, "files"))
	s.process, err = server.Start(ctx, s.Address, "make bin/versitygw", s.Program, args...)
	return err
}

// Files is where the objects of a bucket lie.
func (s *Server) Files(bucket string) string { return filepath.Join(s.Root, "files", bucket) }

// Close stops the gateway.
func (s *Server) Close() error { return s.process.Stop() }

// Kill ends the gateway at once.
func (s *Server) Kill() error { return s.process.Kill() }

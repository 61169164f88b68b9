// Package server starts a real server program on loopback, for tests,
// benchmarks and the demo. What a program needs is known by the packages beside
// it: apache, nginx, lighttpd, sshd, gateway.
package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"time"
)

// Process is a server that runs.
type Process struct {
	cmd   *exec.Cmd
	out   output
	kept  sync.WaitGroup // the thread that began it
	ended func()         // lets that thread go
}

// output keeps what a server prints, for the error when it does not start.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.text.Len() > 64<<10 {
		o.text.Reset()
	}
	return o.text.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// Start runs a program and waits until it takes connections at an address.
// hint says what to install when there is no such program.
func Start(ctx context.Context, address, hint, program string, args ...string) (*Process, error) {
	p := &Process{cmd: exec.Command(program, args...)}
	p.cmd.Stdout, p.cmd.Stderr = &p.out, &p.out
	p.cmd.SysProcAttr = endsWithUs()
	p.cmd.WaitDelay = time.Second // what a server started for a connection may outlive it
	if err := p.start(); err != nil {
		return nil, fmt.Errorf("starting %s (%s): %w", filepath.Base(program), hint, err)
	}
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline) &&
		ctx.Err() == nil; time.Sleep(20 * time.Millisecond) {
		if c, err := net.Dial("tcp", address); err == nil {
			return p, c.Close()
		}
	}
	return nil, fmt.Errorf("starting %s: %w\n%s", filepath.Base(program),
		errors.Join(errors.New("it takes no connections"), p.Kill()), p.out.String())
}

// start begins the program. Linux ends it with the thread that began it (prctl(2),
// PR_SET_PDEATHSIG): that thread is kept until the program has ended.
func (p *Process) start() error {
	began, ended := make(chan error), make(chan struct{})
	p.ended = sync.OnceFunc(func() { close(ended) })
	p.kept.Go(func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := p.cmd.Start()
		began <- err
		if err == nil {
			<-ended
		}
	})
	return <-began
}

// Stop asks the server to end and waits for it.
func (p *Process) Stop() error { return p.end(os.Interrupt) }

// Kill ends the server at once.
func (p *Process) Kill() error { return p.end(os.Kill) }

func (p *Process) end(s os.Signal) error {
	if err := p.cmd.Process.Signal(s); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stopping %s: %w", filepath.Base(p.cmd.Path), err)
	}
	_ = p.cmd.Wait() // it ends by the signal
	p.ended()
	p.kept.Wait()
	return nil
}

// Port finds an address on loopback that is free.
func Port() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("finding a free port: %w", err)
	}
	return l.Addr().String(), l.Close()
}

// Open lets a server's own user through to a folder of a test, and write to
// it: temporary folders of tests are closed to others.
func Open(dir string, writable ...string) error {
	for p := dir; len(p) > len(os.TempDir()); p = filepath.Dir(p) {
		if err := os.Chmod(p, 0o755); err != nil {
			return fmt.Errorf("opening a server's folder: %w", err)
		}
	}
	for _, p := range append(writable, dir) {
		if err := os.Chmod(p, 0o777); err != nil {
			return fmt.Errorf("opening a server's folder: %w", err)
		}
	}
	return nil
}

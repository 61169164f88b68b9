// Package e2e drives the real binary: its command line, its API and its
// console in headless Chromium.
package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/wire"
)

// binary is the program that `make` builds.
var binary = func() string {
	path, err := filepath.Abs("../bin/yardtide")
	if err != nil {
		panic(err)
	}
	return path
}()

// service is a running yardtide process.
type service struct {
	t     *testing.T
	args  []string
	url   string
	data  string
	link  string
	cmd   *exec.Cmd
	lines []string
	log   *lockedBuffer
	// program is the binary; "" is the one that was built.
	program string
	as      *syscall.Credential // who runs it; nil is who runs the tests
}

// lockedBuffer may be read while the process still writes to it.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// demo starts the demo yard, small and fast, in a folder of the test's.
func demo(t *testing.T, dir string, more ...string) *service {
	t.Helper()
	addr := freePort(t)
	s := &service{t: t, url: "http://" + addr, data: filepath.Join(dir, "data"),
		args: append([]string{"demo", "-dir", dir, "-listen", addr, "-storage", freePort(t), "-items", "16", "-rate", "0",
			"-room", "4000000000", "-alone"}, more...)}
	s.start()
	t.Cleanup(s.stop)
	return s
}

// start runs the process until it prints the console's address.
func (s *service) start() {
	s.t.Helper()
	for try := 0; ; try++ {
		if s.begin() {
			return
		}
		// Another program may have the port for a moment: it was free when chosen.
		if _ = s.cmd.Wait(); try == 20 || !strings.Contains(s.log.String(), "address already in use") {
			require.Failf(s.t, "the service did not start", "%v\n%s", s.lines, s.log)
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// begin starts the process once; false when it ended.
func (s *service) begin() bool {
	s.t.Helper()
	s.cmd, s.log = exec.Command(cmp.Or(s.program, binary), s.args...), &lockedBuffer{}
	s.cmd.Stderr = s.log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Credential: s.as}
	out, err := s.cmd.StdoutPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, s.cmd.Start(), "build it first: make build")
	lines := bufio.NewScanner(out)
	s.lines = nil
	for lines.Scan() {
		s.lines = append(s.lines, lines.Text())
		if link, ok := strings.CutPrefix(lines.Text(), "console   "); ok {
			s.link = link
			return true
		}
	}
	return false
}

func (s *service) kill() {
	s.t.Helper()
	require.NoError(s.t, s.cmd.Process.Kill())
	_ = s.cmd.Wait() // killed
}

func (s *service) stop() {
	if s.cmd.ProcessState == nil {
		_ = s.cmd.Process.Signal(os.Interrupt) // it may have ended
		assert.NoError(s.t, s.cmd.Wait(), "%s", s.log)
	}
}

func (s *service) token() string {
	s.t.Helper()
	text, err := os.ReadFile(filepath.Join(s.data, "token"))
	require.NoError(s.t, err)
	return strings.TrimSpace(string(text))
}

func (s *service) client() client.Client { return client.Client{URL: s.url, Token: s.token()} }

// run runs a command against the service: what it printed, and its exit code.
func (s *service) run(args ...string) (out, errOut string, code int) {
	s.t.Helper()
	return runWith(s.t, append(os.Environ(), "YARDTIDE_URL="+s.url, "YARDTIDE_TOKEN="+s.token()), args...)
}

func runWith(t testing.TB, env []string, args ...string) (out, errOut string, code int) {
	t.Helper()
	cmd := exec.Command(binary, args...)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.Env = &o, &e, env
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// ok runs a command that must do.
func (s *service) ok(args ...string) string {
	s.t.Helper()
	out, errOut, code := s.run(args...)
	require.Zero(s.t, code, "%v: %s", args, errOut)
	return out
}

func (s *service) yard() wire.Yard {
	s.t.Helper()
	y, err := s.client().Status(context.Background())
	require.NoError(s.t, err)
	return y
}

func (s *service) until(what string, is func(wire.Yard) bool) wire.Yard {
	s.t.Helper()
	var y wire.Yard
	for deadline := time.Now().Add(120 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if y = s.yard(); is(y) {
			return y
		}
	}
	text, _ := json.MarshalIndent(y, "", " ") // only for the message
	require.Failf(s.t, "never: "+what, "%s\n%s", text, s.log)
	return y
}

// phone sets the simulated phone.
func (s *service) phone(c gate.Conditions) {
	s.t.Helper()
	text, err := json.Marshal(c)
	require.NoError(s.t, err)
	code, body := s.call("PUT", "/api/v1/standin/phones/galley-phone", string(text),
		map[string]string{"Authorization": "Bearer " + s.token()})
	require.Equal(s.t, 200, code, "%s", body)
}

// total adds a state's copies up over devices.
func total(y wire.Yard, states ...queue.State) (n int64) {
	for _, d := range y.Devices {
		for _, state := range states {
			n += d.States[state].N
		}
	}
	return n
}

// settled tells whether everything is safe that can be: no video is asked for
// by day on the computer, so it is left out.
func settled(y wire.Yard) bool {
	phone := y.Devices[0]
	return phone.States[queue.Safe].N > 0 && phone.States[queue.Waiting].N+phone.States[queue.Sending].N+
		phone.States[queue.Preparing].N+phone.States[queue.Proving].N == 0 &&
		len(y.Devices[1].Sends) == 0 && y.Devices[1].Going.N == 0 && y.Devices[1].States[queue.Safe].N > 0
}

// stored reads the storage's files by hash and refuses doubles.
func stored(t testing.TB, root string) map[string]string {
	t.Helper()
	byHash := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(p, "/.yardtide") || strings.Contains(p, "/.sgwtmp/") ||
			strings.Contains(p, root+"/records/") {
			return err
		}
		content, err := os.ReadFile(p)
		sum := sha256.Sum256(content)
		key := hex.EncodeToString(sum[:])
		if other := byHash[key]; other != "" {
			err = fmt.Errorf("the same content lies there twice: %s and %s", p, other)
		}
		byHash[key] = p
		return err
	}))
	return byHash
}

// Package standin simulates what stands outside Yard Tide, for the demo and
// for tests: a WebDAV storage with a size, a speed and faults, and a phone
// with a gallery and a sensor that is set by hand or follows a timeline. It
// starts real listeners on loopback. Nothing in the engine knows of it.
package standin

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"encoding/xml"

	"golang.org/x/net/webdav"
	"golang.org/x/time/rate"
)

// Storage is a WebDAV storage in a folder. Set the fields before Start; change
// Faults with SetFaults.
type Storage struct {
	Dir      string
	User     string // signs in with Password; empty lets everybody in
	Password string
	Limit    int64 // bytes it holds, told by RFC 4331; 0 is no limit
	Rate     int64 // bytes a second it takes; 0 is no limit

	used    atomic.Int64
	stalled atomic.Int64
	faults  atomic.Pointer[order]
	pace    *rate.Limiter
	server  *http.Server
	addr    net.Addr
	served  chan error
	end     chan struct{}
}

// Stalled is how many requests have stalled.
func (s *Storage) Stalled() int64 { return s.stalled.Load() }

// Faults are what goes wrong, each with a probability in [0,1] per request
// with a body (Errors: any request).
type Faults struct {
	Errors   float64 // answers 500
	Busy     float64 // answers 503 with Retry-After: 1
	Resets   float64 // cuts the connection in the middle of the body
	Stalls   float64 // takes half the body and then nothing
	Truncate float64 // keeps less than it was sent and acknowledges it
	Flip     float64 // changes one byte of what it keeps
	Full     bool    // has no space left
	Refuse   bool    // refuses every password
	Away     bool    // cuts every connection
}

// Start serves on an address such as "127.0.0.1:0" until Close.
func (s *Storage) Start(addr string) error {
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return fmt.Errorf("making the folder of the simulated storage: %w", err)
	}
	if err := s.measure(); err != nil {
		return err
	}
	if s.Rate > 0 {
		s.pace = rate.NewLimiter(rate.Limit(s.Rate), 64<<10)
	}
	listener, err := net.Listen("tcp", addr)
	if err != nil {
		return fmt.Errorf("starting the simulated storage: %w", err)
	}
	s.addr, s.served, s.end = listener.Addr(), make(chan error, 1), make(chan struct{})
	s.SetFaults(Faults{})
	dav := &webdav.Handler{Prefix: "/dav", FileSystem: room{webdav.Dir(s.Dir), s}, LockSystem: webdav.NewMemLS()}
	s.server = &http.Server{Handler: s.guard(dav), ReadHeaderTimeout: 10 * time.Second}
	if s.Rate > 0 {
		listener = narrow{listener}
	}
	go func() { s.served <- s.server.Serve(listener) }()
	return nil
}

// narrow gives connections a small receive buffer: a slow storage takes little
// at a time.
type narrow struct{ net.Listener }

func (n narrow) Accept() (net.Conn, error) {
	c, err := n.Listener.Accept()
	if t, ok := c.(*net.TCPConn); ok {
		err = errors.Join(err, t.SetReadBuffer(16<<10))
	}
	return c, err
}

// URL is the address of the storage's collection.
func (s *Storage) URL() string { return fmt.Sprintf("http://%s/dav/", s.addr) }

// order is one setting of the faults; over is closed when the next replaces it.
type order struct {
	Faults
	over chan struct{}
}

// SetFaults replaces the faults and ends what stalls.
func (s *Storage) SetFaults(f Faults) {
	if before := s.faults.Swap(&order{f, make(chan struct{})}); before != nil {
		close(before.over)
	}
}

// Used is how many bytes it holds.
func (s *Storage) Used() int64 { return s.used.Load() }

// Close stops serving and cuts connections that are open.
func (s *Storage) Close() error {
	if s.server == nil {
		return nil
	}
	close(s.end)
	err := s.server.Close()
	if served := <-s.served; !errors.Is(served, http.ErrServerClosed) {
		err = errors.Join(err, served)
	}
	return err
}

func (s *Storage) measure() error {
	var n int64
	err := filepath.WalkDir(s.Dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, ierr := d.Info(); ierr == nil {
				n += info.Size()
			}
		}
		return err
	})
	s.used.Store(n)
	return err
}

// guard signs in, paces and spoils requests before WebDAV sees them.
func (s *Storage) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f := s.faults.Load()
		if f.Away {
			panic(http.ErrAbortHandler)
		}
		user, password, _ := r.BasicAuth()
		if f.Refuse || s.User != "" && subtle.ConstantTimeCompare([]byte(user+"\x00"+password),
			[]byte(s.User+"\x00"+s.Password)) != 1 {
			w.Header().Set("WWW-Authenticate", `Basic realm="storage", charset="UTF-8"`)
			http.Error(w, "sign in", http.StatusUnauthorized)
			return
		}
		switch {
		case hit(f.Errors):
			http.Error(w, "an error, as ordered", http.StatusInternalServerError)
			return
		case hit(f.Busy):
			w.Header().Set("Retry-After", "1")
			http.Error(w, "busy, as ordered", http.StatusServiceUnavailable)
			return
		}
		if r.Method == http.MethodPut {
			if f.Full || s.Limit > 0 && s.Used()+r.ContentLength > s.Limit {
				http.Error(w, "no space left", http.StatusInsufficientStorage)
				return
			}
			r.Body = &body{ReadCloser: r.Body, s: s, ctx: r.Context(), spoil: f.choose(r.ContentLength), size: r.ContentLength,
				over: f.over}
		}
		before := s.sizeOf(r.URL.Path)
		next.ServeHTTP(w, r)
		if r.Method == http.MethodPut || r.Method == http.MethodDelete {
			s.used.Add(s.sizeOf(r.URL.Path) - before)
		}
	})
}

func (s *Storage) sizeOf(urlPath string) int64 {
	info, err := os.Stat(filepath.Join(s.Dir, filepath.FromSlash(path.Clean("/"+strings.TrimPrefix(urlPath, "/dav")))))
	if err != nil || !info.Mode().IsRegular() {
		return 0
	}
	return info.Size()
}

func hit(probability float64) bool { return probability > 0 && rand.Float64() < probability }

type spoil int

const (
	none spoil = iota
	reset
	stall
	truncate
	flip
)

func (f Faults) choose(size int64) spoil {
	switch {
	case size == 0:
	case hit(f.Resets):
		return reset
	case hit(f.Stalls):
		return stall
	case hit(f.Truncate):
		return truncate
	case hit(f.Flip):
		return flip
	}
	return none
}

// body paces an upload and spoils it at its middle.
type body struct {
	io.ReadCloser
	s     *Storage
	ctx   context.Context
	spoil spoil
	size  int64
	n     int64
	over  chan struct{} // closed when other faults are ordered
}

func (b *body) Read(p []byte) (int, error) {
	if b.s.pace != nil {
		p = p[:min(len(p), 16<<10)]
	}
	middle := b.n <= b.size/2
	n, err := b.ReadCloser.Read(p)
	if b.s.pace != nil && n > 0 {
		if werr := b.s.pace.WaitN(b.ctx, n); werr != nil {
			return n, werr
		}
	}
	b.n += int64(n)
	if !middle || b.n <= b.size/2 {
		return n, err
	}
	switch b.spoil {
	case reset:
		panic(http.ErrAbortHandler)
	case stall:
		b.s.stalled.Add(1)
		select {
		case <-b.ctx.Done():
		case <-b.s.end:
		case <-b.over:
		}
		panic(http.ErrAbortHandler)
	case truncate:
		_, _ = io.Copy(io.Discard, b.ReadCloser) // swallowed on purpose: that is the fault
		return n / 2, io.EOF
	case flip:
		p[n/2] ^= 0x20
	}
	return n, err
}

// room is a folder that tells its quota as properties of its collections.
type room struct {
	webdav.FileSystem
	s *Storage
}

func (r room) OpenFile(ctx context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	f, err := r.FileSystem.OpenFile(ctx, name, flag, perm)
	if err != nil {
		return nil, err
	}
	return roomFile{f, r.s}, nil
}

type roomFile struct {
	webdav.File
	s *Storage
}

// DeadProps tells the quota (RFC 4331, 3 and 4) of a collection.
func (f roomFile) DeadProps() (map[xml.Name]webdav.Property, error) {
	info, err := f.Stat()
	if err != nil || !info.IsDir() || f.s.Limit == 0 {
		return nil, err
	}
	props := map[xml.Name]webdav.Property{}
	for name, n := range map[string]int64{"quota-available-bytes": max(0, f.s.Limit-f.s.Used()),
		"quota-used-bytes": f.s.Used()} {
		x := xml.Name{Space: "DAV:", Local: name}
		props[x] = webdav.Property{XMLName: x, InnerXML: []byte(strconv.FormatInt(n, 10))}
	}
	return props, nil
}

// Patch refuses to change properties; a copy is made with none.
func (f roomFile) Patch(patches []webdav.Proppatch) ([]webdav.Propstat, error) {
	for _, p := range patches {
		if len(p.Props) > 0 {
			return nil, syscall.EPERM
		}
	}
	return nil, nil
}

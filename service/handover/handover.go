// Package handover serves phones that hand over what they have: the page for their browser with tus 1.0 below it, and
// WebDAV, on the home network; SFTP beside. Nothing of the console's is here, nor any call of the keeper's.
//
// It is net/http and not Fiber (docs/decisions/0030): bodies are streamed, and one that is cut is told from one that
// ended.
//
// Access is decided in one place, let: what is open is a list (open), everything else needs the key of a phone, and
// answers for that phone alone.
package handover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yardtide/core/words"
	"yardtide/engine/inbox"
	"yardtide/service/household"
	"yardtide/service/phones"
)

// Server serves the phones.
type Server struct {
	Phones *phones.Phones
	// Page holds the built page.
	Page fs.FS
	// Authority is the one that a phone may trust once; nil where there is none.
	Authority *household.Authority
	Log       *slog.Logger

	locks    ofPhones[*lockSystem]
	promises ofPhones[*promised]
	calls    calls
}

// ofPhones is something that each phone has one of, from when it is asked for on. The zero value is ready.
type ofPhones[T any] struct {
	mu  sync.Mutex
	all map[string]T
}

func (o *ofPhones[T]) of(phone string, make func() T) T {
	o.mu.Lock()
	defer o.mu.Unlock()
	one, is := o.all[phone]
	if !is {
		if one = make(); o.all == nil {
			o.all = map[string]T{}
		}
		o.all[phone] = one
	}
	return one
}

// Bounds of calls.
const (
	pieceTime  = 60 * time.Second // in which something must come of a body, or go of an answer
	headTime   = 15 * time.Second
	idleTime   = 2 * time.Minute
	mostHead   = 32 << 10
	mostBody   = 1 << 20 // of a call that is no file
	mostCalls  = 16      // of a phone at once: with all that there can be, no more than there are in all
	mostInAll  = 1024
	drainBytes = 4 << 20 // of a body that is refused
)

// Serve serves what comes to a listener until the context ends. Secure tells that it is encrypted.
func (s *Server) Serve(ctx context.Context, l net.Listener, secure bool) error {
	server := &http.Server{Handler: s.handler(secure), ReadHeaderTimeout: headTime, IdleTimeout: idleTime, MaxHeaderBytes: mostHead,
		BaseContext: func(net.Listener) context.Context { return ctx },
		ConnContext: func(ctx context.Context, c net.Conn) context.Context { return context.WithValue(ctx, connKey{}, c) },
		ErrorLog:    slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug)}
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	select {
	case err := <-served:
		return fmt.Errorf("serving phones: %w", err)
	case <-ctx.Done():
	}
	limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	err := server.Shutdown(limit)
	if errors.Is(err, context.DeadlineExceeded) {
		err = server.Close()
	}
	<-served
	return err
}

type connKey struct{}

// known notes on its connection that a call showed a key.
func known(ctx context.Context) {
	if c, is := ctx.Value(connKey{}).(interface{ Known() }); is {
		c.Known()
	}
}

// call is one call, of a phone where it showed a key.
type call struct {
	http.ResponseWriter
	*http.Request
	phone  phones.Caller // none for what is open
	rest   string        // of the path, below the route's own
	secure bool
	body   *body
}

// refusal is an answer that says no.
type refusal struct {
	code int
	says string
}

func (r refusal) Error() string { return r.says }

// route is one way in.
type route struct {
	methods string // with spaces
	open    bool   // it needs no key
	below   bool   // what lies below its path is its own as well
	answer  func(*Server, *call) error
}

// routes are all that there is, by their path. Whatever else is asked for is not there.
var routes = map[string]route{
	"/p/":                     {methods: "GET HEAD", open: true, answer: (*Server).page},
	"/p/assets/":              {methods: "GET HEAD", open: true, below: true, answer: (*Server).asset},
	"/p/certificate.crt":      {methods: "GET HEAD", open: true, answer: (*Server).certificate},
	"/p/manifest.webmanifest": {methods: "GET HEAD", open: true, answer: (*Server).manifest},
	"/p/mark.svg":             {methods: "GET HEAD", open: true, answer: (*Server).mark},
	"/p/mine":                 {methods: "GET", answer: (*Server).mine},
	"/p/known":                {methods: "POST", answer: (*Server).knows},
	"/p/keep":                 {methods: "POST", answer: (*Server).keep},
	"/p/share":                {methods: "POST", answer: (*Server).share},
	"/p/uploads":              {methods: "OPTIONS POST", answer: (*Server).uploads},
	"/p/uploads/":             {methods: "OPTIONS HEAD PATCH DELETE POST", below: true, answer: (*Server).upload},
	"/dav/":                   {methods: davMethods, below: true, answer: (*Server).dav},
}

// find finds the route of a path as it was sent: each is spelled in one way, and no other is a route.
func find(r *http.Request) (is route, rest string, found bool) {
	at := r.URL.EscapedPath()
	if one, exact := routes[at]; exact {
		return one, "", true
	}
	for prefix, one := range routes {
		if one.below && strings.HasPrefix(at, prefix) {
			return one, strings.TrimPrefix(r.URL.Path, prefix), true
		}
	}
	return route{}, "", false
}

func (s *Server) handler(secure bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if err, is := p.(error); is && errors.Is(err, http.ErrAbortHandler) {
					panic(p)
				}
				s.Log.Error("a call of a phone panicked", "path", r.URL.Path, "panic", fmt.Sprint(p))
				problem(w, http.StatusInternalServerError, "Something went wrong in the service; its log tells what.")
			}
		}()
		head(w.Header(), secure)
		control := http.NewResponseController(w)
		_ = control.SetWriteDeadline(time.Now().Add(pieceTime)) // this server has them
		c := &call{ResponseWriter: w, Request: r, secure: secure}
		c.body = &body{from: r.Body, control: control}
		r.Body = c.body
		if err := s.let(c); err != nil {
			s.refuse(c, err)
		}
	})
}

// head are the headers of every answer: the page takes nothing from elsewhere, and nobody frames it or reads what it is
// told.
func head(h http.Header, secure bool) {
	h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self'; img-src 'self' blob: data:; font-src 'self'; "+
		"connect-src 'self'; worker-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if secure { // elsewhere browsers know nothing of it
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
	}
	h.Set("Cache-Control", "no-store")
}

// let lets a call in, or not. It is the only way to an answer.
func (s *Server) let(c *call) error {
	is, rest, found := find(c.Request)
	if !found {
		return refusal{http.StatusNotFound, "There is nothing here. A phone's page has an address of its own, which its keeper gives it."}
	}
	c.rest = rest
	if is.open {
		if !allows(is, c.Method) {
			return notAllowed(c, is)
		}
		return is.answer(s, c)
	}
	caller, ok := s.caller(c)
	if !ok {
		if strings.HasPrefix(c.URL.Path, "/dav/") {
			c.Header().Set("WWW-Authenticate", `Basic realm="Yard Tide", charset="UTF-8"`)
		}
		return refusal{http.StatusUnauthorized, "The key is missing or wrong, or was taken back. Ask whoever keeps the yard for a new one."}
	}
	if !allows(is, c.Method) {
		return notAllowed(c, is)
	}
	if c.TransferEncoding != nil && c.Request.Header.Get("Content-Length") != "" {
		return refusal{http.StatusBadRequest, "The request tells its length in two ways (RFC 9112, 6.3)."}
	}
	if !s.calls.begin(caller.Name) {
		c.Header().Set("Retry-After", "2")
		return refusal{http.StatusTooManyRequests, "Too many calls of this phone are under way; they go on one after the other."}
	}
	defer s.calls.end(caller.Name)
	known(c.Context())
	ctx, cancel := context.WithCancelCause(c.Context())
	defer cancel(nil)
	done := make(chan struct{})
	defer close(done)
	go func() { // what a phone is doing ends when its keys do
		select {
		case <-caller.Revoked:
			cancel(errRevoked)
			c.body.end()
		case <-done:
		}
	}()
	c.Request, c.phone = c.WithContext(ctx), caller
	err := is.answer(s, c)
	select {
	case <-caller.Revoked:
		return refusal{http.StatusUnauthorized, "This phone was taken out."}
	default:
		return err
	}
}

var errRevoked = errors.New("the phone was revoked")

func allows(is route, method string) bool {
	for one := range strings.SplitSeq(is.methods, " ") {
		if one == method {
			return true
		}
	}
	return false
}

func notAllowed(c *call, is route) error {
	c.Header().Set("Allow", strings.ReplaceAll(is.methods, " ", ", "))
	return refusal{http.StatusMethodNotAllowed, "This cannot be asked here: it would be " + strings.ReplaceAll(is.methods, " ", ", ") + "."}
}

// Header is of the answer: that of the request is Request.Header.
func (c *call) Header() http.Header { return c.ResponseWriter.Header() }

func (c *call) Write(p []byte) (int, error) { return c.ResponseWriter.Write(p) }

// shareCookie is the name of the cookie by which what is shared to the page is let in: a browser sends no other key
// with it. It serves that route alone.
const shareCookie = "yard-phone"

// caller finds whose call it is.
func (s *Server) caller(c *call) (phones.Caller, bool) {
	switch {
	case strings.HasPrefix(c.URL.Path, "/dav/"):
		name, password, basic := c.BasicAuth()
		if !basic {
			return phones.Caller{}, false
		}
		return s.Phones.ByPassword(name, password)
	case c.URL.Path == "/p/share":
		cookie, err := c.Cookie(shareCookie)
		if err != nil || !ofOurs(c.Request) {
			return phones.Caller{}, false
		}
		return s.Phones.ByToken(cookie.Value)
	}
	token, found := strings.CutPrefix(c.Request.Header.Get("Authorization"), "Bearer ")
	if !found {
		return phones.Caller{}, false
	}
	return s.Phones.ByToken(token)
}

// ofOurs tells that a form does not come from a page of somebody else's (Fetch Metadata).
func ofOurs(r *http.Request) bool {
	site := r.Header.Get("Sec-Fetch-Site")
	return site == "" || site == "none" || site == "same-origin"
}

// calls counts the calls of each phone. The zero value is ready.
type calls struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

func (n *calls) begin(phone string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.of[phone] >= mostCalls || n.all >= mostInAll {
		return false
	}
	if n.of == nil {
		n.of = map[string]int{}
	}
	n.of[phone]++
	n.all++
	return true
}

func (n *calls) end(phone string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.of[phone]--
	n.all--
}

// body is what comes with a call. Something must come of it in every minute; it ends at once when somebody ends it.
type body struct {
	from    io.ReadCloser
	control *http.ResponseController
	over    atomic.Bool
	err     error // the first, but io.EOF
}

func (b *body) Read(p []byte) (int, error) {
	b.set()
	n, err := b.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) && b.err == nil {
		b.err = err
	}
	return n, err
}

func (b *body) set() {
	_ = b.control.SetReadDeadline(time.Now().Add(pieceTime)) // this server has them
	if b.over.Load() {
		_ = b.control.SetReadDeadline(time.Unix(1, 0))
	}
}

// end ends the body, from elsewhere.
func (b *body) end() {
	b.over.Store(true)
	_ = b.control.SetReadDeadline(time.Unix(1, 0)) // this server has them
}

func (b *body) Close() error { return b.from.Close() }

// refuse answers with what went wrong.
func (s *Server) refuse(c *call, err error) {
	code, says := http.StatusInternalServerError, "Something went wrong in the service; its log tells what."
	var own refusal
	var bad inbox.BadName
	var room inbox.NoRoom
	var other inbox.OtherOffset
	var different inbox.Different
	var refused household.Refused
	switch {
	case errors.As(err, &own):
		code, says = own.code, own.says
	case errors.As(err, &bad):
		code, says = http.StatusBadRequest, words.Sentence(err.Error())
	case errors.As(err, &room):
		code, says = http.StatusInsufficientStorage, room.Says
	case errors.As(err, &other):
		code, says = http.StatusConflict, words.Sentence(err.Error())
	case errors.As(err, &different):
		code, says = http.StatusBadRequest, words.Sentence(err.Error())
	case errors.As(err, &refused):
		code, says = http.StatusUnprocessableEntity, words.Sentence(err.Error())
	case errors.Is(err, inbox.ErrNoPart):
		code, says = http.StatusNotFound, words.Sentence(err.Error())
	case errors.Is(err, inbox.ErrTooMany):
		code, says = http.StatusTooManyRequests, words.Sentence(err.Error())
	case c.body.err != nil || c.Context().Err() != nil: // it was cut: nobody hears the answer
		code, says = http.StatusBadRequest, "The request was cut; go on from what is there."
	default:
		s.Log.Error("a call of a phone failed", "device", c.name(), "method", c.Method, "path", c.URL.Path, "err", err)
	}
	if code == http.StatusInsufficientStorage {
		s.Log.Warn("a phone was told that there is no room", "device", c.name(), "says", says)
	}
	c.drain()
	problem(c, code, says)
}

func (c *call) name() string {
	if c.phone.Phone == nil {
		return ""
	}
	return c.phone.Name
}

// drain reads a little of a body that is refused: many clients read no answer before they sent all. Of much the
// connection is closed.
func (c *call) drain() {
	if c.phone.Phone == nil || c.body.over.Load() {
		c.Header().Set("Connection", "close")
		return
	}
	_, _ = io.CopyN(io.Discard, c.body, drainBytes) // nobody needs it
}

// problem answers with a problem document (RFC 9457).
func problem(w http.ResponseWriter, code int, says string) {
	text, err := json.Marshal(map[string]any{"status": code, "title": http.StatusText(code), "detail": says})
	if err != nil {
		panic(err) // a number and texts
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(code)
	_, _ = w.Write(append(text, '\n')) // nobody may be there to hear it
}

// readJSON reads the body of a call that is no file.
func (c *call) readJSON(into any) error {
	text, err := io.ReadAll(io.LimitReader(c.body, mostBody+1))
	if err != nil {
		return err
	}
	if len(text) > mostBody {
		return refusal{http.StatusRequestEntityTooLarge, "That is more than is taken in here."}
	}
	if err := json.Unmarshal(text, into); err != nil {
		return refusal{http.StatusBadRequest, "The call cannot be read; open the page anew."}
	}
	return nil
}

func (c *call) writeJSON(v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("writing an answer: %w", err)
	}
	c.Header().Set("Content-Type", "application/json")
	_, _ = c.Write(text) // nobody may be there to hear it
	return nil
}

// page is the page for a phone's browser. It holds no secret: the key is in the fragment of its address, which no
// browser sends.
func (s *Server) page(c *call) error { return s.file(c, "phone.html") }

func (s *Server) mark(c *call) error { return s.file(c, "mark.svg") }

func (s *Server) asset(c *call) error {
	if strings.Contains(c.rest, "/") || strings.HasPrefix(c.rest, ".") {
		return refusal{http.StatusNotFound, "There is no such file."}
	}
	c.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // named by their content
	return s.file(c, "assets/"+c.rest)
}

func (s *Server) file(c *call, name string) error {
	content, err := fs.ReadFile(s.Page, name)
	if err != nil {
		return refusal{http.StatusNotFound, "There is no such file."}
	}
	c.Header().Set("Content-Type", typeOf(name))
	_, _ = c.Write(content) // nobody may be there to hear it
	return nil
}

func typeOf(name string) string {
	switch path.Ext(name) {
	case ".js":
		return "text/javascript; charset=utf-8"
	case ".webmanifest":
		return "application/manifest+json"
	}
	return mime.TypeByExtension(path.Ext(name))
}

// certificate gives the certificate that a phone is led to trust once.
func (s *Server) certificate(c *call) error {
	if s.Authority == nil {
		return refusal{http.StatusNotFound, "There is no certificate to trust."}
	}
	c.Header().Set("Content-Type", "application/x-x509-ca-cert")
	c.Header().Set("Content-Disposition", `attachment; filename="yard.crt"`)
	_, _ = c.Write(s.Authority.DER()) // nobody may be there to hear it
	return nil
}

// mostGiven is how many files a page is told of.
const mostGiven = 200

// mine tells the phone of itself.
func (s *Server) mine(c *call) error {
	m, err := c.phone.Mine(c.Context(), mostGiven)
	if err != nil {
		return err
	}
	return c.writeJSON(m)
}

// Package api is the service's face on HTTP: Fiber routes under /api/v1 with an
// OpenAPI 3.1 document made from the code, problem documents for errors (RFC
// 9457), the event stream, and the console's files. It decides nothing.
//
// It listens on loopback only. Every call under /api/v1 needs the token, as a
// bearer or as the cookie that a one-time link gives to a browser; the Host
// header must be a loopback one, so that no web page can reach it by a name of
// its own.
package api

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	recoverer "github.com/gofiber/fiber/v3/middleware/recover"

	"yardtide/service"
)

// Version is of the API and the program.
const Version = "0.1.0"

// Server serves one service.
type Server struct {
	service *service.Service
	app     *fiber.App
	api     huma.API
	log     *slog.Logger
	ended   chan struct{} // closed when streams must end
}

// New makes a server; console holds the built console.
func New(s *service.Service, console fs.FS, log *slog.Logger) *Server {
	srv := &Server{service: s, log: log, ended: make(chan struct{})}
	srv.app = fiber.New(fiber.Config{
		AppName:      "yardtide",
		BodyLimit:    4 << 20,
		ReadTimeout:  30 * time.Second,
		IdleTimeout:  2 * time.Minute,
		ErrorHandler: problem,
	})
	srv.app.Use(recoverer.New()) // a panic would end the process
	srv.app.Use(srv.guard)
	config := huma.DefaultConfig("Yard Tide", Version)
	config.Info.Description = "What is safe, what waits, why, and until when. Times are RFC 3339; sizes are bytes."
	config.DocsPath, config.SchemasPath = "", ""
	config.OpenAPIPath = "/api/v1/openapi"
	config.CreateHooks = nil // no $schema links in answers
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer", Description: "The file token in the data directory."},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	config.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	huma.DefaultArrayNullable = false // lists are never null here
	srv.api = huma.NewAPI(config, adapter{srv.app})
	srv.routes()
	srv.app.Get("/api/v1/events", srv.events)
	srv.api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "The status now, at every change, and while something is sent",
		Description: "A stream of server-sent events named status; the data of each is what GET /api/v1/status answers.",
		Responses:   map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"text/event-stream": {}}}},
	})
	srv.app.Get("/open", srv.open)
	srv.app.Get("/api/*", func(fiber.Ctx) error { return fiber.NewError(http.StatusNotFound, "There is no such call.") })
	srv.app.Get("/*", files(console))
	return srv
}

// OpenAPI is the API's document in JSON.
func (s *Server) OpenAPI() ([]byte, error) {
	raw, err := s.api.OpenAPI().MarshalJSON()
	if err != nil {
		return nil, fmt.Errorf("writing the OpenAPI document: %w", err)
	}
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return nil, fmt.Errorf("writing the OpenAPI document: %w", err)
	}
	text, err := json.MarshalIndent(v, "", "  ")
	return append(text, '\n'), err
}

// Listen takes a loopback address such as "127.0.0.1:7400".
func Listen(addr string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address such as 127.0.0.1:7400: %w", addr, err)
	}
	if !loopback(host) {
		return nil, fmt.Errorf("%q is not a loopback address: the service is reached from this machine only, such as 127.0.0.1:7400", addr)
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w; another program may have the port, name another with -listen", addr, err)
	}
	return l, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Serve answers until the context ends, and then lets answers end.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	served := make(chan error, 1)
	go func() {
		served <- s.app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	select {
	case err := <-served:
		return fmt.Errorf("serving: %w", err)
	case <-ctx.Done():
	}
	close(s.ended)
	limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	if err := s.app.ShutdownWithContext(limit); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("ending the answers: %w", err)
	}
	// A stop that comes before the server has begun would find nothing to
	// shut down: without its listener it ends all the same.
	if err := l.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("closing the listener: %w", err)
	}
	<-served
	return nil
}

const cookieName = "yardtide"

// csp lets the console use what this service serves and nothing else.
const csp = "default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"

// guard sets the headers of every answer and lets only the keeper in.
func (s *Server) guard(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", csp)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cache-Control", "no-store")
	host := c.Host()
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if !loopback(host) {
		return fiber.NewError(http.StatusForbidden, "The service is reached by a loopback name only.")
	}
	if !strings.HasPrefix(c.Path(), "/api/") {
		return c.Next()
	}
	bearer, found := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	switch {
	case found && s.service.Authorized(bearer):
	case !found && c.Cookies(cookieName) != "" && s.service.IsCookie(c.Cookies(cookieName)):
		if site := c.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
			return fiber.NewError(http.StatusForbidden, "Another site may not call this service.")
		}
		if origin := c.Get("Origin"); origin != "" && origin != "http://"+c.Host() {
			return fiber.NewError(http.StatusForbidden, "Another site may not call this service.")
		}
	default:
		return fiber.NewError(http.StatusUnauthorized, "The token is missing or wrong.")
	}
	return c.Next()
}

// problem writes an error as a problem document.
func problem(c fiber.Ctx, err error) error {
	code, detail := http.StatusInternalServerError, "A fault of the service's; its log says more."
	var fe *fiber.Error
	if errors.As(err, &fe) {
		code, detail = fe.Code, fe.Message
	}
	text, merr := json.Marshal(huma.ErrorModel{Status: code, Title: http.StatusText(code), Detail: detail})
	if merr != nil {
		return merr
	}
	c.Set("Content-Type", "application/problem+json")
	return c.Status(code).Send(text)
}

// open trades the code of a one-time link for the cookie.
func (s *Server) open(c fiber.Ctx) error {
	if !s.service.UseLink(c.Query("code"), time.Now()) {
		c.Set("Content-Type", "text/html; charset=utf-8")
		return c.Status(http.StatusForbidden).SendString(`<!doctype html><html lang="en"><title>Yard Tide</title><h1>This link was used already, or is too old</h1><p>Print a new one with <code>yardtide link</code>.</p></html>`)
	}
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: s.service.Cookie(), Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, MaxAge: 180 * 24 * 3600})
	// A page, not a redirect: a strict cookie is not sent with a redirect that
	// began outside.
	c.Set("Content-Type", "text/html; charset=utf-8")
	return c.SendString(`<!doctype html><html lang="en"><meta http-equiv="refresh" content="0; url=/"><link rel="icon" href="/mark.svg" type="image/svg+xml"><title>Yard Tide</title><p><a href="/">Open the console</a></p></html>`)
}

// files serves the console; its own paths lead to its one page.
func files(console fs.FS) fiber.Handler {
	return func(c fiber.Ctx) error {
		name := strings.TrimPrefix(path.Clean(c.Path()), "/")
		if name == "" || path.Ext(name) == "" {
			name = "index.html"
		}
		content, err := fs.ReadFile(console, name)
		if err != nil {
			if name == "index.html" {
				return fiber.NewError(http.StatusNotFound, "This binary was built without the console (make build).")
			}
			return fiber.NewError(http.StatusNotFound, "There is no such file.")
		}
		if strings.HasPrefix(name, "assets/") { // named by their content
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		return c.Send(content)
	}
}

const (
	pace      = 200 * time.Millisecond // between two events at the least
	heartbeat = 15 * time.Second
)

// events streams the status: now, at every change, and while something is
// sent, for the moving bars.
func (s *Server) events(c fiber.Ctx) error {
	c.Set("Content-Type", "text/event-stream")
	conn := c.RequestCtx().Conn()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if p := recover(); p != nil { // fasthttp does not catch it
				s.log.Error("the event stream panicked", "panic", p)
			}
		}()
		for {
			next := s.service.Changes.Next()
			st, err := s.service.Status(context.Background())
			if err != nil {
				s.log.Error("a status for the event stream failed", "err", err)
				return
			}
			data, err := json.Marshal(st)
			if err != nil {
				s.log.Error("a status could not be written", "err", err)
				return
			}
			if !s.emit(w, conn, "event: status\ndata: "+string(data)+"\n\n") {
				return
			}
			sending := false
			for _, d := range st.Devices {
				sending = sending || len(d.Sends) > 0
			}
			if !s.waitForChange(w, conn, next, sending) {
				return
			}
		}
	})
}

// waitForChange waits for the pace and then for a change, a moving bar or the
// end; false at the end.
func (s *Server) waitForChange(w *bufio.Writer, conn net.Conn, next <-chan struct{}, sending bool) bool {
	select {
	case <-s.ended:
		return false
	case <-time.After(pace):
	}
	if sending {
		return true
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case <-s.ended:
			return false
		case <-next:
			return true
		case <-beat.C: // a gone listener shows only at the next write
			if !s.emit(w, conn, ": still here\n\n") {
				return false
			}
		}
	}
}

func (s *Server) emit(w *bufio.Writer, conn net.Conn, text string) bool {
	if err := conn.SetWriteDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return false
	}
	if _, err := w.WriteString(text); err != nil {
		return false
	}
	return w.Flush() == nil
}

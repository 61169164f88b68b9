// Package api is the service's face on HTTP: Fiber routes under /api/v1 with an
// OpenAPI 3.1 document made from the code, problem documents for errors (RFC
// 9457), the event stream, and the console's files. It decides nothing.
//
// The keeper's address is a loopback one; devices elsewhere call at an address of their own, whose
// routes are theirs alone (home.go). Every route of the keeper's needs the token, as a bearer or as the
// cookie that a one-time link gives to a browser, unless it is registered as
// open (access.go); the Host header must be a loopback one, so that no web page
// can reach it by a name of its own.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"os"
	"path"
	"reflect"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	recoverer "github.com/gofiber/fiber/v3/middleware/recover"

	"yardtide/service"
	"yardtide/wire/phonewire"
)

// Version is of the API and the program.
const Version = "0.1.0"

// Server serves one service.
type Server struct {
	service *service.Service
	app     *fiber.App
	api     huma.API
	log     *slog.Logger
	telling telling
	zips    zips
}

// New makes a server; console holds the built console.
func New(s *service.Service, console fs.FS, log *slog.Logger) *Server {
	srv := &Server{service: s, log: log, telling: telling{log: log, ended: make(chan struct{}), status: s.Status,
		next: s.Changes.Next}}
	srv.app = fiber.New(fiber.Config{
		AppName:      "yardtide",
		BodyLimit:    4 << 20,
		ReadTimeout:  30 * time.Second,
		IdleTimeout:  2 * time.Minute,
		ErrorHandler: problem,

		CaseSensitive: true, StrictRouting: true, DisableHeadAutoRegister: true,
	})
	srv.app.Use(recoverer.New()) // a panic would end the process
	srv.app.Use(front)
	config := huma.DefaultConfig("Yard Tide", Version)
	config.Info.Description = "What is safe, what waits, why, and until when. Times are RFC 3339; sizes are bytes."
	config.DocsPath, config.SchemasPath = "", ""
	config.OpenAPIPath = "/api/v1/openapi"
	config.CreateHooks = nil // no $schema links in answers
	config.Transformers = append(config.Transformers, withoutValues)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer", Description: "The file token in the data directory."},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	config.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	huma.DefaultArrayNullable = false // lists are never null here
	srv.api = huma.NewAPI(config, adapter{srv})
	srv.routes()
	// What crosses to a phone's page is no call of this API; its types are of the same document.
	for _, t := range []reflect.Type{reflect.TypeFor[phonewire.Mine](), reflect.TypeFor[phonewire.Knows]()} {
		srv.api.OpenAPI().Components.Schemas.Schema(t, true, t.Name())
	}
	srv.route(http.MethodGet, "/api/v1/events", keeperOnly, srv.telling.events)
	srv.api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "The status now, at every " +
			"change, and while something is sent",
		Description: "A stream of server-sent events named status; the data of each is what GET /api/v1/status answers.",
		Responses: map[string]*huma.Response{"200": {Description: "OK",
			Content: map[string]*huma.MediaType{"text/event-stream": {}}}},
	})
	srv.openRoutes()
	srv.fileRoutes(console)
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
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address such as 127.0.0.1:7400: %w", addr, err)
	}
	if n, err := strconv.ParseUint(port, 10, 16); err != nil {
		return nil, fmt.Errorf("%q is not an address such as 127.0.0.1:7400: the port is a number from 0 to 65535, and not %q", addr, port)
	} else if n > 0 && n < 1024 && os.Geteuid() > 0 {
		return nil, fmt.Errorf("%q: ports below 1024 are the system's; take one such as 7400", addr)
	}
	if !loopback(host) {
		return nil, fmt.Errorf("%q is not a loopback address: the service is reached from this machine only, such as "+
			"127.0.0.1:7400", addr)
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return nil, fmt.Errorf("listening on %s: %w; another program has the port, name another with -listen", addr, err)
		}
		return nil, fmt.Errorf("listening on %s: %w", addr, err)
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
	close(s.telling.ended)
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

// withoutValues takes what was sent out of an answer about it: it may be a
// secret in the wrong place.
func withoutValues(_ huma.Context, _ string, v any) (any, error) {
	if model, ok := v.(*huma.ErrorModel); ok {
		for _, detail := range model.Errors {
			detail.Value = nil
		}
	}
	return v, nil
}

// problem writes an error as a problem document.
func problem(c fiber.Ctx, err error) error {
	code, says := failure(err)
	text, merr := json.Marshal(huma.ErrorModel{Status: code, Title: http.StatusText(code), Detail: says})
	if merr != nil {
		return merr
	}
	c.Set("Content-Type", "application/problem+json")
	return c.Status(code).Send(text)
}

// pages are the paths of the console's pages.
var pages = []string{"/", "/queue", "/library", "/devices", "/room", "/destinations", "/plan", "/setup"}

// fileRoutes serve the console: each of its files by its name, and its one page
// under the path of each page. Everything else is shut.
func (s *Server) fileRoutes(console fs.FS) {
	index := func(c fiber.Ctx) error {
		content, err := fs.ReadFile(console, "index.html")
		if err != nil {
			return refusal{http.StatusNotFound, "This binary was built without the console (make build)."}
		}
		c.Set("Content-Type", "text/html; charset=utf-8")
		return c.Send(content)
	}
	for _, page := range pages {
		s.route(http.MethodGet, page, open, index)
	}
	err := fs.WalkDir(console, ".", func(name string, e fs.DirEntry, err error) error {
		if name == "phone" { // what phones are served elsewhere (service/handover)
			return fs.SkipDir
		}
		if err != nil || e.IsDir() || name == "index.html" || strings.HasPrefix(path.Base(name), ".") {
			return err
		}
		s.route(http.MethodGet, "/"+name, open, file(console, name))
		return nil
	})
	if err != nil {
		s.log.Error("the console's files cannot be listed", "err", err)
	}
	s.app.All("/*", byOurName, s.keeper, func(c fiber.Ctx) error {
		c.Status(http.StatusNotFound)
		if c.Method() == http.MethodGet && !strings.HasPrefix(c.Path(), "/api/") &&
			strings.Contains(c.Get("Accept"), "text/html") {
			return index(c) // it says that there is no such page
		}
		return refusal{http.StatusNotFound, "There is no such call."}
	})
}

func file(console fs.FS, name string) fiber.Handler {
	return func(c fiber.Ctx) error {
		content, err := fs.ReadFile(console, name)
		if err != nil {
			return fmt.Errorf("reading the console's file %s: %w", name, err)
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

package api

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

// adapter lets huma register operations on Fiber v3. What Fiber hands out is
// reused after the handler, so strings are cloned.
type adapter struct{ server *Server }

// Handle implements huma.Adapter.
func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.server.route(op.Method, path, keeperOnly, func(c fiber.Ctx) error {
		handler(&exchange{op: op, c: c})
		return nil
	})
}

// ServeHTTP implements huma.Adapter; only huma's own test kit would call it.
func (a adapter) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	http.Error(w, "served by Fiber", http.StatusNotImplemented)
}

// exchange is one request and its answer.
type exchange struct {
	op     *huma.Operation
	c      fiber.Ctx
	status int
}

func (e *exchange) Operation() *huma.Operation { return e.op }
func (e *exchange) Context() context.Context   { return e.c.Context() }
func (e *exchange) TLS() *tls.ConnectionState  { return e.c.RequestCtx().TLSConnectionState() }
func (e *exchange) Version() huma.ProtoVersion { return huma.ProtoVersion{Proto: e.c.Protocol()} }
func (e *exchange) Method() string             { return strings.Clone(e.c.Method()) }
func (e *exchange) Host() string               { return strings.Clone(e.c.Hostname()) }
func (e *exchange) RemoteAddr() string         { return e.c.RequestCtx().RemoteAddr().String() }
func (e *exchange) Header(name string) string  { return strings.Clone(e.c.Get(name)) }
func (e *exchange) BodyReader() io.Reader      { return bytes.NewReader(e.c.Body()) }
func (e *exchange) Status() int                { return e.status }
func (e *exchange) BodyWriter() io.Writer      { return e.c.RequestCtx() }

func (e *exchange) URL() url.URL {
	u, err := url.Parse(string(e.c.Request().RequestURI()))
	if err != nil {
		return url.URL{}
	}
	return *u
}

// stream writes the body as it comes, bounded in time piece by piece: it is never whole in memory.
func (e *exchange) stream(write func(w io.Writer) error) {
	conn := e.c.RequestCtx().Conn()
	e.c.RequestCtx().SetBodyStreamWriter(func(w *bufio.Writer) {
		if err := write(pieces{w, conn}); err != nil {
			_ = conn.Close() // what came is not all: whoever reads sees that it was cut
			return
		}
		_ = w.Flush() // nobody may be there to read it
	})
}

// send sends a body of so many bytes as it is read, and closes it. One that fails is cut.
func (e *exchange) send(from io.ReadCloser, bytes int64) {
	e.c.RequestCtx().SetBodyStream(sending{from, e.c.RequestCtx().Conn()}, int(bytes))
}

// sending is read piece by piece, each of which is written within a time.
type sending struct {
	io.ReadCloser
	conn net.Conn
}

func (s sending) Read(p []byte) (int, error) {
	if err := s.conn.SetWriteDeadline(time.Now().Add(pieceTime)); err != nil {
		return 0, err
	}
	return s.ReadCloser.Read(p)
}

// pieces are written within a time each.
type pieces struct {
	*bufio.Writer
	conn net.Conn
}

// pieceTime is how long whoever reads may take for a piece.
const pieceTime = time.Minute

func (p pieces) Write(b []byte) (int, error) {
	if err := p.conn.SetWriteDeadline(time.Now().Add(pieceTime)); err != nil {
		return 0, err
	}
	return p.Writer.Write(b)
}

// Param is a part of the path, unescaped.
func (e *exchange) Param(name string) string {
	p := strings.Clone(e.c.Params(name))
	if plain, err := url.PathUnescape(p); err == nil {
		return plain
	}
	return p
}

func (e *exchange) Query(name string) string { return strings.Clone(e.c.Query(name)) }

func (e *exchange) EachHeader(each func(name, value string)) {
	for k, v := range e.c.Request().Header.All() {
		each(string(k), string(v))
	}
}

func (e *exchange) GetMultipartForm() (*multipart.Form, error) {
	return nil, errors.New("this API takes no forms")
}

func (e *exchange) SetReadDeadline(t time.Time) error {
	return e.c.RequestCtx().Conn().SetReadDeadline(t)
}

func (e *exchange) SetStatus(code int) {
	e.status = code
	e.c.Status(code)
}

func (e *exchange) SetHeader(name, value string)    { e.c.Set(name, value) }
func (e *exchange) AppendHeader(name, value string) { e.c.Append(name, value) }

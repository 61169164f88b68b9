package handover

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/webdav"

	"yardtide/core/words"
	"yardtide/engine/inbox"
)

// This file serves WebDAV (RFC 4918, class 1 and 2) of one phone's inbox, by x/net/webdav over a file system of our own.
// A file appears when all of it is on disk; what was taken on stays listed, with its size and tag.

const davMethods = "OPTIONS GET HEAD PUT DELETE MKCOL MOVE COPY PROPFIND PROPPATCH LOCK UNLOCK"

// davBody bounds what comes with a call that is no file.
const davBody = 256 << 10

// dav answers a call of an app.
func (s *Server) dav(c *call) error {
	if c.Request.Header.Get("Content-Range") != "" {
		return refusal{http.StatusBadRequest, "A part of a file cannot be put (RFC 9110, 14.5); put the whole."}
	}
	if c.Method != http.MethodPut {
		c.Request.Body = http.MaxBytesReader(c.ResponseWriter, c.Request.Body, davBody)
	}
	if c.Method == "COPY" || c.Method == "MOVE" {
		if err := c.destination(); err != nil {
			return err
		}
	}
	w := &davAnswer{ResponseWriter: c.ResponseWriter, control: http.NewResponseController(c.ResponseWriter)}
	p := &davCall{size: -1, body: c.body, over: c.Method == "COPY" || c.Method == "MOVE"}
	if c.Method == http.MethodPut {
		p.size = c.ContentLength
	}
	r := c.WithContext(context.WithValue(c.Context(), davKey{}, p))
	w.failed = func() error { return p.err }
	h := webdav.Handler{Prefix: "/dav", FileSystem: davFiles{c.phone.Inbox, s.promises.of(c.phone.Name, newPromised)}, LockSystem: s.locks.of(c.phone.Name, newLocks)}
	h.ServeHTTP(w, r)
	if w.held { // it failed, and we know better why than the answer that it would be
		return p.err
	}
	return nil
}

// destination checks where a file goes: a place of this address. Behind which name the service stands is not known.
func (c *call) destination() error {
	to, err := url.Parse(c.Request.Header.Get("Destination"))
	if err != nil || !strings.HasPrefix(to.Path, "/dav/") {
		return refusal{http.StatusBadRequest, "Destination is missing, or lies elsewhere."}
	}
	to.Host, to.Scheme = "", ""
	c.Request.Header.Set("Destination", to.String())
	return nil
}

type davKey struct{}

// davCall is what a call knows of the file that it puts, and why it failed.
type davCall struct {
	size int64 // -1 where nobody said
	body *body
	over bool // what it would write over moves aside
	err  error
}

func (p *davCall) fail(err error) error {
	if p != nil && p.err == nil {
		p.err = err
	}
	return err
}

func callOf(ctx context.Context) *davCall {
	p, _ := ctx.Value(davKey{}).(*davCall)
	return p
}

// davAnswer holds back an answer to what failed for a reason that is known.
type davAnswer struct {
	http.ResponseWriter
	control *http.ResponseController
	failed  func() error
	held    bool
	began   bool
}

func (w *davAnswer) WriteHeader(code int) {
	if !w.began && code >= 400 && w.failed() != nil {
		w.held = true
		return
	}
	w.began = true
	w.ResponseWriter.WriteHeader(code)
}

func (w *davAnswer) Write(p []byte) (int, error) {
	if w.held {
		return len(p), nil
	}
	w.began = true
	_ = w.control.SetWriteDeadline(time.Now().Add(pieceTime)) // this server has them
	return w.ResponseWriter.Write(p)
}

// davFiles is an inbox as a file system of WebDAV.
type davFiles struct {
	box *inbox.Inbox
	// empty are names that an app locked, or put nothing under yet: it asks for them, and they are in no list.
	empty *promised
}

// clean is a path below the inbox; "" is its root. What no storage takes is written otherwise: an app finds it under the
// name that it gave as both are cleaned alike.
func clean(name string) (string, error) {
	if strings.Trim(name, "/") == "" {
		return "", nil
	}
	return inbox.Clean(name)
}

func (d davFiles) Mkdir(ctx context.Context, name string, _ os.FileMode) error {
	at, err := clean(name)
	if err != nil || at == "" {
		return errors.Join(err, fs.ErrExist)
	}
	err = d.box.Listing.MakeFolder(ctx, inbox.ByWebDAV, at)
	var room inbox.NoRoom
	if errors.As(err, &room) {
		return callOf(ctx).fail(err)
	}
	return plain(err)
}

// plain is an error as the handler tells it apart: it compares and does not unwrap.
func plain(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return os.ErrNotExist
	case errors.Is(err, fs.ErrExist):
		return os.ErrExist
	}
	return err
}

func (d davFiles) RemoveAll(ctx context.Context, name string) error {
	at, err := clean(name)
	if err == nil && at == "" {
		err = refusal{http.StatusForbidden, "The inbox itself stays."}
	}
	if err == nil && d.empty.take(at) {
		return nil
	}
	if err == nil && callOf(ctx).over {
		err = d.box.Listing.Aside(ctx, inbox.ByWebDAV, at)
	} else if err == nil {
		err = d.box.Listing.Remove(ctx, inbox.ByWebDAV, at)
	}
	if errors.Is(err, inbox.ErrNotSafe) || errors.Is(err, inbox.ErrFolderHolds) {
		err = refusal{http.StatusForbidden, words.Sentence(err.Error())}
	}
	var own refusal
	if errors.As(err, &own) {
		return callOf(ctx).fail(err)
	}
	return plain(err)
}

func (d davFiles) Rename(ctx context.Context, from, to string) error {
	a, err := clean(from)
	if err != nil {
		return plain(err)
	}
	b, err := clean(to)
	if err == nil && (a == "" || b == "") {
		err = refusal{http.StatusForbidden, "The inbox itself stays."}
	}
	if err == nil && d.empty.take(a) {
		d.empty.add(b)
		return nil
	}
	if err == nil {
		// The handler has asked whether it may take the name.
		err = plain(d.box.Listing.Rename(ctx, inbox.ByWebDAV, a, b, true))
	}
	var bad inbox.BadName
	var own refusal
	if errors.As(err, &bad) || errors.As(err, &own) {
		return callOf(ctx).fail(err)
	}
	return err
}

func (d davFiles) Stat(ctx context.Context, name string) (os.FileInfo, error) {
	at, err := clean(name)
	if err != nil {
		return nil, os.ErrNotExist //nolint:nilerr // no such name can be there
	}
	is, err := d.box.Listing.Stat(ctx, inbox.ByWebDAV, at)
	if err != nil {
		if d.empty.has(at) {
			return davInfo{inbox.Entry{Name: path.Base(at), Modified: time.Now()}}, nil
		}
		return nil, plain(err)
	}
	return davInfo{is}, nil
}

func (d davFiles) OpenFile(ctx context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	at, err := clean(name)
	if err != nil {
		return nil, callOf(ctx).fail(err)
	}
	if flag&os.O_CREATE != 0 {
		return d.create(ctx, at)
	}
	is, err := d.box.Listing.Stat(ctx, inbox.ByWebDAV, at)
	if err != nil && d.empty.has(at) {
		return &davRead{ctx: ctx, box: d.box, at: at, is: inbox.Entry{Name: path.Base(at), Modified: time.Now()}, nothing: true}, nil
	}
	if err != nil {
		return nil, plain(err)
	}
	return &davRead{ctx: ctx, box: d.box, at: at, is: is}, nil
}

// create begins a file. Nothing is there before all of it came.
func (d davFiles) create(ctx context.Context, at string) (webdav.File, error) {
	p := callOf(ctx)
	switch err := d.box.Listing.MayPut(ctx, inbox.ByWebDAV, at); {
	case errors.Is(err, inbox.ErrIsFolder):
		return nil, p.fail(refusal{http.StatusMethodNotAllowed, "This is a folder."})
	case err != nil:
		return nil, p.fail(refusal{http.StatusConflict, "Its folder is not there; make it first (MKCOL)."})
	}
	w, err := d.box.Create(p.size)
	if err != nil {
		return nil, p.fail(err)
	}
	return &davWrite{ctx: ctx, call: p, w: w, at: at, empty: d.empty}, nil
}

// davInfo is what a file is, as the handler asks it.
type davInfo struct{ is inbox.Entry }

func (i davInfo) Name() string       { return i.is.Name }
func (i davInfo) Size() int64        { return i.is.Size }
func (i davInfo) ModTime() time.Time { return i.is.Modified }
func (i davInfo) IsDir() bool        { return i.is.Folder }
func (i davInfo) Sys() any           { return nil }

func (i davInfo) Mode() os.FileMode {
	if i.is.Folder {
		return os.ModeDir | 0o700
	}
	return 0o600
}

// ETag implements webdav.ETager: by the content, so that it stays when the file is freed.
func (i davInfo) ETag(context.Context) (string, error) {
	if i.is.Tag == "" {
		return "", webdav.ErrNotImplemented
	}
	return tagOf(i.is.Tag), nil
}

func tagOf(sum string) string { return `"` + sum[:32] + `"` }

// ContentType implements webdav.ContentTyper: no file is opened to be listed.
func (i davInfo) ContentType(context.Context) (string, error) {
	if is := typeOf(i.is.Name); is != "" {
		return is, nil
	}
	return "application/octet-stream", nil
}

// davRead reads a file, or lists a folder.
type davRead struct {
	ctx  context.Context //nolint:containedctx // of one call
	box  *inbox.Inbox
	at   string
	is   inbox.Entry
	file *os.File
	list []inbox.Entry
	all  bool // the list was read
	// nothing is a file that is empty so far.
	nothing bool
}

func (f *davRead) open() error {
	if f.file != nil {
		return nil
	}
	var err error
	f.file, err = f.box.Listing.Open(f.ctx, inbox.ByWebDAV, f.at)
	if errors.Is(err, fs.ErrNotExist) {
		err = refusal{http.StatusGone, "It is safe, and its bytes are no longer here: bring it back from where it lies."}
	}
	if err != nil {
		return callOf(f.ctx).fail(err)
	}
	return nil
}

func (f *davRead) Read(p []byte) (int, error) {
	if f.nothing {
		return 0, io.EOF
	}
	if err := f.open(); err != nil {
		return 0, err
	}
	return f.file.Read(p)
}

func (f *davRead) Seek(offset int64, whence int) (int64, error) {
	if f.nothing {
		return 0, nil
	}
	if err := f.open(); err != nil {
		return 0, err
	}
	return f.file.Seek(offset, whence)
}

func (f *davRead) Readdir(count int) (infos []os.FileInfo, err error) {
	if !f.is.Folder {
		return nil, fs.ErrInvalid
	}
	if !f.all {
		if f.list, err = f.box.Listing.List(f.ctx, inbox.ByWebDAV, f.at); err != nil {
			return nil, plain(err)
		}
		f.all = true
	}
	n := len(f.list)
	if count > 0 {
		n = min(n, count)
	}
	for _, one := range f.list[:n] {
		infos = append(infos, davInfo{one})
	}
	f.list = f.list[n:]
	if count > 0 && n == 0 {
		return nil, io.EOF
	}
	return infos, nil
}

func (f *davRead) Stat() (os.FileInfo, error) { return davInfo{f.is}, nil }
func (f *davRead) Write([]byte) (int, error)  { return 0, fs.ErrPermission }

func (f *davRead) Close() error {
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}

// davWrite takes a file in.
type davWrite struct {
	ctx  context.Context //nolint:containedctx // of one call
	call *davCall
	w    *inbox.Writer
	at   string
	// empty takes its name while nothing came.
	empty *promised
}

func (f *davWrite) Write(p []byte) (int, error) {
	n, err := f.w.Write(p)
	if err != nil {
		return n, f.call.fail(err)
	}
	return n, nil
}

// Close gives the file its name, if all of it came. What a lock makes, or an app that sends nothing first, is empty: it
// is not there.
func (f *davWrite) Close() error {
	if f.ctx.Err() != nil || f.call.err != nil || f.call.body.err != nil || f.w.Size() == 0 || f.call.size >= 0 && f.w.Size() != f.call.size {
		err := f.w.Drop()
		if f.w.Size() == 0 && f.call.size <= 0 && f.call.body.err == nil {
			f.empty.add(f.at)
		}
		if f.w.Size() > 0 || f.call.size > 0 {
			f.call.fail(refusal{http.StatusBadRequest, "The file was cut: nothing of it is here. Put it again."}) //nolint:errcheck // it is kept
		}
		return err
	}
	_, err := f.w.Take(f.ctx, inbox.ByWebDAV, f.at, time.Time{}, true)
	if err != nil {
		return f.call.fail(err)
	}
	f.empty.take(f.at)
	return nil
}

// Stat tells of what came so far: the handler asks before it closes.
func (f *davWrite) Stat() (os.FileInfo, error) {
	return davInfo{inbox.Entry{Name: path.Base(f.at), Size: f.w.Size(), Modified: time.Now(), Tag: f.w.SHA256()}}, nil
}

func (f *davWrite) Read([]byte) (int, error)           { return 0, fs.ErrPermission }
func (f *davWrite) Seek(int64, int) (int64, error)     { return 0, fs.ErrPermission }
func (f *davWrite) Readdir(int) ([]os.FileInfo, error) { return nil, fs.ErrInvalid }

// promised are names under which nothing came yet, with when they were made: they are forgotten after an hour, and with
// the process.
type promised struct {
	mu sync.Mutex
	at map[string]time.Time
}

const mostPromised = 1000

func newPromised() *promised { return &promised{at: map[string]time.Time{}} }

func (p *promised) add(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for known, at := range p.at {
		if time.Since(at) > longestLock || len(p.at) >= mostPromised {
			delete(p.at, known)
		}
	}
	p.at[name] = time.Now()
}

func (p *promised) has(name string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, is := p.at[name]
	return is
}

// take forgets a name; false when it was none.
func (p *promised) take(name string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, is := p.at[name]
	delete(p.at, name)
	return is
}

func newLocks() *lockSystem {
	var run [10]byte
	_, _ = rand.Read(run[:]) // it never fails (crypto/rand)
	text := hex.EncodeToString(run[:])
	return &lockSystem{in: webdav.NewMemLS(), prefix: fmt.Sprintf("urn:uuid:%s-%s-4%s-8%s-", text[:8], text[8:12], text[12:15], text[15:18])}
}

// lockSystem gives the locks of the library tokens that are URIs (RFC 4918, 6.5): it counts them.
type lockSystem struct {
	in     webdav.LockSystem
	prefix string
}

// longestLock is how long a lock lasts at most that is not renewed, and mostLocks how many an app may have.
const longestLock = time.Hour

func (l *lockSystem) outer(token string) string {
	n, err := strconv.ParseUint(token, 10, 64)
	if err != nil {
		return token
	}
	return fmt.Sprintf("%s%012x", l.prefix, n)
}

func (l *lockSystem) inner(token string) string {
	text, ours := strings.CutPrefix(token, l.prefix)
	n, err := strconv.ParseUint(text, 16, 64)
	if !ours || err != nil {
		return "none"
	}
	return strconv.FormatUint(n, 10)
}

func (l *lockSystem) Confirm(now time.Time, name0, name1 string, conditions ...webdav.Condition) (func(), error) {
	for i := range conditions {
		if conditions[i].Token != "" {
			conditions[i].Token = l.inner(conditions[i].Token)
		}
	}
	return l.in.Confirm(now, name0, name1, conditions...)
}

func (l *lockSystem) Create(now time.Time, details webdav.LockDetails) (string, error) {
	if details.Duration < 0 || details.Duration > longestLock {
		details.Duration = longestLock
	}
	token, err := l.in.Create(now, details)
	return l.outer(token), err
}

func (l *lockSystem) Refresh(now time.Time, token string, duration time.Duration) (webdav.LockDetails, error) {
	if duration < 0 || duration > longestLock {
		duration = longestLock
	}
	return l.in.Refresh(now, l.inner(token), duration)
}

func (l *lockSystem) Unlock(now time.Time, token string) error {
	return l.in.Unlock(now, l.inner(token))
}

// Package webdav is the driver for WebDAV storage (RFC 4918, with the quota of
// RFC 4331 and basic sign-in of RFC 7617).
//
// A file goes up under a temporary name, its length is checked, and MOVE with
// "Overwrite: F" puts it in place. No server is relied on for more than that:
// integrity is proven by reading back. Within one process two senders never
// race for one name; see Publish.
package webdav

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Options say where the storage is and how to sign in.
type Options struct {
	URL      string // of the collection that copies go into
	User     string
	Password func() (string, error) // asked at every request, so that a mended one counts at once
	// Stall is how long the storage may take without a byte moving; 60 s when
	// zero. There is no limit to a whole request: a large file takes long.
	Stall time.Duration
	// Connections is how many are kept; 8 when zero.
	Connections int
}

// Driver implements destination.Driver.
type Driver struct {
	base     *url.URL
	user     string
	password func() (string, error)
	stall    time.Duration
	http     *http.Client

	mu      sync.Mutex
	folders map[string]bool // known to exist

	publishing [64]sync.Mutex // by hash of the final name
}

var _ destination.Driver = (*Driver)(nil)
var _ destination.Spacer = (*Driver)(nil)

// New makes a driver; it does not connect yet.
func New(o Options) (*Driver, error) {
	base, err := url.Parse(o.URL)
	if err != nil || base.Host == "" {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "the address is not a web address", Err: err}
	}
	base.Path = strings.TrimSuffix(base.Path, "/") + "/"
	if o.Stall == 0 {
		o.Stall = time.Minute
	}
	if o.Connections == 0 {
		o.Connections = 8
	}
	dialer := &net.Dialer{Timeout: 15 * time.Second, Control: keepUnsentShort}
	transport := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           dialer.DialContext,
		MaxIdleConnsPerHost:   o.Connections,
		MaxConnsPerHost:       o.Connections,
		IdleConnTimeout:       90 * time.Second,
		TLSHandshakeTimeout:   15 * time.Second,
		ExpectContinueTimeout: 2 * time.Second,
		WriteBufferSize:       256 << 10,
		ReadBufferSize:        64 << 10,
		DisableCompression:    true,
	}
	return &Driver{
		base: base, user: o.User, password: o.Password, stall: o.Stall,
		http:    &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
		folders: map[string]bool{"": true},
	}, nil
}

// expectFrom is the size from which a body waits for the server's go-ahead, so
// that a refusal does not cost the bytes.
const expectFrom = 1 << 20

// Put implements destination.Driver.
func (d *Driver) Put(ctx context.Context, temp string, body io.Reader, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	for try := 0; ; try++ {
		if err := d.makeFolders(ctx, destination.TempDir); err != nil {
			return err
		}
		source := destination.NewBody(ctx, body, size)
		res, err := d.do(ctx, http.MethodPut, temp, source, func(r *http.Request) {
			r.ContentLength = size
			if size == 0 {
				r.Body = http.NoBody
			}
			if size >= expectFrom {
				r.Header.Set("Expect", "100-continue")
			}
		})
		taken, own := source.Stop()
		if own != nil {
			drain(res)
			return own
		}
		if err != nil {
			return err
		}
		drain(res)
		switch {
		case res.StatusCode/100 == 2:
			return d.checkLength(ctx, temp, size)
		case res.StatusCode == http.StatusConflict || res.StatusCode == http.StatusNotFound:
			d.forget() // somebody removed the folder for files on their way
			if try > 0 || taken > 0 {
				return &destination.Error{Cause: queue.Busy, Says: "the storage lost the folder for files on their way"}
			}
		default:
			return status("sending", res)
		}
	}
}

func (d *Driver) checkLength(ctx context.Context, temp string, size int64) error {
	n, err := d.Size(ctx, temp)
	if errors.Is(err, destination.ErrNotFound) {
		return &destination.Error{Cause: queue.Different, Says: "the storage acknowledged the file and does not have it"}
	}
	if err == nil && n != size {
		return &destination.Error{Cause: queue.Different, Says: fmt.Sprintf("the storage kept %d of %d bytes", n, size)}
	}
	return err
}

// Publish implements destination.Driver. Some servers let two MOVEs onto one
// name both win, so publishing onto one name is one at a time in this process.
func (d *Driver) Publish(ctx context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	defer d.lock(to)()
	for try := 0; ; try++ {
		if err := d.makeFolders(ctx, path.Dir(to)); err != nil {
			return err
		}
		res, err := d.do(ctx, "MOVE", temp, nil, func(r *http.Request) {
			r.Header.Set("Destination", d.url(to).String())
			r.Header.Set("Overwrite", "F")
		})
		if err != nil {
			return err
		}
		drain(res)
		switch {
		case res.StatusCode == http.StatusCreated || res.StatusCode == http.StatusNoContent:
			return nil
		case res.StatusCode == http.StatusPreconditionFailed:
			return destination.ErrExists
		case res.StatusCode == http.StatusNotFound:
			return destination.ErrNotFound
		case (res.StatusCode == http.StatusConflict || res.StatusCode == http.StatusForbidden) && try == 0:
			d.forget() // a folder on the way may have been removed
		default:
			return status("putting the file in place", res)
		}
	}
}

// lock takes the name's lock and returns what lets go of it.
func (d *Driver) lock(name string) func() {
	h := fnv.New32a()
	_, _ = io.WriteString(h, name) // a hash takes everything
	l := &d.publishing[h.Sum32()%uint32(len(d.publishing))]
	l.Lock()
	return l.Unlock
}

// Size implements destination.Driver.
func (d *Driver) Size(ctx context.Context, p string) (int64, error) {
	res, err := d.do(ctx, http.MethodHead, p, nil, nil)
	if err != nil {
		return 0, err
	}
	drain(res)
	switch {
	case res.StatusCode == http.StatusNotFound:
		return 0, destination.ErrNotFound
	case res.StatusCode != http.StatusOK:
		return 0, status("looking at the file", res)
	case res.ContentLength >= 0:
		return res.ContentLength, nil
	}
	// Some servers leave the length out of an answer to HEAD.
	props, err := d.props(ctx, p, "getcontentlength")
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(strings.TrimSpace(props.Length), 10, 64)
	if err != nil {
		return 0, &destination.Error{Cause: queue.Busy, Says: "the storage does not tell the file's length", Err: err}
	}
	return n, nil
}

// Open implements destination.Driver.
func (d *Driver) Open(ctx context.Context, p string) (io.ReadCloser, error) {
	res, err := d.do(ctx, http.MethodGet, p, nil, nil)
	if err != nil {
		return nil, err
	}
	switch res.StatusCode {
	case http.StatusOK:
		return &readBack{ReadCloser: res.Body, ctx: ctx, host: d.base.Host}, nil
	case http.StatusNotFound:
		drain(res)
		return nil, destination.ErrNotFound
	}
	drain(res)
	return nil, status("reading back", res)
}

// readBack turns errors of the connection into the driver's own.
type readBack struct {
	io.ReadCloser
	ctx  context.Context
	host string
}

func (r *readBack) Read(p []byte) (int, error) {
	n, err := r.ReadCloser.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		if why := context.Cause(r.ctx); why != nil {
			return n, why
		}
		return n, unreachable(err, nil, r.host)
	}
	return n, err
}

// Remove implements destination.Driver.
func (d *Driver) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	res, err := d.do(ctx, http.MethodDelete, temp, nil, nil)
	if err != nil {
		return err
	}
	drain(res)
	if res.StatusCode/100 == 2 || res.StatusCode == http.StatusNotFound {
		return nil
	}
	return status("removing the temporary file", res)
}

// Space implements destination.Spacer by the properties of RFC 4331.
func (d *Driver) Space(ctx context.Context) (destination.Space, error) {
	s := destination.Space{Free: -1, Used: -1}
	props, err := d.props(ctx, "", "quota-available-bytes", "quota-used-bytes")
	if err != nil {
		return s, err
	}
	if n, err := strconv.ParseInt(strings.TrimSpace(props.Free), 10, 64); err == nil {
		s.Free = n
	}
	if n, err := strconv.ParseInt(strings.TrimSpace(props.Used), 10, 64); err == nil {
		s.Used = n
	}
	return s, nil
}

// Close implements destination.Driver.
func (d *Driver) Close() error {
	d.http.CloseIdleConnections()
	return nil
}

// properties are the ones that are asked for; each is "" when the server does
// not have it (it then stands under another status).
type properties struct {
	Length string `xml:"DAV: getcontentlength"`
	Free   string `xml:"DAV: quota-available-bytes"`
	Used   string `xml:"DAV: quota-used-bytes"`
}

func (d *Driver) props(ctx context.Context, p string, names ...string) (properties, error) {
	ask := `<?xml version="1.0"?><propfind xmlns="DAV:"><prop><` + strings.Join(names, "/><") + `/></prop></propfind>`
	res, err := d.do(ctx, "PROPFIND", p, strings.NewReader(ask), func(r *http.Request) {
		r.Header.Set("Depth", "0")
		r.Header.Set("Content-Type", "application/xml")
	})
	if err != nil {
		return properties{}, err
	}
	defer drain(res)
	switch res.StatusCode {
	case http.StatusMultiStatus:
	case http.StatusNotFound:
		return properties{}, destination.ErrNotFound
	default:
		return properties{}, status("asking for properties", res)
	}
	var answer struct {
		Stat []struct {
			Status string     `xml:"DAV: status"`
			Prop   properties `xml:"DAV: prop"`
		} `xml:"DAV: response>propstat"`
	}
	if err := xml.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&answer); err != nil {
		return properties{}, &destination.Error{Cause: queue.Busy, Says: "the storage's answer is not WebDAV", Err: err}
	}
	for _, s := range answer.Stat {
		if strings.Contains(s.Status, " 200 ") {
			return s.Prop, nil
		}
	}
	return properties{}, nil
}

// makeFolders makes the folders on the way to p, once each.
func (d *Driver) makeFolders(ctx context.Context, p string) error {
	if p == "." {
		return nil
	}
	known := func(set bool) bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		if set {
			d.folders[p] = true
		}
		return d.folders[p]
	}
	if known(false) {
		return nil
	}
	if err := d.makeFolders(ctx, path.Dir(p)); err != nil {
		return err
	}
	res, err := d.do(ctx, "MKCOL", p+"/", nil, nil)
	if err != nil {
		return err
	}
	drain(res)
	switch res.StatusCode {
	case http.StatusCreated, http.StatusMethodNotAllowed: // the latter: there already (RFC 4918, 9.3.1)
		known(true)
		return nil
	case http.StatusConflict, http.StatusNotFound:
		return &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the storage has no folder at %s", d.base.Path)}
	}
	return status("making the folder "+p, res)
}

// forget drops what is known of folders, after one was found missing.
func (d *Driver) forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.folders = map[string]bool{"": true}
}

// url is the address of a path, which is not escaped yet: JoinPath would take
// a % in a file's name for an escape.
func (d *Driver) url(p string) *url.URL {
	u := *d.base
	u.Path, u.RawPath = d.base.Path+p, ""
	return &u
}

// errStalled is the cause when no byte moved for too long.
var errStalled = errors.New("no byte moved for too long")

// do sends a request, and gives up when nothing moves for the stall time. The
// answer's body goes on being watched until it is closed.
func (d *Driver) do(ctx context.Context, method, p string, body io.Reader, prepare func(*http.Request)) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	watch := time.AfterFunc(d.stall, func() { cancel(errStalled) })
	moved := func() { watch.Reset(d.stall) }
	if body != nil {
		body = watchedReader{body, moved}
	}
	end := func() { watch.Stop(); cancel(nil) }
	req, err := http.NewRequestWithContext(ctx, method, d.url(p).String(), body)
	if err != nil {
		end()
		return nil, &destination.Error{Cause: queue.Refused, Says: "the name cannot be asked for", Err: err}
	}
	if d.user != "" {
		password, err := d.password()
		if err != nil {
			end()
			return nil, &destination.Error{Cause: queue.SignIn, Says: "the password cannot be read", Err: err}
		}
		req.SetBasicAuth(d.user, password)
	}
	if prepare != nil {
		prepare(req)
	}
	res, err := d.http.Do(req)
	if err != nil {
		why := context.Cause(ctx)
		end()
		if why != nil && !errors.Is(why, errStalled) {
			return nil, why // the caller's own
		}
		return nil, unreachable(err, why, d.base.Host)
	}
	moved()
	res.Body = watchedBody{watchedReader{res.Body, moved}, res.Body, end}
	return res, nil
}

func unreachable(err, why error, host string) error {
	e := &destination.Error{Cause: queue.Unreachable, Says: fmt.Sprintf("%s cannot be reached", host), Err: err}
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case why != nil:
		e.Says = fmt.Sprintf("%s no longer answers", host)
	case errors.As(err, &dns):
		e.Says = fmt.Sprintf("the name %s cannot be looked up", host)
	case errors.As(err, &op) && op.Op == "dial":
		e.Says = fmt.Sprintf("%s does not answer", host)
	default:
		e.Says = fmt.Sprintf("the connection to %s was lost", host)
	}
	return e
}

// status turns an answer that is not success into an error.
func status(doing string, res *http.Response) error {
	e := &destination.Error{Cause: queue.Busy, Says: fmt.Sprintf("%s: the storage answered %d %s", doing, res.StatusCode, http.StatusText(res.StatusCode))}
	switch code := res.StatusCode; {
	case code == http.StatusUnauthorized:
		e.Cause, e.Says = queue.SignIn, "the storage refuses the user or the password"
	case code == http.StatusForbidden:
		e.Cause, e.Says = queue.SignIn, "the storage does not permit "+doing
	case code == http.StatusInsufficientStorage:
		e.Cause, e.Says = queue.Full, "the storage is full"
	case code == http.StatusTooManyRequests, code == http.StatusServiceUnavailable:
		e.RetryAfter = retryAfter(res.Header.Get("Retry-After"), time.Now())
	case code == http.StatusLocked, code == http.StatusRequestTimeout, code/100 == 5:
	case code == http.StatusMethodNotAllowed, code/100 == 3:
		e.Cause, e.Says = queue.Misplaced, fmt.Sprintf("what answers at the address is not WebDAV storage (%d %s)", code, http.StatusText(code))
	case code/100 == 4:
		e.Cause = queue.Refused
	}
	return e
}

// retryAfter reads the header (RFC 9110, 10.2.3): seconds or a date, at most
// an hour.
func retryAfter(value string, now time.Time) time.Duration {
	var wait time.Duration
	if n, err := strconv.Atoi(value); err == nil {
		wait = time.Duration(n) * time.Second
	} else if at, err := http.ParseTime(value); err == nil {
		wait = at.Sub(now)
	}
	return max(0, min(wait, time.Hour))
}

// drain reads the rest of a short answer, so that the connection is kept.
func drain(res *http.Response) {
	if res == nil {
		return
	}
	_, _ = io.CopyN(io.Discard, res.Body, 64<<10) // the answer's own text does not matter
	_ = res.Body.Close()
}

type watchedReader struct {
	r     io.Reader
	moved func()
}

func (w watchedReader) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	w.moved()
	return n, err
}

type watchedBody struct {
	io.Reader
	body io.Closer
	end  func()
}

func (w watchedBody) Close() error {
	w.end()
	return w.body.Close()
}

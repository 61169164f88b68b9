// Package webdav is the driver for WebDAV storage (RFC 4918, with the quota of
// RFC 4331 and sign-in by RFC 7617 or 7616).
//
// A file goes up under a temporary name, its length is checked, and MOVE with
// "Overwrite: F" puts it in place. No server is relied on for more than that:
// integrity is proven by reading back, and who may put something in place is
// settled by folders that are made (turns.go): locks don't hold everywhere.
package webdav

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/icholy/digest"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/web"
)

// Options say where the storage is and how to sign in.
type Options struct {
	URL      string // of the collection that copies go into
	User     string
	Password func() (string, error) // asked at every request, so that a mended one counts at once
	Web      web.Options
}

// Driver implements destination.Driver.
type Driver struct {
	base     *url.URL
	user     string
	password func() (string, error)
	http     *http.Client

	mu      sync.Mutex
	folders map[string]bool // known to exist

	basic     bool              // the server asked for basic sign-in
	challenge *digest.Challenge // the server asked for digest sign-in
	uses      int               // of its nonce

	transport  *web.Transport
	publishing *destination.NameLocks
	turns      turns
	ranges     ability
}

var _ destination.Driver = (*Driver)(nil)
var _ destination.Spacer = (*Driver)(nil)
var _ destination.Resumer = (*Driver)(nil)
var _ destination.Browser = (*Driver)(nil)
var _ destination.Connected = (*Driver)(nil)

// New makes a driver; it does not connect yet.
func New(o Options) (*Driver, error) {
	base, err := url.Parse(o.URL)
	if err != nil || base.Host == "" {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "the address is not a web address", Err: err}
	}
	base.Path = strings.TrimSuffix(base.Path, "/") + "/"
	transport := web.New(o.Web)
	d := &Driver{
		base: base, user: o.User, password: o.Password,
		http: &http.Client{Transport: transport,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
		folders: map[string]bool{"": true}, transport: transport, publishing: destination.NewNameLocks(),
		turns:  turns{life: min(turnLife, 4*transport.Stall()), own: make(chan struct{}, 1)},
		ranges: ability{trying: make(chan struct{}, 1)},
	}
	d.turns.at = d
	return d, nil
}

// expectFrom is the size from which a body waits for the server's go-ahead, so
// that a refusal does not cost the bytes.
const expectFrom = 4 << 20

// Put implements destination.Driver.
func (d *Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.makeFolders(ctx, destination.TempDir); err != nil {
		return err
	}
	step := size
	if size > segment {
		able, err := d.knowsRanges(ctx, temp)
		if err != nil {
			return err
		}
		if able {
			step = segment
		}
	}
	source := destination.NewBody(ctx, body, size-from)
	for at, first := from, true; first || at < size; first = false {
		n := min(step, size-at)
		if at > 0 { // a range onto what is not there would leave a hole
			if there, err := d.Size(ctx, temp); errors.Is(err, destination.ErrNotFound) || err == nil && there < at {
				return destination.PartLost()
			} else if err != nil {
				return err
			}
		}
		if err := d.putPart(ctx, temp, source, at, n, size); err != nil {
			if _, own := source.Stop(); own != nil {
				return own
			}
			return err
		}
		at += n
	}
	if _, own := source.Stop(); own != nil {
		return own
	}
	return destination.CheckLength(ctx, d, temp, size)
}

// putPart sends n bytes: a file's first ones by a plain PUT, others into the
// file that is there.
func (d *Driver) putPart(ctx context.Context, temp string, source *destination.Body, at, n, size int64) error {
	for try := 0; ; try++ {
		before := source.Taken()
		res, err := d.do(ctx, http.MethodPut, temp, io.LimitReader(source, n), func(r *http.Request) {
			r.ContentLength = n
			if n == 0 {
				r.Body = http.NoBody
			}
			if n >= expectFrom && at == 0 {
				r.Header.Set("Expect", "100-continue")
			}
			if at > 0 {
				r.Header.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", at, at+n-1, size))
			}
		})
		untouched := source.Taken() == before && try == 0
		if errors.Is(err, errAnew) {
			// A question without a body tells whether the password is still good.
			if _, serr := d.Size(ctx, temp); serr != nil && !errors.Is(serr, destination.ErrNotFound) {
				return serr
			}
			if untouched {
				continue
			}
		}
		if err != nil {
			return err
		}
		drain(res)
		switch {
		case res.StatusCode/100 == 2:
			return nil
		case res.StatusCode == http.StatusConflict || res.StatusCode == http.StatusNotFound:
			d.forget() // somebody removed the folder for files on their way
			if !untouched || at > 0 {
				return &destination.Error{Cause: queue.Busy, Says: "the storage lost the folder for files on their way"}
			}
			if err := d.makeFolders(ctx, destination.TempDir); err != nil {
				return err
			}
		default:
			return status("sending", res)
		}
	}
}

// Publish implements destination.Driver. Some servers let two MOVEs onto one
// name both win: putting something in place is one at a time, in this process and
// between all that send here.
func (d *Driver) Publish(ctx context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	unlock, err := d.publishing.Lock(ctx, to)
	if err != nil {
		return err
	}
	defer unlock()
	ctx, leave, err := d.turns.enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
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
	return d.OpenFrom(ctx, p, 0)
}

// OpenFrom implements destination.Ranger. What a server sends that knows no ranges is skipped.
func (d *Driver) OpenFrom(ctx context.Context, p string, from int64) (io.ReadCloser, error) {
	res, err := d.do(ctx, http.MethodGet, p, nil, func(r *http.Request) {
		if from > 0 {
			r.Header.Set("Range", fmt.Sprintf("bytes=%d-", from))
		}
	})
	if err != nil {
		return nil, err
	}
	switch res.StatusCode {
	case http.StatusOK, http.StatusPartialContent:
		if res.StatusCode == http.StatusOK && from > 0 {
			if _, err := io.CopyN(io.Discard, res.Body, from); err != nil {
				return nil, errors.Join(web.Failure(err, d.base.Host), res.Body.Close())
			}
		} else if at := res.Header.Get("Content-Range"); from > 0 && !strings.HasPrefix(at, fmt.Sprintf("bytes %d-", from)) {
			drain(res)
			return nil, &destination.Error{Cause: queue.Different, Says: fmt.Sprintf("the storage was asked for a file from %d on, and sent %q", from, at)}
		}
		return destination.ReadBack(res.Body, func(err error) error {
			if why := context.Cause(ctx); why != nil {
				return why
			}
			return web.Failure(err, d.base.Host)
		}), nil
	case http.StatusNotFound:
		drain(res)
		return nil, destination.ErrNotFound
	}
	drain(res)
	return nil, status("reading back", res)
}

// Remove implements destination.Driver. A server may hold the file for a moment
// after a send of it was cut.
func (d *Driver) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	for try := 0; ; try++ {
		res, err := d.do(ctx, http.MethodDelete, temp, nil, nil)
		if err != nil {
			return err
		}
		drain(res)
		switch {
		case res.StatusCode/100 == 2 || res.StatusCode == http.StatusNotFound:
			return nil
		case res.StatusCode != http.StatusLocked || try == 10:
			return status("removing the temporary file", res)
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

// Withdraw implements destination.Driver.
func (d *Driver) Withdraw(ctx context.Context, p, temp string) error {
	return d.toTemp(ctx, "MOVE", p, temp, "taking the file out of its place")
}

// Copy implements destination.Copier (RFC 4918, 9.8).
func (d *Driver) Copy(ctx context.Context, p, temp string) error {
	return d.toTemp(ctx, "COPY", p, temp, "copying the file")
}

// toTemp has the storage put a file under a temporary name.
func (d *Driver) toTemp(ctx context.Context, method, p, temp, doing string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.makeFolders(ctx, destination.TempDir); err != nil {
		return err
	}
	res, err := d.do(ctx, method, p, nil, func(r *http.Request) {
		r.Header.Set("Destination", d.url(temp).String())
		r.Header.Set("Overwrite", "F")
		r.Header.Set("Depth", "0")
		if method == "MOVE" {
			r.Header.Set("Depth", "infinity") // the only one there is (RFC 4918, 9.9.2)
		}
	})
	if err != nil {
		return err
	}
	drain(res)
	switch {
	case res.StatusCode == http.StatusCreated || res.StatusCode == http.StatusNoContent:
		return nil
	case res.StatusCode == http.StatusNotFound:
		return destination.ErrNotFound
	case method == "COPY" && slices.Contains([]int{http.StatusForbidden, http.StatusMethodNotAllowed,
		http.StatusInternalServerError, http.StatusNotImplemented, http.StatusBadGateway}, res.StatusCode):
		return destination.ErrUnable // many do not, and say so in many ways
	}
	// Some answer otherwise where there is nothing.
	if _, err := d.Size(ctx, p); errors.Is(err, destination.ErrNotFound) {
		return err
	}
	return status(doing, res)
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

// Connection implements destination.Connected.
func (d *Driver) Connection() uint64 { return d.transport.Dials() }

// Close implements destination.Driver.
func (d *Driver) Close() error {
	d.turns.end()
	d.http.CloseIdleConnections()
	return nil
}

// properties are the ones that are asked for; each is "" when the server does
// not have it (it then stands under another status).
type properties struct {
	Length string `xml:"DAV: getcontentlength"`
	Free   string `xml:"DAV: quota-available-bytes"`
	Used   string `xml:"DAV: quota-used-bytes"`
	Type   struct {
		Collection *struct{} `xml:"DAV: collection"`
	} `xml:"DAV: resourcetype"`
}

// member is one resource of an answer to PROPFIND.
type member struct {
	Href string `xml:"DAV: href"`
	Stat []struct {
		Status string     `xml:"DAV: status"`
		Prop   properties `xml:"DAV: prop"`
	} `xml:"DAV: propstat"`
}

func (m member) properties() properties {
	for _, s := range m.Stat {
		if strings.Contains(s.Status, " 200 ") {
			return s.Prop
		}
	}
	return properties{}
}

func (d *Driver) props(ctx context.Context, p string, names ...string) (properties, error) {
	members, err := d.propfind(ctx, p, "0", 1<<20, names...)
	if err != nil || len(members) == 0 {
		return properties{}, err
	}
	return members[0].properties(), nil
}

// propfind asks for properties (RFC 4918, 9.1) and reads at most limit bytes of
// the answer.
//
// encoding/xml knows no entities but the five, and a depth and a number of members
// are bounded here.
func (d *Driver) propfind(ctx context.Context, p, depth string, limit int64, names ...string) ([]member, error) {
	ask := `<?xml version="1.0"?><propfind xmlns="DAV:"><prop><` + strings.Join(names, "/><") + `/></prop></propfind>`
	res, err := d.do(ctx, "PROPFIND", p, strings.NewReader(ask), func(r *http.Request) {
		r.Header.Set("Depth", depth)
		r.Header.Set("Content-Type", "application/xml")
	})
	if err != nil {
		return nil, err
	}
	defer drain(res)
	switch res.StatusCode {
	case http.StatusMultiStatus:
	case http.StatusNotFound:
		return nil, destination.ErrNotFound
	default:
		return nil, status("asking for properties", res)
	}
	members, err := readMembers(io.LimitReader(res.Body, limit))
	if err != nil {
		return nil, &destination.Error{Cause: queue.Busy, Says: "the storage's answer is not WebDAV", Err: err}
	}
	return members, nil
}

// Of an answer in XML: how deep it may be, and how many resources it may tell.
const (
	maxDepth   = 32
	maxMembers = 1_000_000
)

// readMembers reads a multistatus (RFC 4918, 14.16), token by token, so that
// nothing of an answer that is too deep or too long is built.
func readMembers(r io.Reader) (members []member, err error) {
	bounded := &shallow{tokens: xml.NewDecoder(r)}
	dec := xml.NewTokenDecoder(bounded)
	begun := false
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) && begun && bounded.depth == 0 {
			return members, nil
		}
		if err != nil {
			return nil, fmt.Errorf("reading a multistatus: %w", err)
		}
		start, is := token.(xml.StartElement)
		switch {
		case !is:
		case !begun:
			if start.Name != (xml.Name{Space: "DAV:", Local: "multistatus"}) {
				return nil, fmt.Errorf("it is a %s", start.Name.Local)
			}
			begun = true
		case start.Name == xml.Name{Space: "DAV:", Local: "response"}:
			var m member
			if err := dec.DecodeElement(&m, &start); err != nil {
				return nil, fmt.Errorf("reading a resource: %w", err)
			}
			if members = append(members, m); len(members) > maxMembers {
				return nil, fmt.Errorf("it tells more than %d resources", maxMembers)
			}
		default:
			if err := dec.Skip(); err != nil {
				return nil, fmt.Errorf("reading a multistatus: %w", err)
			}
		}
	}
}

// shallow hands out tokens down to a depth.
type shallow struct {
	tokens *xml.Decoder
	depth  int
}

// Token implements xml.TokenReader.
func (s *shallow) Token() (xml.Token, error) {
	token, err := s.tokens.Token()
	switch token.(type) {
	case xml.StartElement:
		if s.depth++; s.depth > maxDepth {
			return nil, fmt.Errorf("it is nested more than %d deep", maxDepth)
		}
	case xml.EndElement:
		s.depth--
	}
	return token, err
}

// List implements destination.Browser.
func (d *Driver) List(ctx context.Context, dir string) ([]destination.Entry, error) {
	at := dir
	if at != "" {
		at += "/"
	}
	members, err := d.propfind(ctx, at, "1", 256<<20, "resourcetype", "getcontentlength")
	if err != nil {
		return nil, err
	}
	own := strings.TrimSuffix(d.url(at).Path, "/")
	var entries []destination.Entry
	for _, m := range members {
		u, err := url.Parse(m.Href)
		if err != nil {
			continue // not a name that could be asked for
		}
		p := strings.TrimSuffix(u.Path, "/")
		name, inside := strings.CutPrefix(p, own+"/")
		if !inside || !destination.Plain(name) {
			continue
		}
		props := m.properties()
		if props.Type.Collection != nil {
			entries = append(entries, destination.Entry{Name: name, Folder: true})
			continue
		}
		n, err := strconv.ParseInt(strings.TrimSpace(props.Length), 10, 64)
		if err != nil {
			continue // no file whose bytes could be read
		}
		entries = append(entries, destination.Entry{Name: name, Size: n})
	}
	return entries, nil
}

// MakeFolder implements destination.Browser.
func (d *Driver) MakeFolder(ctx context.Context, dir string) error {
	d.forget()
	return d.makeFolders(ctx, dir)
}

// Tidy implements destination.Browser.
func (d *Driver) Tidy(ctx context.Context) error {
	there, err := d.List(ctx, destination.TempDir)
	if errors.Is(err, destination.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range there {
		if e.Name != turnsName {
			return nil
		}
	}
	d.turns.end()
	d.forget()
	if inUse, err := d.turns.inUse(ctx); err != nil || inUse {
		return err
	}
	for _, folder := range []string{turnsDir, destination.TempDir} {
		if err := d.removeFolder(ctx, folder); err != nil {
			return err
		}
	}
	return nil
}

func (d *Driver) removeFolder(ctx context.Context, folder string) error {
	res, err := d.do(ctx, http.MethodDelete, folder+"/", nil, nil)
	if err != nil {
		return err
	}
	drain(res)
	if res.StatusCode/100 != 2 && res.StatusCode != http.StatusNotFound {
		return status("removing the folder "+folder, res)
	}
	return nil
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
	res, err := d.makeFolder(ctx, p)
	// So some servers answer who meets another there.
	for try := 0; err == nil && try < 20 && (res.StatusCode == http.StatusForbidden && try == 0 ||
		res.StatusCode == http.StatusLocked); try++ {
		if err = pause(ctx, 10*time.Millisecond); err == nil {
			res, err = d.makeFolder(ctx, p)
		}
	}
	if err != nil {
		return err
	}
	switch res.StatusCode {
	case http.StatusCreated, http.StatusMethodNotAllowed: // the latter: there already (RFC 4918, 9.3.1)
		known(true)
		return nil
	case http.StatusConflict, http.StatusNotFound:
		return &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the storage has no folder at %s", d.base.Path)}
	}
	return status("making the folder "+p, res)
}

func (d *Driver) makeFolder(ctx context.Context, p string) (*http.Response, error) {
	res, err := d.do(ctx, "MKCOL", p+"/", nil, nil)
	if err == nil {
		drain(res)
	}
	return res, err
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

// do sends a request and signs in.
func (d *Driver) do(ctx context.Context, method, p string, body io.Reader,
	prepare func(*http.Request)) (*http.Response, error) {
	for try := 0; ; try++ {
		req, err := http.NewRequestWithContext(ctx, method, d.url(p).String(), body)
		if err != nil {
			return nil, &destination.Error{Cause: queue.Refused, Says: "the name cannot be asked for", Err: err}
		}
		if prepare != nil {
			prepare(req)
		}
		if err := d.signIn(req); err != nil {
			return nil, err
		}
		res, err := d.http.Do(req)
		if err != nil {
			if why := context.Cause(ctx); why != nil {
				return nil, why
			}
			return nil, web.Failure(err, d.base.Host)
		}
		if res.StatusCode != http.StatusUnauthorized || try > 0 || !d.challenged(res) {
			return res, nil
		}
		drain(res)
		// Once more by the way that the server asks for, if the body can be sent
		// again.
		switch again := body.(type) {
		case nil:
		case *strings.Reader:
			if _, err := again.Seek(0, io.SeekStart); err != nil {
				return nil, fmt.Errorf("sending a question again: %w", err)
			}
		default:
			return nil, errAnew
		}
	}
}

// errAnew tells that a body must be sent again with another sign-in.
var errAnew = &destination.Error{Cause: queue.Busy, Says: "the storage asks to sign in anew"}

// signIn adds the user and the password by the way that the server asked for:
// before it has, the password does not leave.
func (d *Driver) signIn(req *http.Request) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.user == "" || !d.basic && d.challenge == nil {
		return nil
	}
	password, err := d.password()
	if err != nil {
		return &destination.Error{Cause: queue.SignIn, Says: "the password cannot be read: " + err.Error()}
	}
	if d.challenge == nil {
		req.SetBasicAuth(d.user, password)
		return nil
	}
	d.uses++
	answer, err := digest.Digest(d.challenge, digest.Options{Method: req.Method, URI: req.URL.RequestURI(), Count: d.uses,
		Username: d.user, Password: password})
	if err != nil {
		return &destination.Error{Cause: queue.SignIn, Says: "the storage asks for a sign-in of a kind that is not known",
			Err: err}
	}
	req.Header.Set("Authorization", answer.String())
	return nil
}

// challenged notes how a server wants a sign-in: by digest (RFC 7616) where it
// offers that, else by RFC 7617. It tells whether the request had come with
// another one.
func (d *Driver) challenged(res *http.Response) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.user == "" {
		return false
	}
	came := res.Request.Header.Get("Authorization")
	if challenge, err := digest.FindChallenge(res.Header); err == nil && digest.CanDigest(challenge) {
		if d.challenge == nil || d.challenge.Nonce != challenge.Nonce {
			d.challenge, d.basic, d.uses = challenge, false, 0
		}
		return !strings.Contains(came, challenge.Nonce)
	}
	d.challenge, d.basic = nil, true
	return !strings.HasPrefix(came, "Basic ")
}

// status turns an answer that is not success into an error.
func status(doing string, res *http.Response) error {
	e := &destination.Error{Cause: queue.Busy, Says: fmt.Sprintf("%s: the storage answered %d %s", doing, res.StatusCode,
		http.StatusText(res.StatusCode))}
	switch code := res.StatusCode; {
	case code == http.StatusUnauthorized:
		e.Cause, e.Says = queue.SignIn, "the storage refuses the user or the password"
	case code == http.StatusForbidden:
		e.Cause, e.Says = queue.SignIn, "the storage does not permit "+doing
	case code == http.StatusInsufficientStorage:
		e.Cause, e.Says = queue.Full, "the storage is full"
	case code == http.StatusTooManyRequests, code == http.StatusServiceUnavailable:
		e.RetryAfter = web.RetryAfter(res.Header.Get("Retry-After"), time.Now())
	case code == http.StatusLocked, code == http.StatusRequestTimeout, code/100 == 5:
	case code == http.StatusMethodNotAllowed, code/100 == 3:
		e.Cause, e.Says = queue.Misplaced, fmt.Sprintf("what answers at the address is not WebDAV storage (%d %s)", code,
			http.StatusText(code))
	case code/100 == 4:
		e.Cause = queue.Refused
	}
	return e
}

// drain reads the rest of a short answer, so that the connection is kept.
func drain(res *http.Response) {
	if res == nil {
		return
	}
	_, _ = io.CopyN(io.Discard, res.Body, 64<<10) // the answer's own text does not matter
	_ = res.Body.Close()
}

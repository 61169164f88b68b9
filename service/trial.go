package service

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/destination/sftp"
	"yardtide/engine/destination/web"
	"yardtide/engine/place"
	"yardtide/service/vault"
	"yardtide/wire"
)

// trialTime is how long a whole trial may take.
const trialTime = 2 * time.Minute

// trial tries a destination, step by step, and leaves nothing behind.
type trial struct {
	name   string
	d      plan.Destination
	secret vault.Reader
	make   bool                  // make the folder if it is not there
	place  func(id string) error // whether a place is the one it is to be; nil for one that is new
	result wire.Trial
	tried  func() // is told of each step
	driver destination.Driver
}

// Try begins to try a destination that is not in the plan, or is to be changed.
func (s *Destinations) Try(ctx context.Context, draft wire.Draft) (wire.Job, error) {
	draft = vault.WithSecrets(draft)
	t, p := s.newTrial(ctx, draft), s.book.PlanOrEmpty()
	return s.beginTrial(t, func(ctx context.Context) bool { return t.fits(p, draft) && t.run(ctx) })
}

func (s *Destinations) newTrial(ctx context.Context, draft wire.Draft) *trial {
	return &trial{name: draft.Name, d: draft.Destination, secret: s.draftSecrets(ctx, draft), make: draft.MakeFolder,
		tried: func() {}, result: wire.Trial{Where: draft.Destination.Where(), Steps: []wire.TrialStep{}}}
}

// beginTrial begins a trial as a job.
func (s *Destinations) beginTrial(t *trial, run func(ctx context.Context) bool) (wire.Job, error) {
	return s.jobs.Begin(wire.Job{Kind: wire.JobTrial, Destination: t.name, Says: "It is tried, step by step.",
		Trial: &wire.Trial{Steps: []wire.TrialStep{}}}, true, func(ctx context.Context, tell func(func(*wire.Job))) error {
		ctx, cancel := context.WithTimeout(ctx, trialTime)
		defer cancel()
		show := func(says string) {
			now := t.result
			now.Steps = slices.Clone(now.Steps)
			tell(func(is *wire.Job) { is.Trial, is.Done, is.Says = &now, int64(len(now.Steps)), says })
		}
		t.tried = func() { show("It is tried, step by step.") }
		if t.result.OK = run(ctx); t.result.OK {
			show("It works, and nothing of the trial is left there.")
		} else {
			show("It does not work yet.")
		}
		return nil
	})
}

// fits sees that the draft can stand in the plan, before anything is asked of a
// storage: what the trial finds out by itself may be missing.
func (t *trial) fits(p *plan.Plan, draft wire.Draft) bool {
	d := draft.Destination
	if now, taken := p.Destinations[draft.Name]; taken && now != d {
		return t.step("plan", &destination.Error{Cause: queue.Misplaced,
			Says: fmt.Sprintf("the plan has a destination %q already; take another name", draft.Name)}, "")
	}
	if d.Kind == plan.SFTP && d.HostKey == "" {
		d.HostKey = "SHA256:" + strings.Repeat("A", 43) // it is asked for
	}
	err := plantext.CheckDestination(draft.Name, d)
	var problems plantext.Problems
	if errors.As(err, &problems) {
		for _, p := range problems {
			t.step("plan", &destination.Error{Cause: queue.Misplaced, Says: p.What + "; " + p.Would}, "")
		}
		return false
	}
	return true
}

func (t *trial) step(name string, err error, format string, args ...any) bool {
	one := wire.TrialStep{Name: name, OK: err == nil, Says: fmt.Sprintf(format, args...)}
	if err != nil {
		one.Says = destination.Sentence(err)
		if name != "plan" { // that says itself what would be right
			one.Todo = place.Todo(destination.CauseOf(err), t.name)
		}
	}
	t.result.Steps = append(t.result.Steps, one)
	t.tried()
	return err == nil
}

func (t *trial) run(ctx context.Context) bool {
	if !t.reach(ctx) {
		return false
	}
	var err error
	if t.driver, err = open(t.d, t.secret); err != nil {
		return t.step("connection", err, "")
	}
	defer t.driver.Close()
	return t.enter(ctx) && t.known(ctx) && t.use(ctx)
}

// known sees that the place is the one that the name stands for.
func (t *trial) known(ctx context.Context) bool {
	if t.place == nil {
		return true
	}
	id, err := destination.ReadMarker(ctx, t.driver)
	if err == nil {
		err = t.place(id)
	}
	return t.step("place", err, "It is the place that it was.")
}

// reach looks the name up, connects, and looks at who answers.
func (t *trial) reach(ctx context.Context) bool {
	address, secure := t.d.Address, false
	if t.d.URL != "" {
		u, err := url.Parse(t.d.URL)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return t.step("name", &destination.Error{Cause: queue.Misplaced,
				Says: "the address is not a web address: it begins with https:// or http://"}, "")
		}
		secure = u.Scheme == "https"
		address = u.Host
		if u.Port() == "" {
			address = net.JoinHostPort(u.Hostname(), map[bool]string{true: "443", false: "80"}[secure])
		}
	}
	if address == "" {
		return true // a folder of this machine
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return t.step("name", &destination.Error{Cause: queue.Misplaced, Says: "the address is not host:port"}, "")
	}
	found, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil {
		err = &destination.Error{Cause: queue.Misplaced, Says: fmt.Sprintf("the name %s cannot be looked up", host), Err: err}
	}
	says := fmt.Sprintf("%s is %s.", host, strings.Join(found, ", "))
	if net.ParseIP(host) != nil {
		says = host + " is an address, and no name to look up."
	}
	if !t.step("name", err, "%s", says) {
		return false
	}
	conn, err := (&net.Dialer{Timeout: 15 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		err = &destination.Error{Cause: queue.Misplaced, Says: address + " does not answer", Err: err}
	} else {
		err = conn.Close()
	}
	if !t.step("connection", err, "%s answers.", address) {
		return false
	}
	switch {
	case secure:
		return t.certificate(ctx, address)
	case t.d.Kind == plan.SFTP:
		return t.hostKey(ctx)
	}
	t.result.Steps = append(t.result.Steps, wire.TrialStep{Name: "certificate", OK: true,
		Says: "None: the connection is not encrypted. Who can listen in reads along."})
	return true
}

func (t *trial) certificate(ctx context.Context, address string) bool {
	seen, err := web.Peek(ctx, address, web.Options{Authority: t.d.Authority, Certificate: t.d.Certificate})
	var bad web.Untrusted
	if errors.As(err, &bad) {
		t.result.Asks = &wire.TrialQuestion{Field: "certificate", Fingerprint: bad.Fingerprint,
			Says: fmt.Sprintf("The certificate of %s (%q, until %s) is not trusted: %s. If its fingerprint is the one that "+
				"the storage itself shows, it can be trusted by name.", address, bad.Subject, bad.Ends.Format(time.DateOnly),
				bad.Why)}
	}
	if err != nil {
		err = web.Failure(err, address)
	}
	return t.step("certificate", err, "It is trusted: %s.", seen)
}

func (t *trial) hostKey(ctx context.Context) bool {
	kind, seen, err := sftp.Peek(ctx, t.d.Address)
	switch {
	case err == nil && t.d.HostKey == "":
		err = &destination.Error{Cause: queue.Identity, Says: "the host key is not known yet: " + kind + " " + seen}
		t.result.Asks = &wire.TrialQuestion{Field: "host-key", Fingerprint: seen,
			Says: fmt.Sprintf("%s shows the host key %s %s. If that is what ssh-keygen -lf prints at the storage itself, "+
				"it can be trusted.", t.d.Address, kind, seen)}
	case err == nil && seen != t.d.HostKey: // it may be another of the server's keys: signing in tells
		seen = t.d.HostKey
	}
	return t.step("host key", err, "It is pinned: %s.", seen)
}

// enter signs in and sees that the folder is there.
func (t *trial) enter(ctx context.Context) bool {
	b, ok := t.driver.(destination.Browser)
	if !ok {
		return t.step("folder", &destination.Error{Cause: queue.Misplaced, Says: "this storage cannot be listed"}, "")
	}
	_, err := b.List(ctx, "")
	made := false
	if t.missing(err) && t.make {
		if err = t.makeRoot(ctx); err == nil {
			made = true
			_, err = b.List(ctx, "")
		}
	}
	if t.missing(err) {
		err = &destination.Error{Cause: queue.Misplaced, Says: t.d.Where() + " is not there; it can be made"}
	}
	if err != nil && destination.CauseOf(err) != queue.Misplaced {
		return t.step("sign-in", err, "")
	}
	if t.d.Kind != plan.Folder {
		t.step("sign-in", nil, "The storage lets %s in.", who(t.d))
	}
	if err != nil {
		return t.step("folder", err, "")
	}
	return t.step("folder", nil, map[bool]string{true: "%s was made.", false: "%s is there."}[made], t.d.Where())
}

func (t *trial) missing(err error) bool {
	return err != nil && (errors.Is(err, destination.ErrNotFound) || destination.CauseOf(err) == queue.Misplaced &&
		t.d.Kind == plan.Folder)
}

// makeRoot makes the destination's own folder, from the one above it.
func (t *trial) makeRoot(ctx context.Context) error {
	above, name := above(t.d)
	if name == "" {
		return &destination.Error{Cause: queue.Misplaced, Says: t.d.Where() + " cannot be made from here"}
	}
	driver, err := open(above, t.secret)
	if err != nil {
		return err
	}
	defer driver.Close()
	return driver.(destination.Browser).MakeFolder(ctx, name) // every driver is one
}

// above is the destination whose folder holds that of d, and the name there.
func above(d plan.Destination) (plan.Destination, string) {
	cut := func(s string) (string, string) {
		s = strings.TrimSuffix(s, "/")
		i := strings.LastIndex(s, "/")
		return s[:i+1], s[i+1:]
	}
	name := ""
	switch d.Kind {
	case plan.WebDAV:
		u, err := url.Parse(d.URL)
		if err != nil {
			return d, ""
		}
		u.Path, name = cut(u.Path)
		u.RawPath = ""
		d.URL = u.String()
	case plan.Folder:
		d.Path, name = cut(d.Path)
	case plan.SFTP:
		d.Path, name = "", strings.TrimSuffix(d.Path, "/")
		if strings.HasPrefix(name, "/") {
			d.Path, name = "/", strings.TrimPrefix(name, "/")
		}
	}
	return d, name
}

func who(d plan.Destination) string {
	if d.User == "" {
		return "everybody"
	}
	return d.User
}

// large is the size from which a send must be able to go on: what a trial sends
// to see that.
const large = 20 << 20

// use writes, reads back, puts in place, cuts a send and goes on, and removes
// all of it.
func (t *trial) use(ctx context.Context) (ok bool) {
	content := []byte("Yard Tide tries this storage and removes this again.\n" + rand.Text() + "\n")
	first, second, third := destination.NewTemp("trial"), destination.NewTemp("trial"), destination.NewTemp("trial")
	b := t.driver.(destination.Browser) // enter has seen that it is one
	_, err := b.List(ctx, destination.TempDir)
	fresh := errors.Is(err, destination.ErrNotFound)
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		var err error
		for _, p := range []string{first, second, third} {
			err = errors.Join(err, t.driver.Remove(ctx, p))
		}
		if err == nil && fresh {
			err = b.Tidy(ctx)
		}
		ok = t.step("tidied", err, "Nothing of the trial is left.") && ok
	}()
	put := func(p string) error { return t.driver.Put(ctx, p, bytes.NewReader(content), 0, int64(len(content))) }
	if !t.step("write", put(first), "A file of %d bytes was written.", len(content)) {
		return false
	}
	back, err := t.read(ctx, first)
	if err == nil && !bytes.Equal(back, content) {
		err = &destination.Error{Cause: queue.Different, Says: "it gives back other bytes than were written"}
	}
	if !t.step("read back", err, "The same bytes came back.") {
		return false
	}
	if !t.step("rename", t.driver.Publish(ctx, first, third), "A file can be put in place in one step.") {
		return false
	}
	if err = put(second); err == nil {
		if err = t.driver.Publish(ctx, second, third); err == nil {
			err = &destination.Error{Cause: queue.Misplaced,
				Says: "it writes over a file that is there; nothing can be trusted to it"}
		} else if errors.Is(err, destination.ErrExists) {
			err = nil
		}
	}
	if !t.step("no overwrite", err, "A file that is there is not written over.") {
		return false
	}
	return t.space(ctx) && t.resume(ctx, second)
}

func (t *trial) read(ctx context.Context, p string) ([]byte, error) {
	r, err := t.driver.Open(ctx, p)
	if err != nil {
		return nil, err
	}
	back, err := io.ReadAll(io.LimitReader(r, 1<<20))
	if cerr := r.Close(); err == nil {
		err = cerr
	}
	return back, err
}

// resumeTime is how long a trial may take to see whether a send can go on.
const resumeTime = 30 * time.Second

// errCut cuts the send of a trial.
var errCut = errors.New("cut by the trial")

// cutReader ends in the middle.
type cutReader struct{ n int64 }

func (c *cutReader) Read(p []byte) (int, error) {
	if c.n <= 0 {
		return 0, errCut
	}
	n := int(min(int64(len(p)), c.n))
	clear(p[:n])
	c.n -= int64(n)
	return n, nil
}

type zeros struct{}

func (zeros) ReadAt(p []byte, _ int64) (int, error) { clear(p); return len(p), nil }

// resume cuts a large send and looks what is left to build on.
func (t *trial) resume(ctx context.Context, temp string) bool {
	r, able := t.driver.(destination.Resumer)
	if !able {
		return t.step("resume", nil, "A send that is cut begins anew.")
	}
	if t.result.Space != nil && t.result.Space.Free < 3*large {
		return t.step("resume", nil, "Not tried: there is too little room to send a large file.")
	}
	slow, cancel := context.WithTimeout(ctx, resumeTime)
	defer cancel()
	began := time.Now()
	err := t.driver.Put(slow, temp, &cutReader{n: large - 1<<20}, 0, large)
	if slow.Err() != nil && ctx.Err() == nil {
		return t.step("resume", nil, "Not tried: the line is too slow to send a large file in %s.", resumeTime)
	}
	if !errors.Is(err, errCut) {
		return t.step("resume", err, "")
	}
	t.result.Rate = int64((large - 1<<20) / max(time.Since(began).Seconds(), 0.001))
	kept, err := r.Kept(ctx, temp, zeros{}, large)
	if err == nil && kept == 0 {
		return t.step("resume", nil, "A send that is cut begins anew: this server does not let it go on.")
	}
	return t.step("resume", err, "A send that is cut goes on: %s of %s were still there.", words.Bytes(kept),
		words.Bytes(large-1<<20))
}

func (t *trial) space(ctx context.Context) bool {
	space := destination.Space{Free: -1, Used: -1}
	var err error
	if s, able := t.driver.(destination.Spacer); able {
		space, err = s.Space(ctx)
	}
	switch {
	case err != nil:
		return t.step("free space", err, "")
	case space.Free < 0 && t.d.Size > 0:
		return t.step("free space", nil, "This storage does not tell; the plan states a size of %s.",
			words.Bytes(int64(t.d.Size)))
	case space.Free < 0:
		return t.step("free space", nil, "This storage does not tell; state its size in the plan (size: 500 GB).")
	}
	told := wire.Space(space)
	t.result.Space = &told
	return t.step("free space", nil, "%s are free.", words.Bytes(space.Free))
}

package webdav

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// This file has what not every WebDAV server can do: going on in a file, and
// locks. What a server says of itself is not relied on: it is tried.

// ability is what a server was found to be able to do.
type ability struct {
	mu    sync.Mutex
	tried bool
	able  bool
}

// segment is how much goes up in one request where a send can go on.
const segment = 16 << 20

// knowsRanges tries, once a driver, whether a PUT with Content-Range writes
// into the file that is there and nowhere else. Some servers take the range for
// the whole file (RFC 9110, 14.5, warns of them).
func (d *Driver) knowsRanges(ctx context.Context, temp string) (bool, error) {
	d.ranges.mu.Lock()
	defer d.ranges.mu.Unlock()
	if d.ranges.tried {
		return d.ranges.able, nil
	}
	trial := temp + ".trial"
	put := func(content string, header string) (int, error) {
		res, err := d.do(ctx, http.MethodPut, trial, strings.NewReader(content), func(r *http.Request) {
			if header != "" {
				r.Header.Set("Content-Range", header)
			}
		})
		if err != nil {
			return 0, err
		}
		drain(res)
		return res.StatusCode, nil
	}
	able := false
	code, err := put("ebb and flow", "")
	if err == nil && code/100 == 2 {
		if code, err = put("FLOOD", "bytes 8-12/13"); err == nil && code/100 == 2 {
			able, err = d.holds(ctx, trial, "ebb and FLOOD")
		}
	}
	if rerr := d.Remove(ctx, trial); err == nil {
		err = rerr
	}
	if err != nil {
		return false, err
	}
	d.ranges.tried, d.ranges.able = true, able
	return able, nil
}

func (d *Driver) holds(ctx context.Context, p, want string) (bool, error) {
	r, err := d.Open(ctx, p)
	if errors.Is(err, destination.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	there, err := io.ReadAll(io.LimitReader(r, 1<<10))
	if cerr := r.Close(); err == nil {
		err = cerr
	}
	return string(there) == want, err
}

// Kept implements destination.Resumer.
func (d *Driver) Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error) {
	if size <= segment {
		return 0, nil
	}
	length, err := d.Size(ctx, temp)
	if errors.Is(err, destination.ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	if able, err := d.knowsRanges(ctx, temp); err != nil || !able {
		return 0, err
	}
	return destination.KeptTail(remote{ctx, d, temp}, length, local, size)
}

// Resumes implements destination.Resumer.
func (d *Driver) Resumes() bool {
	d.ranges.mu.Lock()
	defer d.ranges.mu.Unlock()
	return d.ranges.able
}

// remote reads parts of a file at the storage.
type remote struct {
	ctx context.Context
	d   *Driver
	p   string
}

// ReadAt implements io.ReaderAt by a range request (RFC 9110, 14.2).
func (r remote) ReadAt(p []byte, at int64) (int, error) {
	res, err := r.d.do(r.ctx, http.MethodGet, r.p, nil, func(req *http.Request) {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", at, at+int64(len(p))-1))
	})
	if err != nil {
		return 0, err
	}
	defer drain(res)
	if res.StatusCode != http.StatusPartialContent {
		return 0, status("reading what was sent", res)
	}
	return io.ReadFull(res.Body, p)
}

// lockName is the file that is locked while something is put in place. It lies
// beside those on their way: a lock on a name that is still free would make an
// empty file of that name.
const lockName = "lock"

// Of the lock: how long it lasts if its holder dies, how long another waits for
// it, how long it is held over what is put in place one after the other, how
// long with nothing to put in place, and how long it is then left to others.
const (
	lockLife  = 8 * time.Second
	lockWait  = 20 * time.Second
	leaseLife = 3 * time.Second
	leaseIdle = 200 * time.Millisecond
	lockPoll  = 50 * time.Millisecond
)

const lockAsk = `<?xml version="1.0"?><lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`

// lease is the lock at the server (RFC 4918, 6), held over many files that are
// put in place: to ask for every file would cost two requests more, and some
// servers lose locks that are asked for often and side by side.
type lease struct {
	turn  chan struct{} // has room for one: who filled it may use the rest
	token string        // "" while it is not held
	since time.Time
	users int
	freed chan struct{} // closed when it is let go of
	again time.Time     // not asked for before: others' turn
	idle  *time.Timer
}

func (l *lease) old() bool { return time.Since(l.since) >= leaseLife }

// enter takes the server's lock, or joins who has it in this process; what is
// returned leaves it. On a server without locks it does nothing.
func (d *Driver) enter(ctx context.Context) (func(), error) {
	l := &d.lease
	for {
		select {
		case l.turn <- struct{}{}:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
		if l.token == "" || !l.old() {
			break
		}
		freed := l.freed
		if l.users == 0 {
			d.letGo()
		}
		<-l.turn
		select {
		case <-freed:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
	defer func() { <-l.turn }()
	if l.token == "" {
		if err := pause(ctx, time.Until(l.again)); err != nil {
			return nil, err
		}
		token, err := d.lockAt(ctx, destination.TempDir+"/"+lockName)
		if err != nil || token == "" {
			return func() {}, err
		}
		l.token, l.since, l.freed = token, time.Now(), make(chan struct{})
	}
	l.users++
	return d.leave, nil
}

func (d *Driver) leave() {
	l := &d.lease
	l.turn <- struct{}{}
	defer func() { <-l.turn }()
	l.users--
	switch {
	case l.users > 0:
	case l.old():
		d.letGo()
	case l.idle == nil:
		l.idle = time.AfterFunc(leaseIdle, d.end)
	default:
		l.idle.Reset(leaseIdle)
	}
}

// end lets go of the lock if nothing is being put in place.
func (d *Driver) end() {
	d.lease.turn <- struct{}{}
	defer func() { <-d.lease.turn }()
	if d.lease.users == 0 && d.lease.token != "" {
		d.letGo()
	}
}

// letGo unlocks. The caller has the turn. A lock that cannot be let go of ends
// by itself.
func (d *Driver) letGo() {
	l := &d.lease
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for range 3 {
		res, err := d.do(ctx, "UNLOCK", destination.TempDir+"/"+lockName, nil, func(r *http.Request) { r.Header.Set("Lock-Token", l.token) })
		if err == nil {
			drain(res)
			if res.StatusCode/100 != 5 {
				break
			}
		}
	}
	l.token, l.again = "", time.Now().Add(lockPoll+10*time.Millisecond)
	close(l.freed)
}

func pause(ctx context.Context, t time.Duration) error {
	if t <= 0 {
		return nil
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(t):
		return nil
	}
}

// lockAt takes a lock at the server; the token is "" where it has none.
func (d *Driver) lockAt(ctx context.Context, file string) (string, error) {
	d.locks.mu.Lock()
	none := d.locks.tried && !d.locks.able
	d.locks.mu.Unlock()
	if none {
		return "", nil
	}
	for deadline := time.Now().Add(lockWait); ; {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		// The question is not cut short: a lock whose token is lost lasts.
		asking, cancel := context.WithTimeout(context.WithoutCancel(ctx), lockLife)
		res, err := d.do(asking, "LOCK", file, strings.NewReader(lockAsk), func(r *http.Request) {
			r.Header.Set("Timeout", fmt.Sprintf("Second-%d", int(lockLife.Seconds())))
			r.Header.Set("Depth", "0")
			r.Header.Set("Content-Type", "application/xml")
		})
		if err != nil {
			cancel()
			return "", err
		}
		drain(res)
		cancel()
		token := res.Header.Get("Lock-Token")
		switch code := res.StatusCode; {
		case code/100 == 2 && token != "":
			d.tried(true)
			return token, nil
		case code == http.StatusLocked && time.Now().Before(deadline):
			if err := pause(ctx, lockPoll); err != nil {
				return "", err
			}
		case code == http.StatusLocked:
			return "", &destination.Error{Cause: queue.Busy, Says: "somebody else puts something in place and does not end"}
		case code == http.StatusConflict, code == http.StatusUnauthorized, code == http.StatusTooManyRequests, code/100 == 5 && code != http.StatusNotImplemented:
			return "", status("locking", res)
		default: // it has no locks
			d.tried(false)
			return "", nil
		}
	}
}

func (d *Driver) tried(able bool) {
	d.locks.mu.Lock()
	defer d.locks.mu.Unlock()
	d.locks.tried, d.locks.able = true, able
}

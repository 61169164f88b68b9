package webdav

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
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

// lockName begins the names of the files that are locked while something is
// put in place.
const lockName = "lock-"

// Of locks: how long one lasts if its holder dies, and how long another waits.
const (
	lockLife = 8 * time.Second
	lockWait = 20 * time.Second
)

const lockAsk = `<?xml version="1.0"?><lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`

// lock takes the lock of a final name and returns what lets go of it: in this
// process, and by RFC 4918 at the server if that has locks. What is locked
// there is a file beside those on their way, one for many names: a lock on a
// name that is still free would make an empty file of that name.
func (d *Driver) lock(ctx context.Context, name string) (func(), error) {
	h := fnv.New32a()
	_, _ = io.WriteString(h, name) // a hash takes everything
	i := h.Sum32() % uint32(len(d.publishing))
	d.publishing[i].Lock()
	file := fmt.Sprintf("%s/%s%x", destination.TempDir, lockName, i)
	token, err := d.lockAt(ctx, file)
	if err != nil {
		d.publishing[i].Unlock()
		return nil, err
	}
	return func() {
		defer d.publishing[i].Unlock()
		if token != "" {
			d.unlock(context.WithoutCancel(ctx), file, token)
		}
	}, nil
}

// unlock lets go of a lock. One that cannot be let go of ends by itself.
func (d *Driver) unlock(ctx context.Context, file, token string) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	for range 3 {
		res, err := d.do(ctx, "UNLOCK", file, nil, func(r *http.Request) { r.Header.Set("Lock-Token", token) })
		if err == nil {
			drain(res)
			if res.StatusCode/100 != 5 {
				return
			}
		}
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
			select {
			case <-ctx.Done():
				return "", context.Cause(ctx)
			case <-time.After(50 * time.Millisecond):
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

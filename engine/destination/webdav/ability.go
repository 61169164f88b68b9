package webdav

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"

	"yardtide/engine/destination"
)

// This file has what not every WebDAV server can do: going on in a file. What a
// server says of itself is not relied on: it is tried.

// ability is what a server was found to be able to do.
type ability struct {
	trying chan struct{} // has room for one: who filled it finds out
	tried  atomic.Bool
	able   atomic.Bool // once tried
}

// segment is how much goes up in one request where a send can go on.
const segment = 16 << 20

// knowsRanges tries, once a driver, whether a PUT with Content-Range writes
// into the file that is there and nowhere else. Some servers take the range for
// the whole file (RFC 9110, 14.5, warns of them).
func (d *Driver) knowsRanges(ctx context.Context, temp string) (bool, error) {
	if d.ranges.tried.Load() {
		return d.ranges.able.Load(), nil
	}
	select {
	case d.ranges.trying <- struct{}{}:
		defer func() { <-d.ranges.trying }()
	case <-ctx.Done():
		return false, context.Cause(ctx)
	}
	if d.ranges.tried.Load() { // by who was before
		return d.ranges.able.Load(), nil
	}
	able, sure, err := d.tryRanges(ctx, temp)
	if err != nil || !sure {
		return false, err
	}
	d.ranges.able.Store(able)
	d.ranges.tried.Store(true)
	return able, nil
}

// tryRanges is the trial; sure is false where the server failed in a way that says nothing of
// its ability, as when it was busy.
func (d *Driver) tryRanges(ctx context.Context, temp string) (able, sure bool, err error) {
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
	code, err := put("ebb and flow", "")
	if err == nil && code/100 == 2 {
		code, err = put("FLOOD", "bytes 8-12/13")
		sure = code/100 == 4 && code != http.StatusTooManyRequests || code == http.StatusNotImplemented
		if err == nil && code/100 == 2 {
			able, err = d.holds(ctx, trial, "ebb and FLOOD")
			sure = true
		}
	}
	if rerr := d.Remove(ctx, trial); err == nil {
		err = rerr
	}
	return able, sure, err
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
func (d *Driver) Resumes() bool { return d.ranges.able.Load() }

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

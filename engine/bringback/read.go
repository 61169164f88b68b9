package bringback

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"

	"yardtide/engine/destination"
	"yardtide/engine/work"
)

// Read reads a file from the first place that answers. What is read is held against the hash that was proven: with another
// content the last of it never comes, and the error says so.
func Read(ctx context.Context, copies []At, driver func(name string) (destination.Driver, error)) (io.ReadCloser, At, error) {
	why := ErrNoCopy
	for _, c := range copies {
		d, err := driver(c.Destination)
		if err == nil {
			var r io.ReadCloser
			if r, err = d.Open(ctx, c.Path); err == nil {
				return &verified{from: work.Until(ctx, r), Closer: r, sum: sha256.New(), is: c}, c, nil
			}
		}
		if ctx.Err() != nil {
			return nil, c, context.Cause(ctx)
		}
		why = fmt.Errorf("%w; %s: %s", why, c.Destination, destination.Sentence(err))
	}
	return nil, At{}, why
}

// verified is a file that is read from a place.
type verified struct {
	from io.Reader
	io.Closer
	sum hash.Hash
	is  At
	n   int64
}

// Read implements io.Reader.
func (v *verified) Read(p []byte) (int, error) {
	left := v.is.Bytes - v.n
	if left == 0 {
		return 0, io.EOF
	}
	n, err := v.from.Read(p[:min(int64(len(p)), left)])
	v.sum.Write(p[:n])
	if v.n += int64(n); v.n == v.is.Bytes && hex.EncodeToString(v.sum.Sum(nil)) != v.is.SHA256 {
		return 0, fmt.Errorf("%s: %w: its hash is another", v.is.Destination, errDifferent)
	}
	if err == io.EOF && v.n < v.is.Bytes {
		return n, fmt.Errorf("%s: %w: it has only %d bytes", v.is.Destination, errDifferent, v.n)
	}
	if err == io.EOF {
		err = nil // the next call tells
	}
	return n, err
}

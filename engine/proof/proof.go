// Package proof tells whether what lies at a storage has the hash that it is to have:
// by the storage's own word, or by reading it back. What follows from it is not
// decided here.
package proof

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"yardtide/engine/destination"
	"yardtide/engine/work"
)

// ErrUnread tells that a proof would have to be read back, which was not allowed.
var ErrUnread = errors.New("the storage cannot tell its hash")

// Take proves that a path has the content with a hash: by one that the
// storage computed, else by reading it back, if that is allowed. With anew a
// hash that was kept since the file was written does not count. It returns the
// way.
func Take(ctx context.Context, d destination.Driver, path, sum string, bytes int64, mayRead,
	anew bool) (string, error) {
	if p, able := d.(destination.Prover); able && (p.ProvesAnew() || !anew) {
		if way, err := p.Prove(ctx, path, sum, bytes); err != nil || way != "" {
			return way, err
		}
	}
	if !mayRead {
		return "", ErrUnread
	}
	if bytes > unasked {
		if n, err := d.Size(ctx, path); err != nil {
			return "", err
		} else if n != bytes {
			return "", destination.Differs(path)
		}
	}
	there, err := Read(ctx, d, path, bytes)
	if err != nil {
		return "", err
	}
	if there != sum {
		return "", destination.Differs(path)
	}
	return ReadBack, nil
}

// unasked is the size in bytes up to which a length isn't asked for before it is read back:
// reading tells it, and another length costs little.
const unasked = 256 << 10

// Read reads back what lies at a path and tells its hash.
func Read(ctx context.Context, d destination.Driver, path string, bytes int64) (string, error) {
	r, err := d.Open(ctx, path)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	// No more than it should be and one byte: a storage may never end.
	_, err = io.CopyBuffer(h, io.LimitReader(work.Until(ctx, r), bytes+1), make([]byte, min(256<<10, bytes+1)))
	if cerr := r.Close(); err == nil {
		err = cerr
	}
	if cause := context.Cause(ctx); cause != nil {
		return "", cause
	}
	if err != nil {
		return "", fmt.Errorf("reading back %s: %w", path, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Lost is the sentence on what was proven at a path and is there no longer: it is missing, or
// something else lies there.
func Lost(path string, missing bool) string {
	if missing {
		return "What was at " + path + " is no longer at the storage."
	}
	return "What lies at " + path + " is no longer what was proven."
}

// ReadBack is the proof by reading everything back and hashing it.
const ReadBack = "read back, SHA-256"

package destination

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"yardtide/core/queue"
)

// A place is what a destination's name stands for: one folder on one storage. It
// is told by an identity in a small file of its own there, the marker.

// MarkerName is the file that holds a place's identity.
const MarkerName = ".yardtide-marker"

// RecordDir is the folder at a place that holds the open records, one folder a device.
const RecordDir = "records"

// maxMarker bounds what is read of a marker.
const maxMarker = 64

// ReadMarker reads a place's identity, "" where there is none.
func ReadMarker(ctx context.Context, d Driver) (id string, err error) {
	text, err := readMarker(ctx, d, MarkerName)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return ParseMarker([]byte(text))
}

func readMarker(ctx context.Context, d Driver, path string) (string, error) {
	r, err := d.Open(ctx, path)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(io.LimitReader(r, MaxMarker))
	if cerr := r.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return "", fmt.Errorf("reading the marker: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// MakeMarker puts a marker with an identity at a place that has none; with one
// there, the error is ErrExists.
func MakeMarker(ctx context.Context, d Driver, owner, id string) error {
	temp := NewTemp(owner)
	text := id + "\n"
	if err := d.Put(ctx, temp, strings.NewReader(text), 0, int64(len(text))); err != nil {
		return err
	}
	// A storage may damage what it is given: a marker that nobody can read would
	// hold everything until a person took it away.
	kept, err := readMarker(ctx, d, temp)
	if errors.Is(err, ErrNotFound) || err == nil && kept != id {
		err = &Error{Cause: queue.Different, Says: "the storage did not keep the marker of its place as it was sent"}
	}
	if err == nil {
		err = d.Publish(ctx, temp, MarkerName)
	}
	if errors.Is(err, ErrExists) || CauseOf(err) == queue.Different {
		return errors.Join(err, d.Remove(ctx, temp))
	}
	return err
}

// NewIdentity makes an identity for a place.
func NewIdentity() string { return random(8) }

func random(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	return hex.EncodeToString(b)
}

// Connected is a storage that tells when something else may answer at its
// address than before.
type Connected interface {
	// Connection changes with every connection that is made.
	Connection() uint64
}

// ConnectionOf is a driver's Connection, always the same for one that has none.
func ConnectionOf(d Driver) uint64 {
	if c, able := d.(Connected); able {
		return c.Connection()
	}
	return 0
}

// Stamper is a storage that tells a file from a copy of it.
type Stamper interface {
	// Stamp is something that a file keeps as long as it lies where it was made,
	// and that a copy of it does not have.
	Stamp(ctx context.Context, path string) (string, error)
}

// Anchor tells one place from all others.
type Anchor struct {
	ID    string // the marker's identity
	Stamp string // the marker's stamp, "" for any
	// Put is the path of the counter of what was put there (see Counter), and Least the
	// number below which a place is an older copy of the one that is meant.
	Put   string
	Least int64
}

// Anchorer is a storage on which a driver can be tied to one place.
type Anchorer interface {
	// Anchor returns a driver of the same storage that works at one place only: each
	// call looks at the marker through the very handle that the call works with, and at the
	// counter, unless a call beside it read the counter within a second. It fails with cause
	// queue.Elsewhere at any other place.
	Anchor(at Anchor) Driver
	Counter
}

// Counter is a storage that keeps a number which grows with what is put there. A copy of
// the whole storage, block for block, has the marker of the place and an older number.
type Counter interface {
	// Count reads the number in a file of its own, 0 without one.
	Count(ctx context.Context, path string) (int64, error)
	// SetCount writes the number, in one step and down to the disk.
	SetCount(ctx context.Context, path string, n int64) error
}

// AnchorTo ties a driver to a place, where the storage is able to.
func AnchorTo(d Driver, at Anchor) Driver {
	if a, able := d.(Anchorer); able && at.ID != "" {
		return a.Anchor(at)
	}
	return d
}

// ParseMarker returns the identity in a marker's text; the error is of cause
// queue.Misplaced for a text that is none.
func ParseMarker(text []byte) (string, error) {
	id := strings.TrimSpace(string(text))
	if id == "" || len(id) > maxMarker || strings.ContainsFunc(id, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "", &Error{Cause: queue.Misplaced, Says: "the file " + MarkerName +
			" there is not a marker of a place; put the right one back, or remove it"}
	}
	return id, nil
}

// MaxMarker bounds what is read of a marker, in bytes.
const MaxMarker = maxMarker + 2

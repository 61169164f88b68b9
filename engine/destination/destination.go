// Package destination is the face of storage: the few calls that every storage
// can answer, abilities beside them, and errors told apart by what mends them.
// The drivers lie below it; destinationtest.Run holds each against the same
// promises.
package destination

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"yardtide/core/queue"
)

// Driver reaches one storage. Paths are relative, parts parted by slashes, as
// core/naming makes them. All methods are safe for concurrent use, obey the
// context, and fail with an *Error. Nothing at a storage is opened through a link.
type Driver interface {
	// Put writes a file of exactly size bytes under a temporary name (see
	// Temp). body holds its bytes from offset from on: 0 writes in place of what
	// an earlier try left there, any other is what Resumer.Kept told. After an
	// error the name may hold anything, and a server may write there later what it was
	// sent before: what is sent again from its first byte gets another temporary name. The
	// body is not read any more once Put has returned.
	Put(ctx context.Context, temp string, body io.Reader, from, size int64) error
	// Publish puts a temporary file in place in one step, making folders on
	// the way. It never overwrites: if something has the name, the error is
	// ErrExists and the temporary file stays.
	Publish(ctx context.Context, temp, path string) error
	// Size tells the length of the file at path, ErrNotFound without one.
	Size(ctx context.Context, path string) (int64, error)
	// Open reads the file at path, ErrNotFound without one.
	Open(ctx context.Context, path string) (io.ReadCloser, error)
	// Remove takes a temporary file away; nothing there is no error. Other
	// names are refused.
	Remove(ctx context.Context, temp string) error
	// Withdraw takes what lies at path out of there, to a temporary name under which
	// nothing lies: what is removed is looked at there, where nobody else writes.
	// ErrNotFound without one; links are refused.
	Withdraw(ctx context.Context, path, temp string) error
	// Close lets go of connections.
	Close() error
}

// Resumer is a storage on which a send that was cut can go on.
type Resumer interface {
	// Kept tells how many bytes an earlier Put left under a temporary name that
	// the next can build on: what is there was compared with local, the whole
	// file of size bytes. 0 is none. At most Compared bytes are read back.
	Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error)
	// Resumes tells whether a large file goes on after a cut; false also while
	// that is not known.
	Resumes() bool
}

// Prover is a storage that computes a hash of what it holds.
type Prover interface {
	// Prove compares the file at path with a SHA-256 (hex) and its size. way is
	// how it was proven, for people; "" when the storage cannot tell of this
	// file, which is then read back. The error is ErrNotFound when nothing is
	// there and of cause queue.Different when something else is.
	Prove(ctx context.Context, path, sha256 string, size int64) (way string, err error)
	// ProvesAnew tells whether the hash is computed when it is asked for, and
	// not kept since the file was written: only then does it show what befell
	// the file later.
	ProvesAnew() bool
}

// Copier is a storage that copies a file by itself.
type Copier interface {
	// Copy writes what lies at path under a temporary name; ErrNotFound without one,
	// ErrUnable where this storage cannot after all.
	Copy(ctx context.Context, path, temp string) error
}

// Ranger is a storage from which a file can be read from an offset on.
type Ranger interface {
	// OpenFrom reads the file at path from an offset on, which is not beyond its end; ErrNotFound without one.
	OpenFrom(ctx context.Context, path string, from int64) (io.ReadCloser, error)
}

// Placer is a storage that takes a small file under its own name in one step.
type Placer interface {
	// Place puts a file at path: nothing of it lies there before all of it does, whatever is cut, and what
	// has the name is never overwritten (ErrExists). It is ErrUnable where this storage was seen not to
	// keep to that: the file goes under a temporary name then. After any other error a transport may read
	// the content still. sum is the content's SHA-256, in hex.
	Place(ctx context.Context, path string, content []byte, sum string) error
}

// Dater is a storage on which a file can have the time that it has where it comes from.
type Dater interface {
	// SetTime gives a temporary file a time of its last change.
	SetTime(ctx context.Context, temp string, at time.Time) error
}

// DefaultRights are those of what is put where nothing else is said.
const DefaultRights fs.FileMode = 0o644

type rightsKey struct{}

// WithRights has what is put with a context have the rights of the file that it comes from, and
// no more, where the storage keeps rights: read and write of owner, group and others.
func WithRights(ctx context.Context, rights fs.FileMode) context.Context {
	return context.WithValue(ctx, rightsKey{}, rights.Perm()&0o666|0o600)
}

// Rights are those that WithRights said.
func Rights(ctx context.Context) fs.FileMode {
	if rights, said := ctx.Value(rightsKey{}).(fs.FileMode); said {
		return rights
	}
	return DefaultRights
}

// Browser is a storage whose folders can be looked at.
type Browser interface {
	// List tells what lies in a folder, in no order; ErrNotFound without one.
	// "" is the destination itself.
	List(ctx context.Context, dir string) ([]Entry, error)
	// MakeFolder makes a folder and those on the way; one that is there is no
	// error.
	MakeFolder(ctx context.Context, dir string) error
	// Tidy removes the folder for files on their way if nothing is in it.
	Tidy(ctx context.Context) error
}

// Entry is a file or folder at a storage.
type Entry struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder"`
	Size   int64  `json:"size" doc:"Bytes, 0 for a folder"`
}

// Plain tells whether a storage's name for an entry is one: no path, and not one
// that leads up.
func Plain(name string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\x00")
}

// Spacer is a storage that can tell its space.
type Spacer interface {
	Space(ctx context.Context) (Space, error)
}

// Space is a storage's room in bytes; -1 is not known.
type Space struct {
	Free int64 `json:"free" doc:"Bytes, -1 when the storage does not tell"`
	Used int64 `json:"used" doc:"Bytes, -1 when the storage does not tell"`
}

// Differs is the error of Prove when something else has the path.
func Differs(path string) error {
	return &Error{Cause: queue.Different, Says: "what lies at " + path + " is not what was sent"}
}

// CheckLength sees that a storage kept a file of size bytes, as it said it did.
func CheckLength(ctx context.Context, d Driver, temp string, size int64) error {
	n, err := d.Size(ctx, temp)
	if errors.Is(err, ErrNotFound) {
		return &Error{Cause: queue.Different, Says: "the storage acknowledged the file and does not have it"}
	}
	if err == nil && n != size {
		return &Error{Cause: queue.Different, Says: fmt.Sprintf("the storage kept %d of %d bytes", n, size)}
	}
	return err
}

// PartLost is the error of Put when what it was to build on is gone.
func PartLost() error {
	return &Error{Cause: queue.Busy, Says: "the storage lost what had been sent of the file"}
}

// TempDir is the folder at a destination that holds files on their way.
const TempDir = ".yardtide"

// NewTemp makes a temporary name that nobody can guess, with the owner's name
// before it, so that it finds what it left.
func NewTemp(owner string) string { return TempDir + "/" + owner + "-" + random(16) + ".part" }

// The answers that a caller decides on.
var (
	ErrNotFound = errors.New("there is nothing of that name")
	ErrExists   = errors.New("there is something of that name already")
	ErrUnable   = errors.New("the storage cannot do that")
)

// NewWithdrawn makes a temporary name for what is taken out of its place. What cleans up
// after an owner never takes it for its own: it may be anybody's.
func NewWithdrawn(owner string) string {
	return TempDir + "/out-" + owner + "-" + random(16) + Withdrawn
}

// Withdrawn ends those names.
const Withdrawn = ".out"

// Error is a failure at a storage with its cause.
type Error struct {
	Cause queue.Cause
	// Says is the reason for people, without secrets.
	Says string
	// RetryAfter is what the storage asked for, or 0.
	RetryAfter time.Duration
	Err        error
}

func (e *Error) Error() string {
	if e.Err == nil {
		return e.Says
	}
	return e.Says + " (" + e.Err.Error() + ")"
}

func (e *Error) Unwrap() error { return e.Err }

// Sentence is an error's reason for people.
func Sentence(err error) string {
	says := err.Error()
	var own *Error
	switch {
	case errors.As(err, &own):
		says = own.Says
	case errors.Is(err, ErrNotFound):
		says = "it is not there"
	}
	if says == "" {
		return "It failed."
	}
	// A name or an address at the beginning stays as it is written.
	if first, _, _ := strings.Cut(says, " "); strings.ContainsFunc(first,
		func(r rune) bool { return r != '\'' && r != ',' && (r < 'a' || r > 'z') }) {
		return says + "."
	}
	return strings.ToUpper(says[:1]) + says[1:] + "."
}

// CauseOf tells the cause of any error: that of an *Error, or Bug.
func CauseOf(err error) queue.Cause {
	var e *Error
	if errors.As(err, &e) {
		return e.Cause
	}
	return queue.Bug
}

// Package sftp is the driver for storage reached by SSH file transfer (the
// draft draft-ietf-secsh-filexfer-02 that servers speak, with OpenSSH's
// extensions for hard links, free space and fsync).
//
// The server's host key is pinned: another one is never talked to. A file is
// put in place with a hard link, which never overwrites. One connection is
// shared and made anew after it was lost.
package sftp

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// Options say where the storage is and how to sign in.
type Options struct {
	Address  string // host:port
	Path     string // of the folder that copies go into; relative to the user's home
	User     string
	HostKey  string                 // its fingerprint, "SHA256:…" as ssh-keygen -l prints it
	Password func() (string, error) // nil without one
	Key      func() ([]byte, error) // a private key in PEM; nil without one
	Stall    time.Duration          // how long nothing may move, 60 s when zero
}

// Driver implements destination.Driver.
type Driver struct{ *line }

var _ destination.Driver = (*Driver)(nil)
var _ destination.Spacer = (*Driver)(nil)
var _ destination.Resumer = (*Driver)(nil)
var _ destination.Prover = (*Driver)(nil)
var _ destination.Browser = (*Driver)(nil)
var _ destination.Connected = (*Driver)(nil)

// New makes a driver; it does not connect yet.
func New(o Options) *Driver {
	return &Driver{newLine(o)}
}

// Put implements destination.Driver.
func (d *Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	f, err := d.temporary(ctx, client, temp, from)
	if err != nil {
		return err
	}
	source := destination.NewBody(ctx, body, size-from)
	n, err := ask(ctx, d.line, func() (int64, error) {
		n, err := f.ReadFromWithConcurrency(source, inFlight)
		if _, can := client.HasExtension("fsync@openssh.com"); err == nil && can {
			err = f.Sync()
		}
		if cerr := f.Close(); err == nil {
			err = cerr
		}
		return n, err
	})
	_, own := source.Stop()
	switch {
	case own != nil:
		return own
	case err != nil:
		return d.failureOf(ctx, client, "sending", err, size)
	case n != size-from:
		return io.ErrUnexpectedEOF
	}
	return destination.CheckLength(ctx, d, temp, size)
}

// temporary makes a temporary file, or with from above 0 opens the one that is
// there. A file that is made is new: what has its name already, a link among
// it, is removed.
func (d *Driver) temporary(ctx context.Context, client *sftp.Client, temp string, from int64) (*sftp.File, error) {
	if err := d.tempFolder(ctx, client); err != nil {
		return nil, err
	}
	open := func() (*sftp.File, error) {
		return ask(ctx, d.line, func() (*sftp.File, error) {
			if from > 0 {
				return d.openRegular(client, temp, os.O_WRONLY)
			}
			const anew = os.O_WRONLY | os.O_CREATE | os.O_EXCL
			f, err := client.OpenFile(d.remote(temp), anew)
			if err == nil || errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission) {
				return f, err
			}
			if rerr := client.Remove(d.remote(temp)); rerr != nil { // the protocol has no word for what is there
				return nil, err
			}
			return client.OpenFile(d.remote(temp), anew)
		})
	}
	f, err := open()
	if from > 0 && errors.Is(err, os.ErrNotExist) {
		return nil, destination.PartLost()
	}
	if errors.Is(err, os.ErrNotExist) { // somebody removed the folder for files on their way
		d.forget()
		if err = d.tempFolder(ctx, client); err == nil {
			f, err = open()
		}
	}
	if err != nil {
		return nil, d.failure(ctx, client, "making the temporary file", err)
	}
	if from == 0 { // it is new, and empty
		return f, nil
	}
	lost, err := ask(ctx, d.line, func() (bool, error) { return destination.GoOn(f, from) })
	if err != nil {
		d.letGo(f)
		return nil, d.failure(ctx, client, "preparing the temporary file", err)
	}
	if lost {
		d.letGo(f)
		return nil, destination.PartLost()
	}
	return f, nil
}

// tempFolder makes the folder for files on their way, in the storage's own that must be there.
func (d *Driver) tempFolder(ctx context.Context, client *sftp.Client) error {
	d.mu.Lock()
	known := d.folders[destination.TempDir]
	d.mu.Unlock()
	if known {
		return nil
	}
	if info, err := ask(ctx, d.line, func() (os.FileInfo, error) { return client.Stat(d.base()) }); errors.Is(err,
		os.ErrNotExist) || err == nil && !info.IsDir() {
		return &destination.Error{Cause: queue.Misplaced, Says: "the storage has no folder " + d.base(), Err: err}
	}
	return d.makeFolders(ctx, client, destination.TempDir)
}

// letGo closes a file without waiting for the server.
func (d *Driver) letGo(f *sftp.File) {
	d.watching.Go(func() { _ = f.Close() }) // nothing of it is of use
}

// openRegular opens a file that is none but a regular one, and no link. The
// server cannot be asked not to follow one: its name is looked at first.
func (d *Driver) openRegular(client *sftp.Client, p string, how int) (*sftp.File, error) {
	info, err := client.Lstat(d.remote(p))
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, notAFile(p, info)
	}
	return client.OpenFile(d.remote(p), how)
}

func notAFile(p string, info os.FileInfo) error {
	if info.Mode()&os.ModeSymlink != 0 {
		return &destination.Error{Cause: queue.Refused, Says: "at the storage, " + p +
			" is a link; nothing is written or read through one"}
	}
	return &destination.Error{Cause: queue.Refused, Says: "what lies at " + p + " is not a file"}
}

// Kept implements destination.Resumer: writes go out of order within a window
// that is smaller than what is sent again.
func (d *Driver) Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error) {
	client, err := d.connect(ctx)
	if err != nil {
		return 0, err
	}
	kept, err := ask(ctx, d.line, func() (int64, error) {
		f, err := d.openRegular(client, temp, os.O_RDONLY)
		if err != nil {
			return 0, err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return 0, err
		}
		return destination.KeptTail(f, info.Size(), local, size)
	})
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, d.failure(ctx, client, "reading the temporary file", err)
	}
	return kept, nil
}

// Prove implements destination.Prover with sha256sum, where the server lets the
// user run programs.
func (d *Driver) Prove(ctx context.Context, p, sum string, size int64) (string, error) {
	n, err := d.Size(ctx, p)
	if err != nil {
		return "", err
	}
	if n != size {
		return "", destination.Differs(p)
	}
	d.mu.Lock()
	conn, mute := d.conn, d.mute
	d.mu.Unlock()
	if conn == nil || mute {
		return "", nil
	}
	there, err := remoteSum(ctx, conn, d.remote(p))
	if why := context.Cause(ctx); why != nil {
		return "", why
	}
	if err != nil || len(there) != len(sum) { // it may not run programs, or has none: asked once a connection
		d.mu.Lock()
		d.mute = d.mute || d.conn == conn
		d.mu.Unlock()
		return "", nil
	}
	if there != sum {
		return "", destination.Differs(p)
	}
	return "SHA-256 by the storage", nil
}

// ProvesAnew implements destination.Prover.
func (d *Driver) ProvesAnew() bool { return true }

// quoted is a word that a shell takes for nothing else.
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// run runs a program at the server, and tells what it writes.
func run(ctx context.Context, conn *ssh.Client, line string) ([]byte, error) {
	session, err := conn.NewSession()
	if err != nil {
		return nil, err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() }) // ends the wait below
	defer stop()
	return session.Output(line)
}

// remoteSum runs sha256sum at the server. Nothing of the file's name can be
// taken for anything else: it is quoted, and comes after "--".
func remoteSum(ctx context.Context, conn *ssh.Client, file string) (string, error) {
	out, err := run(ctx, conn, "sha256sum -b -- "+quoted(file))
	if err != nil {
		return "", err
	}
	sum, _, _ := strings.Cut(strings.TrimPrefix(string(out), `\`), " ") // the mark of an escaped name
	return sum, nil
}

// List implements destination.Browser.
func (d *Driver) List(ctx context.Context, dir string) ([]destination.Entry, error) {
	client, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	found, err := client.ReadDirContext(ctx, d.remote(dir))
	if err != nil {
		return nil, d.failure(ctx, client, "listing "+dir, err)
	}
	var entries []destination.Entry
	for _, e := range found {
		switch {
		case !destination.Plain(e.Name()):
		case e.IsDir():
			entries = append(entries, destination.Entry{Name: e.Name(), Folder: true})
		case e.Mode().IsRegular():
			entries = append(entries, destination.Entry{Name: e.Name(), Size: e.Size()})
		}
	}
	return entries, nil
}

// MakeFolder implements destination.Browser.
func (d *Driver) MakeFolder(ctx context.Context, dir string) error {
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	return d.makeFolders(ctx, client, dir)
}

// Tidy implements destination.Browser.
func (d *Driver) Tidy(ctx context.Context) error {
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	there, err := client.ReadDirContext(ctx, d.remote(destination.TempDir))
	if errors.Is(err, os.ErrNotExist) || err == nil && len(there) > 0 {
		return nil
	}
	if err == nil {
		err = order(ctx, d.line, func() error { return client.RemoveDirectory(d.remote(destination.TempDir)) })
	}
	if err != nil {
		return d.failure(ctx, client, "removing the folder for files on their way", err)
	}
	d.forget()
	return nil
}

// Resumes implements destination.Resumer.
func (d *Driver) Resumes() bool { return true }

// Publish implements destination.Driver.
func (d *Driver) Publish(ctx context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	for try := 0; ; try++ {
		if err := d.makeFolders(ctx, client, path.Dir(to)); err != nil {
			return err
		}
		if info, err := ask(ctx, d.line, func() (os.FileInfo, error) { return client.Lstat(d.remote(temp)) }); err == nil &&
			!info.Mode().IsRegular() {
			return notAFile(temp, info)
		}
		err := order(ctx, d.line, func() error { return client.Link(d.remote(temp), d.remote(to)) })
		if err == nil {
			if err := order(ctx, d.line, func() error { return client.Remove(d.remote(temp)) }); err != nil {
				return d.failure(ctx, client, "removing the temporary name", err)
			}
			return nil
		}
		there := func(p string) error {
			_, err := ask(ctx, d.line, func() (os.FileInfo, error) { return client.Lstat(d.remote(p)) })
			return err
		}
		if there(to) == nil {
			return destination.ErrExists
		}
		if errors.Is(there(temp), os.ErrNotExist) {
			return destination.ErrNotFound
		}
		if try > 0 {
			return d.failure(ctx, client, "putting the file in place", err)
		}
		d.forget() // a folder on the way may have been removed
	}
}

// Size implements destination.Driver.
func (d *Driver) Size(ctx context.Context, p string) (int64, error) {
	client, err := d.connect(ctx)
	if err != nil {
		return 0, err
	}
	if err := d.noLinks(ctx, client, path.Dir(p)); err != nil {
		return 0, err
	}
	info, err := ask(ctx, d.line, func() (os.FileInfo, error) { return client.Lstat(d.remote(p)) })
	if err != nil {
		return 0, d.failure(ctx, client, "looking at "+p, err)
	}
	if !info.Mode().IsRegular() {
		return 0, notAFile(p, info)
	}
	return info.Size(), nil
}

// Open implements destination.Driver.
func (d *Driver) Open(ctx context.Context, p string) (io.ReadCloser, error) {
	return d.OpenFrom(ctx, p, 0)
}

// OpenFrom implements destination.Ranger.
func (d *Driver) OpenFrom(ctx context.Context, p string, from int64) (io.ReadCloser, error) {
	client, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	if err := d.noLinks(ctx, client, path.Dir(p)); err != nil {
		return nil, err
	}
	f, err := ask(ctx, d.line, func() (*sftp.File, error) { return d.openRegular(client, p, os.O_RDONLY) })
	if err != nil {
		return nil, d.failure(ctx, client, "opening "+p, err)
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil { // it asks the server nothing
		return nil, errors.Join(d.failure(ctx, client, "reading "+p, err), f.Close())
	}
	return destination.ReadBack(&reading{ctx: ctx, d: d, f: f},
		func(err error) error { return d.failure(ctx, client, "reading back", err) }), nil
}

// reading is a file that is being read, until the context ends.
type reading struct {
	ctx context.Context
	d   *Driver
	f   *sftp.File
	own []byte // the library writes into what it is given, also after it was given up
}

func (r *reading) Read(p []byte) (int, error) {
	if len(r.own) < len(p) {
		r.own = make([]byte, len(p))
	}
	own := r.own[:len(p)]
	type part struct {
		n   int
		err error
	}
	got, err := ask(r.ctx, r.d.line, func() (part, error) {
		n, err := r.f.Read(own)
		return part{n, err}, nil
	})
	if err != nil {
		r.own = nil
		return 0, err
	}
	return copy(p, own[:got.n]), got.err
}

func (r *reading) Close() error { return order(r.ctx, r.d.line, r.f.Close) }

// Remove implements destination.Driver.
func (d *Driver) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	if err := d.noLinks(ctx, client, destination.TempDir); err != nil {
		return err
	}
	if err := order(ctx, d.line, func() error { return client.Remove(d.remote(temp)) }); err != nil &&
		!errors.Is(err, os.ErrNotExist) {
		return d.failure(ctx, client, "removing "+temp, err)
	}
	return nil
}

// SetTime implements destination.Dater.
func (d *Driver) SetTime(ctx context.Context, temp string, at time.Time) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	if err := d.noLinks(ctx, client, temp); err != nil {
		return err
	}
	if err := order(ctx, d.line, func() error { return client.Chtimes(d.remote(temp), at, at) }); err != nil {
		return d.failure(ctx, client, "giving the file its time", err)
	}
	return nil
}

// Withdraw implements destination.Driver.
func (d *Driver) Withdraw(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if _, err := d.Size(ctx, p); err != nil { // it is a file, and no link leads there
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	if err := d.makeFolders(ctx, client, destination.TempDir); err != nil {
		return err
	}
	if err := order(ctx, d.line, func() error { return client.Rename(d.remote(p), d.remote(temp)) }); err != nil {
		return d.failure(ctx, client, "taking "+p+" out of its place", err)
	}
	return nil
}

// Copy implements destination.Copier, where programs may be run at the server. Links
// would do without; but who changes one of two names of a file changes both.
func (d *Driver) Copy(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	size, err := d.Size(ctx, p)
	if err != nil {
		return err
	}
	client, err := d.connect(ctx)
	if err != nil {
		return err
	}
	if err := d.makeFolders(ctx, client, destination.TempDir); err != nil {
		return err
	}
	d.mu.Lock()
	conn := d.conn
	d.mu.Unlock()
	if conn == nil {
		return destination.ErrUnable
	}
	_, err = run(ctx, conn, "cp -P -- "+quoted(d.remote(p))+" "+quoted(d.remote(temp)))
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	if n, serr := d.Size(ctx, temp); err != nil || serr != nil || n != size {
		return errors.Join(d.Remove(ctx, temp), destination.ErrUnable)
	}
	return nil
}

// Space implements destination.Spacer by statvfs@openssh.com.
func (d *Driver) Space(ctx context.Context) (destination.Space, error) {
	unknown := destination.Space{Free: -1, Used: -1}
	client, err := d.connect(ctx)
	if err != nil {
		return unknown, err
	}
	s, err := ask(ctx, d.line, func() (*sftp.StatVFS, error) { return client.StatVFS(d.base()) })
	if err != nil {
		var answer *sftp.StatusError
		if errors.As(err, &answer) {
			return unknown, nil // a server without the extension
		}
		return unknown, d.failure(ctx, client, "asking for its space", err)
	}
	return destination.Space{Free: int64(s.Bavail * s.Frsize), Used: int64((s.Blocks - s.Bfree) * s.Frsize)}, nil
}

// Close implements destination.Driver.
func (d *Driver) Close() error {
	d.mu.Lock()
	client, conn := d.client, d.conn
	d.client, d.conn, d.closed = nil, nil, true
	d.mu.Unlock()
	if client == nil {
		d.watching.Wait()
		return nil
	}
	err := closed(conn)
	_ = client.Close() // after its connection, as it would wait for the server; it can only say that this is closed
	d.watching.Wait()
	return err
}

// makeFolders makes the folders on the way to p, once each.
func (d *Driver) makeFolders(ctx context.Context, client *sftp.Client, p string) error {
	d.mu.Lock()
	known := d.folders[p]
	d.mu.Unlock()
	if known {
		return nil
	}
	if err := d.noLinks(ctx, client, p); err != nil {
		return err
	}
	if err := order(ctx, d.line, func() error { return client.MkdirAll(d.remote(p)) }); err != nil {
		return d.failure(ctx, client, "making the folder "+p, err)
	}
	d.know(p)
	return nil
}

// noLinks sees that no folder on the way to p is a link, once each connection.
// What is not there is none.
func (d *Driver) noLinks(ctx context.Context, client *sftp.Client, p string) error {
	if p == "." || p == "/" || p == "" {
		return nil
	}
	d.mu.Lock()
	known := d.folders[p]
	d.mu.Unlock()
	if known {
		return nil
	}
	if err := d.noLinks(ctx, client, path.Dir(p)); err != nil {
		return err
	}
	info, err := ask(ctx, d.line, func() (os.FileInfo, error) { return client.Lstat(d.remote(p)) })
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return d.failure(ctx, client, "looking at "+p, err)
	case info.Mode()&os.ModeSymlink != 0:
		return notAFile(p, info)
	case info.IsDir():
		d.know(p)
	}
	return nil
}

func (d *Driver) know(folder string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.folders[folder] = true
}

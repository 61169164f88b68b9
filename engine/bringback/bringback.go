// Package bringback brings files back from the places at which they are safe: resumed, verified by their hash on the
// way, and put in place whole. Nothing that is there is ever written over.
package bringback

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"yardtide/core/naming"
	"yardtide/engine/destination"
	"yardtide/engine/scan"
	"yardtide/engine/work"
)

// At is where one file lies.
type At struct {
	Destination string `json:"destination"`
	Path        string `json:"path"`
	SHA256      string `json:"sha256"` // of what lies there, in hex
	Bytes       int64  `json:"bytes"`
	Reduced     bool   `json:"reduced,omitempty"` // it is smaller than as shot
}

// Wanted is a file of an item that is to be brought back, with its copies: the one to be tried first stands first.
type Wanted struct {
	Path     string    `json:"path"` // where it lay, below the folder that it is brought back to, parted by slashes
	Modified time.Time `json:"modified,omitzero"`
	// Size is how large it was where it was seen last, and lies still as far as is known: a file of that size and time
	// under its name is that one. 0 has its content compared.
	Size   int64 `json:"size,omitempty"`
	Copies []At  `json:"copies"`
}

// Order has a device bring the files of one item back: to the place of a source, or into a folder.
type Order struct {
	Source string   `json:"source,omitempty"`
	Folder string   `json:"folder,omitempty"` // below the device's own, or a whole path
	Files  []Wanted `json:"files"`
}

// Result is what came of an order. More tells that it takes longer: ordered again, it goes on.
type Result struct {
	Brought []Brought `json:"brought"`
	Came    int64     `json:"came"` // bytes
	More    bool      `json:"more,omitempty"`
}

// Turn is how long an order is worked on before it is told how far it is.
const Turn = 20 * time.Second

// Brought is what became of a file.
type Brought struct {
	Path string `json:"path"`          // where it lies now, below the folder
	Had  bool   `json:"had,omitempty"` // it was there already, with this content
	From At     `json:"from"`          // what it was brought back from, or is the same as
	// Failed are copies that were tried before: gone, or with another content than was proven.
	Failed []Failure `json:"failed,omitempty"`
}

// Failure is a copy that could not be brought back.
type Failure struct {
	Copy At     `json:"copy"`
	Says string `json:"says"`
}

// Carry carries out an order in a folder, for a turn.
func Carry(ctx context.Context, folder string, files []Wanted, driver func(name string) (destination.Driver, error)) (r Result, err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return r, fmt.Errorf("making the folder %s: %w", folder, err)
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return r, fmt.Errorf("opening the folder %s: %w", folder, err)
	}
	defer root.Close()
	turn, cancel := context.WithTimeout(ctx, Turn)
	defer cancel()
	b := Bringer{Root: root, Came: func(n int64) { r.Came += n }, Driver: driver}
	r.Brought, err = b.Bring(turn, files)
	if err != nil && ctx.Err() == nil && turn.Err() != nil {
		return Result{Came: r.Came, More: true}, nil
	}
	b.Tidy()
	return r, err
}

// Bringer brings files back to one folder. Several goroutines may use it, each for files of other names.
type Bringer struct {
	// Driver reaches a place by the name of its destination. What is read there is compared: it need not be the place
	// that the name stood for.
	Driver func(destination string) (destination.Driver, error)
	Root   *os.Root
	// Came is told of bytes as they come, also of those that are read anew after a cut; nil for nobody.
	Came func(n int64)
}

// partsFolder is where files are on their way.
const partsFolder = scan.BackFolder

// MostBeside is how many files may go beside one of their name.
const MostBeside = 10_000

// mostRemade is how often the folder for files on their way is made again for one that begins.
const mostRemade = 10_000

// ErrNoCopy tells that no copy of a file could be brought back.
var ErrNoCopy = errors.New("no copy of it could be brought back")

// Bring brings the files of one item back, which keep together: where one of them needs a name beside, all get it.
func (b Bringer) Bring(ctx context.Context, files []Wanted) ([]Brought, error) {
	for n := 1; n <= MostBeside; n++ {
		list, taken, err := b.try(ctx, files, n)
		if err != nil || !taken {
			return list, err
		}
	}
	return nil, fmt.Errorf("%s: too many files have its name already", files[0].Path)
}

// try brings files back under their nth names; taken where something else has one of them.
func (b Bringer) try(ctx context.Context, files []Wanted, n int) (list []Brought, taken bool, err error) {
	for i := range files {
		f := files[i]
		if f.Path, err = clean(f.Path); err != nil {
			return nil, false, err
		}
		name := Beside(f.Path, n)
		if len(f.Copies) > 0 && f.Copies[0].Reduced {
			name = Smaller(name, f.Copies[0].Path)
		}
		is, err := b.look(ctx, f, name)
		if err != nil || is == other {
			return nil, is == other, err
		}
	}
	for i := range files {
		f := files[i]
		f.Path, _ = clean(f.Path) // as just above
		one, taken, err := b.bring(ctx, f, n)
		if err != nil || taken {
			return list, taken, err
		}
		list = append(list, one)
	}
	return list, false, nil
}

// what lies under a name.
type what int

const (
	nothing what = iota
	same         // a file with the content of one of the copies
	other
)

// look tells what lies under a name.
func (b Bringer) look(ctx context.Context, f Wanted, name string) (what, error) {
	info, err := b.Root.Lstat(filepath.FromSlash(name))
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
		if errors.Is(err, syscall.ENOTDIR) { // a file has the name of its folder
			return other, nil
		}
		return nothing, nil
	case err != nil:
		return other, fmt.Errorf("looking at %s: %w", name, err)
	case !info.Mode().IsRegular():
		return other, nil
	}
	if f.Size > 0 && f.Size == info.Size() && f.Modified.Equal(info.ModTime()) {
		return same, nil
	}
	sum := ""
	for _, c := range f.Copies {
		if c.Bytes != info.Size() {
			continue
		}
		if sum == "" {
			if sum, err = b.sumOf(ctx, name); err != nil {
				return other, err
			}
		}
		if sum == c.SHA256 {
			return same, nil
		}
	}
	return other, nil
}

// sumOf is the SHA-256 of a file in the folder.
func (b Bringer) sumOf(ctx context.Context, name string) (string, error) {
	f, err := b.Root.Open(filepath.FromSlash(name))
	if err != nil {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, work.Until(ctx, f)); err != nil {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// bring brings one file back under its nth name.
func (b Bringer) bring(ctx context.Context, f Wanted, n int) (is Brought, taken bool, err error) {
	if is.Path = Beside(f.Path, n); f.Size > 0 {
		found, err := b.look(ctx, f, is.Path)
		if err != nil || found == same {
			is.Had = err == nil
			return is, false, err
		}
	}
	for _, c := range f.Copies {
		is.Path = Beside(f.Path, n)
		if c.Reduced { // it is none of the original's name
			is.Path = Smaller(is.Path, c.Path)
		}
		found, err := b.look(ctx, Wanted{Copies: []At{{SHA256: c.SHA256, Bytes: c.Bytes}}}, is.Path)
		if err != nil || found == other {
			return is, found == other, err
		}
		is.From = c
		if found == same {
			is.Had = true
			return is, false, nil
		}
		err = b.fetch(ctx, c, is.Path, f.Modified)
		switch {
		case err == nil:
			return is, false, nil
		case errors.Is(err, fs.ErrExist):
			return is, true, nil
		case ctx.Err() != nil:
			return is, false, context.Cause(ctx)
		case isOurs(err):
			return is, false, err
		}
		is.Failed = append(is.Failed, Failure{c, destination.Sentence(err)})
	}
	why := ErrNoCopy
	for _, failed := range is.Failed {
		why = fmt.Errorf("%w; %s: %s", why, failed.Copy.Destination, failed.Says)
	}
	return is, false, fmt.Errorf("%s: %w", f.Path, why)
}

// ours is a failure of the folder that is brought back to: no other copy helps.
type ours struct{ error }

func (e ours) Unwrap() error { return e.error }

func isOurs(err error) bool {
	var e ours
	return errors.As(err, &e)
}

// fetch brings one copy back under a name that nothing has. The error is fs.ErrExist where something has it now.
func (b Bringer) fetch(ctx context.Context, c At, name string, modified time.Time) error {
	if len(c.SHA256) != 2*sha256.Size {
		return errors.New("nobody knows its hash")
	}
	part := partsFolder + "/" + partOf(c, name)
	if err := b.whole(ctx, c, part); err != nil {
		return err
	}
	if !modified.IsZero() {
		if err := b.Root.Chtimes(part, modified, modified); err != nil {
			return ours{fmt.Errorf("setting the time of %s: %w", name, err)}
		}
	}
	return b.publish(part, name)
}

// partOf names what is on its way: the same after a kill.
func partOf(c At, name string) string {
	sum := sha256.Sum256([]byte(c.SHA256 + "\x00" + name))
	return hex.EncodeToString(sum[:16]) + ".part"
}

// whole has all of a copy in a part, on disk and verified. What an earlier try left is gone on from.
func (b Bringer) whole(ctx context.Context, c At, part string) error {
	var f *os.File
	err := b.Root.MkdirAll(partsFolder, 0o700)
	for n := 0; err == nil && n < mostRemade; n++ { // another that is done may remove the folder at any moment
		if f, err = b.Root.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600); !errors.Is(err, fs.ErrNotExist) {
			break
		}
		err = b.Root.MkdirAll(partsFolder, 0o700)
	}
	if err != nil {
		return ours{fmt.Errorf("making a file: %w", err)}
	}
	defer f.Close()
	sum := sha256.New()
	at, err := resume(ctx, f, sum, c.Bytes)
	if err != nil {
		return err
	}
	err = b.from(ctx, c, f, sum, at)
	if at > 0 && errors.Is(err, errDifferent) { // what was there before may have been of something else
		if at, err = 0, f.Truncate(0); err == nil {
			_, err = f.Seek(0, io.SeekStart)
		}
		if err != nil {
			return ours{fmt.Errorf("beginning anew: %w", err)}
		}
		sum.Reset()
		err = b.from(ctx, c, f, sum, 0)
	}
	if errors.Is(err, errDifferent) {
		return errors.Join(err, b.Root.Remove(part))
	}
	if err != nil {
		if info, serr := f.Stat(); serr == nil && info.Size() == 0 { // nothing came to go on from
			err = errors.Join(err, b.Root.Remove(part))
		}
		return err
	}
	if err := f.Sync(); err != nil {
		return ours{fmt.Errorf("bringing it to disk: %w", err)}
	}
	return nil
}

// errDifferent tells that what lies at a place is not what was proven there.
var errDifferent = errors.New("what lies there is not what was proven")

// resume hashes what is there of a part, and tells how much that is.
func resume(ctx context.Context, f *os.File, sum hash.Hash, of int64) (int64, error) {
	at, err := io.Copy(sum, work.Until(ctx, io.LimitReader(f, of+1)))
	if err == nil && at > of {
		sum.Reset()
		at, err = 0, f.Truncate(0)
	}
	if err == nil {
		_, err = f.Seek(at, io.SeekStart)
	}
	if err != nil {
		return 0, ours{fmt.Errorf("reading what came before: %w", err)}
	}
	return at, nil
}

// from reads a copy from an offset on into a file, and compares the whole.
func (b Bringer) from(ctx context.Context, c At, f *os.File, sum hash.Hash, at int64) error {
	if at < c.Bytes {
		d, err := b.Driver(c.Destination)
		if err != nil {
			return err
		}
		r, err := openFrom(ctx, d, c.Path, at)
		if err != nil {
			return err
		}
		n, err := io.Copy(io.MultiWriter(writer{f}, sum), work.Until(ctx, io.LimitReader(b.counted(r), c.Bytes-at+1)))
		_ = r.Close() // only read from
		if err != nil {
			return err
		}
		if at+n != c.Bytes {
			return fmt.Errorf("%w: it has other than %d bytes", errDifferent, c.Bytes)
		}
	}
	if hex.EncodeToString(sum.Sum(nil)) != c.SHA256 {
		return fmt.Errorf("%w: its hash is another", errDifferent)
	}
	return nil
}

// writer tells errors of writing as ours.
type writer struct{ f *os.File }

func (w writer) Write(p []byte) (int, error) {
	n, err := w.f.Write(p)
	if err != nil {
		err = ours{fmt.Errorf("writing it: %w", err)}
	}
	return n, err
}

func (b Bringer) counted(r io.Reader) io.Reader {
	if b.Came == nil {
		return r
	}
	return counting{r, b.Came}
}

type counting struct {
	io.Reader
	came func(int64)
}

func (c counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.came(int64(n))
	return n, err
}

// openFrom opens a file at a place from an offset on.
func openFrom(ctx context.Context, d destination.Driver, path string, at int64) (io.ReadCloser, error) {
	if r, can := d.(destination.Ranger); can && at > 0 {
		return r.OpenFrom(ctx, path, at)
	}
	r, err := d.Open(ctx, path)
	if err == nil && at > 0 {
		_, err = io.CopyN(io.Discard, work.Until(ctx, r), at)
	}
	return r, err
}

// publish gives a whole part its name, in one step that writes over nothing.
func (b Bringer) publish(part, name string) error {
	if err := b.Root.Chmod(part, 0o644); err != nil {
		return ours{fmt.Errorf("putting %s in place: %w", name, err)}
	}
	err := PutInPlace(b.Root, part, name)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return ours{err}
	}
	return err
}

// PutInPlace gives a file of a folder another name there, parted by slashes, in one step that writes over nothing: the
// error is fs.ErrExist where something has it. Folders on the way are made.
func PutInPlace(root *os.Root, from, name string) error {
	to := filepath.FromSlash(name)
	if dir := filepath.Dir(to); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return fmt.Errorf("making the folder of %s: %w", name, err)
		}
	}
	err := root.Link(from, to)
	if err != nil && !errors.Is(err, fs.ErrExist) { // a file system without second names
		if _, lerr := root.Lstat(to); !errors.Is(lerr, fs.ErrNotExist) {
			return errors.Join(fs.ErrExist, lerr)
		}
		if err = root.Rename(from, to); err == nil {
			return syncFolder(root, filepath.Dir(to))
		}
	}
	if errors.Is(err, fs.ErrExist) {
		return fs.ErrExist
	}
	if err == nil {
		err = root.Remove(from)
	}
	if err != nil {
		return fmt.Errorf("putting %s in place: %w", name, err)
	}
	return syncFolder(root, filepath.Dir(to))
}

// syncFolder brings the names in a folder to disk, where the system can.
func syncFolder(root *os.Root, dir string) error {
	d, err := root.Open(dir)
	if err != nil {
		return fmt.Errorf("opening %s: %w", dir, err)
	}
	_ = d.Sync() // some systems cannot
	return d.Close()
}

// Tidy removes the folder for files on their way, if nothing is in it.
func (b Bringer) Tidy() { _ = b.Root.Remove(partsFolder) } // what is in it goes on another time

// clean is a path as it may be written: no step leads out. The error tells one that does.
func clean(p string) (string, error) {
	var steps []string
	for step := range strings.SplitSeq(p, "/") {
		switch {
		case step == "" || step == ".":
		case step == "..":
			return "", fmt.Errorf("%q leads out of the folder", p)
		case !holds(step):
			steps = append(steps, naming.Safe(step))
		default:
			steps = append(steps, step)
		}
	}
	if len(steps) == 0 {
		return "", fmt.Errorf("%q names no file", p)
	}
	return path.Join(steps...), nil
}

// holds tells whether a file system takes a name; else it is mapped to one that every system takes.
func holds(name string) bool {
	return len(name) <= 255 && !strings.ContainsRune(name, 0) && filepath.IsLocal(name) && !strings.ContainsRune(name, filepath.Separator)
}

// Beside is the nth name for a file: its own, and then "name (2).jpg".
func Beside(name string, n int) string {
	if n == 1 {
		return name
	}
	return with(name, fmt.Sprintf(" (%d)", n), path.Ext(name))
}

// Smaller is the name of a reduced copy: no program takes it for the original.
func Smaller(name, remote string) string { return with(name, " (smaller)", path.Ext(remote)) }

func with(name, mark, ext string) string {
	dir, base := path.Split(name)
	stem := strings.TrimSuffix(base, path.Ext(base))
	for len(stem)+len(mark)+len(ext) > 255 && len(stem) > 1 {
		stem = stem[:len(stem)-1]
	}
	return dir + stem + mark + ext
}

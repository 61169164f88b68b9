package inbox

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yardtide/engine/atomicfile"
)

// This file keeps files that come in pieces, as tus 1.0 sends them: each has a state on disk, with how much of it is
// there and the hash of that, so that it goes on where it was after a cut, a kill or a power cut.

// Bounds of files on their way.
const (
	mostParts = 2000           // of a phone at once
	mostTold  = 20_000         // with those of which it is still told that they are whole
	partLife  = 24 * time.Hour // since something came of it last
	toldLife  = time.Hour      // since it was whole: its answer may be lost
)

// Upload is a file on its way.
type Upload struct {
	ID       string    `json:"-"`
	Way      Way       `json:"way"`
	Path     string    `json:"path"` // below its way, as Clean makes it
	Size     int64     `json:"size"`
	SHA256   string    `json:"sha256,omitempty"` // that it must have, in hex; "" where nobody said
	Modified time.Time `json:"modified,omitzero"`
	Offset   int64     `json:"offset"` // so much is on disk
	Until    time.Time `json:"until"`  // then it is given up
	// Took is what became of it, once it is whole.
	Took *Taken `json:"took,omitempty"`
	// Hash is the state of the SHA-256 at Offset (encoding.BinaryMarshaler).
	Hash []byte `json:"hash,omitempty"`
}

// ErrNoPart tells that there is no file on its way under an ID, or no longer.
var ErrNoPart = errors.New("there is no such upload, or no longer: it ended, or nothing came of it for a day; begin it anew")

// ErrTooMany is the refusal of more files on their way than a phone may have.
var ErrTooMany = fmt.Errorf("more than %d uploads are on their way from this phone; end some first", mostParts)

// OtherOffset tells that a piece does not begin where the file ends.
type OtherOffset struct{ Is int64 }

func (e OtherOffset) Error() string {
	return fmt.Sprintf("the upload has %d bytes; go on from there", e.Is)
}

// Uploads are the files on their way into an inbox.
type Uploads struct {
	b *Inbox

	mu  sync.Mutex
	all map[string]*onWay
}

// onWay is one of them. Its fields but evict are its writer's, who holds busy.
type onWay struct {
	Upload
	kept bool          // its state is on disk
	busy chan struct{} // of one: who has it writes

	mu    sync.Mutex
	evict func() // ends who writes now
	must  string // the SHA-256 that was told later, "" where none was
}

func newID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	return hex.EncodeToString(b)
}

func (p *Uploads) data(id string) string  { return partsFolder + "/" + id }
func (p *Uploads) state(id string) string { return filepath.Join(p.b.Dir, partsFolder, id+".json") }

// open reads the files that were on their way, and removes what has no state.
func (p *Uploads) open(now time.Time) error {
	p.all = map[string]*onWay{}
	entries, err := os.ReadDir(filepath.Join(p.b.Dir, partsFolder))
	if err != nil {
		return fmt.Errorf("listing what is on its way from %s: %w", p.b.Phone, err)
	}
	for _, e := range entries {
		id, isState := strings.CutSuffix(e.Name(), ".json")
		if !isState {
			continue
		}
		text, err := os.ReadFile(p.state(id))
		one := &onWay{kept: true, busy: make(chan struct{}, 1)}
		if err == nil {
			err = json.Unmarshal(text, &one.Upload)
		}
		if one.ID = id; err != nil || now.After(one.Until) { // what cannot be read is begun anew
			if err := p.remove(id); err != nil {
				return err
			}
			continue
		}
		p.all[id] = one
		if one.Took == nil {
			p.b.Room.holds(p.b.Phone, one.Size)
		}
	}
	for _, e := range entries {
		id := strings.TrimSuffix(e.Name(), ".json")
		if _, known := p.all[id]; !known || e.Name() != id && e.Name() != id+".json" {
			if err := gone(p.b.root.Remove(partsFolder + "/" + e.Name())); err != nil {
				return fmt.Errorf("removing what was on its way from %s: %w", p.b.Phone, err)
			}
		}
	}
	return nil
}

// Begin begins a file that comes in pieces. The error is NoRoom, BadName or ErrTooMany. What it is is kept with
// the first piece, or by Keep.
func (p *Uploads) Begin(part Upload, now time.Time) (Upload, error) {
	var err error
	if part.Path, err = Clean(part.Path); err != nil {
		return part, err
	}
	if under, told := p.count(); under >= mostParts || told >= mostTold {
		return part, ErrTooMany
	}
	if _, err := p.b.Room.take(p.b.Phone, part.Size, 0, p.b.Most()); err != nil {
		return part, err
	}
	part.ID, part.Until, part.Offset = newID(), now.Add(partLife), 0
	one := &onWay{Upload: part, busy: make(chan struct{}, 1)}
	p.mu.Lock()
	p.all[part.ID] = one
	p.mu.Unlock()
	return part, nil
}

// Keep brings to disk that a file is on its way.
func (p *Uploads) Keep(id string) error {
	one, err := p.find(id)
	if err != nil {
		return err
	}
	one.busy <- struct{}{}
	defer func() { <-one.busy }()
	return p.keep(one)
}

func (p *Uploads) find(id string) (*onWay, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one, is := p.all[id]
	if !is {
		return nil, ErrNoPart
	}
	return one, nil
}

// keep brings the state of a file to disk. The caller writes.
func (p *Uploads) keep(one *onWay) error {
	text, err := json.Marshal(one.Upload)
	if err == nil {
		err = atomicfile.Write(p.state(one.ID), string(text))
	}
	if err != nil {
		return fmt.Errorf("keeping what is on its way from %s: %w", p.b.Phone, asRoom(err))
	}
	one.kept = true
	return nil
}

// evictTime is how long who writes has to end, once another asks.
const evictTime = 10 * time.Second

// seize makes the caller the one who writes, and ends who did before: a phone that changes its network comes back before
// the first connection is known to be dead.
func (one *onWay) seize(ctx context.Context, evict func()) error {
	one.mu.Lock()
	if one.evict != nil {
		one.evict()
	}
	one.mu.Unlock()
	limit := time.NewTimer(evictTime)
	defer limit.Stop()
	select {
	case one.busy <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-limit.C:
		return errors.New("the upload is being written by another connection; try again in a moment")
	}
	one.mu.Lock()
	one.evict = evict
	one.mu.Unlock()
	return nil
}

func (one *onWay) release() {
	one.mu.Lock()
	one.evict = nil
	one.mu.Unlock()
	<-one.busy
}

// Must says which content a file has to have once it is whole.
func (p *Uploads) Must(id, sha256 string) error {
	one, err := p.find(id)
	if err != nil {
		return err
	}
	one.mu.Lock()
	defer one.mu.Unlock()
	one.must = sha256
	return nil
}

// Far tells how far a file is, and ends who writes it: what is told is so until somebody writes again.
func (p *Uploads) Far(ctx context.Context, id string) (Upload, error) {
	one, err := p.find(id)
	if err != nil {
		return Upload{}, err
	}
	if err := one.seize(ctx, nil); err != nil {
		return Upload{}, err
	}
	defer one.release()
	return one.Upload, nil
}

// Append takes a piece of a file in, from an offset on, until the body ends. The error of a body that was cut is the
// body's own; what came of it is kept. Evict is called, from elsewhere, when another writer takes the file over: it has
// the body end. Check tells, once the body has ended, whether it was the right one: what was not does not count, and
// neither does one that was cut and cannot be checked. Once the file is whole it is taken in (Upload.Took). The errors
// are OtherOffset, Different, NoRoom, ErrNoPart and BadName.
func (p *Uploads) Append(ctx context.Context, id string, offset int64, body io.Reader, evict func(), check func() error) (Upload, error) {
	one, err := p.find(id)
	if err != nil {
		return Upload{}, err
	}
	if err := one.seize(ctx, evict); err != nil {
		return Upload{}, err
	}
	defer one.release()
	if one.Took != nil || one.Offset != offset {
		return one.Upload, OtherOffset{one.Offset}
	}
	err = p.append(ctx, one, body, check)
	return one.Upload, err
}

func (p *Uploads) append(ctx context.Context, one *onWay, body io.Reader, check func() error) error {
	if _, err := p.find(one.ID); err != nil { // it was ended while this one waited
		return err
	}
	f, err := p.b.root.OpenFile(p.data(one.ID), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("going on with a file of %s: %w", p.b.Phone, asRoom(err))
	}
	defer f.Close()
	// After a power cut there may be more than is known to be right.
	if err := f.Truncate(one.Offset); err != nil {
		return fmt.Errorf("going on with a file of %s: %w", p.b.Phone, err)
	}
	if _, err := f.Seek(one.Offset, io.SeekStart); err != nil {
		return fmt.Errorf("going on with a file of %s: %w", p.b.Phone, err)
	}
	sum, err := restore(one.Hash)
	if err != nil {
		return err
	}
	n, cut := copyInto(io.MultiWriter(f, sum), body, one.Size-one.Offset)
	if check != nil {
		if err := errors.Join(cut, check()); err != nil {
			return err
		}
	}
	if err := asRoom(f.Sync()); err != nil {
		return fmt.Errorf("bringing a file of %s to disk: %w", p.b.Phone, err)
	}
	one.Offset += n
	one.Until = time.Now().Add(partLife)
	if one.Hash, err = sum.(encoding.BinaryMarshaler).MarshalBinary(); err != nil {
		return fmt.Errorf("keeping the hash of a file of %s: %w", p.b.Phone, err)
	}
	if one.Offset < one.Size || cut != nil {
		return errors.Join(cut, p.keep(one))
	}
	return p.whole(ctx, one, f, hex.EncodeToString(sum.Sum(nil)))
}

// copyInto copies a piece, of so many bytes at most: more is an error, and nothing of that is taken.
func copyInto(to io.Writer, body io.Reader, most int64) (n int64, err error) {
	n, err = io.Copy(to, io.LimitReader(body, most))
	if err != nil || n < most {
		return n, asRoom(err)
	}
	if extra, _ := io.ReadFull(body, make([]byte, 1)); extra > 0 {
		return n, Different{"more came than the size that was announced"}
	}
	return n, nil
}

func restore(state []byte) (hash.Hash, error) {
	sum := sha256.New()
	if len(state) == 0 {
		return sum, nil
	}
	if err := sum.(encoding.BinaryUnmarshaler).UnmarshalBinary(state); err != nil {
		return nil, fmt.Errorf("going on with a hash: %w", err)
	}
	return sum, nil
}

// whole takes a file in all of which is on disk.
func (p *Uploads) whole(ctx context.Context, one *onWay, f *os.File, sum string) error {
	if err := f.Close(); err != nil {
		return fmt.Errorf("closing a file of %s: %w", p.b.Phone, err)
	}
	one.mu.Lock()
	must := cmp.Or(one.must, one.SHA256)
	one.mu.Unlock()
	if must != "" && !strings.EqualFold(must, sum) {
		return errors.Join(Different{"what came is not what the phone has: its content changed on the way, or while it was sent; " +
			"begin it anew"}, p.end(one))
	}
	if err := p.b.setTime(p.data(one.ID), one.Modified); err != nil {
		return err
	}
	t, err := p.b.publish(ctx, p.data(one.ID), sum, one.Size, one.Way, one.Path, false)
	if err != nil {
		return errors.Join(err, p.keep(one))
	}
	p.b.settle(t, one.Size, one.Size)
	one.Took, one.Until = &t, time.Now().Add(toldLife)
	if one.kept { // who asks again, as the answer was lost, learns it
		return p.keep(one)
	}
	p.mu.Lock()
	delete(p.all, one.ID)
	p.mu.Unlock()
	return nil
}

// Stop ends a file on its way, and removes what came of it.
func (p *Uploads) Stop(ctx context.Context, id string) error {
	one, err := p.find(id)
	if err != nil {
		return err
	}
	if err := one.seize(ctx, nil); err != nil {
		return err
	}
	defer one.release()
	return p.end(one)
}

// end forgets a file on its way. The caller writes it.
func (p *Uploads) end(one *onWay) error {
	p.mu.Lock()
	_, known := p.all[one.ID]
	delete(p.all, one.ID)
	p.mu.Unlock()
	if known && one.Took == nil {
		p.b.Room.give(p.b.Phone, one.Size)
	}
	return p.remove(one.ID)
}

// remove removes what is on disk of a file on its way.
func (p *Uploads) remove(id string) error {
	if err := errors.Join(gone(os.Remove(p.state(id))), gone(p.b.root.Remove(p.data(id)))); err != nil {
		return fmt.Errorf("removing what was on its way from %s: %w", p.b.Phone, err)
	}
	return nil
}

// expire ends the files of which nothing came for long.
func (p *Uploads) expire(now time.Time) error {
	p.mu.Lock()
	var old []*onWay
	for _, one := range p.all {
		select {
		case one.busy <- struct{}{}: // nobody writes it
			if now.After(one.Until) {
				old = append(old, one)
				continue
			}
			<-one.busy
		default:
		}
	}
	p.mu.Unlock()
	var err error
	for _, one := range old {
		err = errors.Join(err, p.end(one))
		<-one.busy
	}
	return err
}

// Underway is how many files are on their way.
func (p *Uploads) Underway() int {
	under, _ := p.count()
	return under
}

// count is how many files are on their way, and how many with those of which it is still told that they are whole.
func (p *Uploads) count() (under, all int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.all {
		if one.Took == nil {
			under++
		}
	}
	return under, len(p.all)
}

package device

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"time"

	"crypto/sha256"

	"golang.org/x/time/rate"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/engine/scan"
)

// carriage is one copy on its way.
type carriage struct {
	copy    records.Copy
	lane    int
	ordered bool // by the keeper: gates don't stop it
	metered bool // its bytes cost
	proving bool // only the proof is owed

	reserved bool // bytes are set aside for it in the ledger
	spend    records.Spend
	limit    plan.Allowance
	since    time.Time // the allowance's period began

	cancel  context.CancelCauseFunc
	done    chan struct{} // closed at the end
	started time.Time
	meter   meter
	hash    string // of the content, once it is known
	cleared bool   // it may be sent: no other send carries the same content (Fleet.mu)
	landed  bool   // its bytes take room at the destination
	driver  destination.Driver
	item    records.Item
	path    string            // of the file
	where   string            // the address that its destination stood for when it began
	place   records.NamedFact // and which place that was: a proof counts for no other
	temp    string            // what it sends to, "" before it does
	twin    string            // the path that it shares with a copy of the same content
	ours    bool              // what lies at its path was put there by it, or is known to be its content

	unrecorded *landing // it was put in place, and that is still to be recorded
	recording  bool     // it is done at the storage: its sender's place is free (Device.mu)
}

// Why a send is cut.
var (
	errShut     = errors.New("a gate shut")
	errStopping = errors.New("the service stops")
	errUnwanted = errors.New("the plan no longer asks for it")
	errMoved    = errors.New("its destination stands for another address")
)

// sourceError is a failure of the file, not of the storage.
type sourceError struct {
	cause queue.Cause
	says  string
}

func (e sourceError) Error() string { return e.says }

func text(s string) *string { return &s }

// carry takes a copy as far as it goes and records how it ended. It tells
// whether nothing failed.
func (d *Device) carry(ctx context.Context, s *carriage) bool {
	err := d.tryCarry(ctx, s)
	if why := context.Cause(ctx); err != nil && why != nil {
		err = why // whatever failed, it failed as the send was cut
	}
	// What follows must be recorded even when the send was cut.
	ctx = context.WithoutCancel(ctx)
	if !s.reserved {
		// there is nothing to settle
	} else if serr := d.Records.Settle(ctx, s.copy.ID, s.meter.spent()); serr != nil {
		d.Log.Error("what was spent could not be recorded; it counts as reserved until the next start", "device", d.Name, "copy", s.copy.ID, "err", serr)
	}
	if err == nil {
		d.mended(s.copy.Destination)
		return true
	}
	if records.IsFailure(err) {
		d.unrecorded("the records could not be written", err)
		return false
	}
	if !tookAway(err) {
		err = d.failed(ctx, s, err)
	}
	switch {
	case tookAway(err):
		d.clean(ctx, s)
	case err != nil:
		d.unrecorded("a failure could not be recorded", err)
	}
	return false
}

// tookAway tells whether a step was refused as the plan took the copy elsewhere
// meanwhile: that is on record already.
func tookAway(err error) bool {
	var moved queue.StepError
	return errors.As(err, &moved) || errors.Is(err, records.ErrNotAsked)
}

func (d *Device) tryCarry(ctx context.Context, s *carriage) (err error) {
	defer func() {
		if p := recover(); p != nil {
			d.Log.Error("a send panicked", "device", d.Name, "copy", s.copy.ID, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault in the program: %v", p)
		}
	}()
	item, ok, err := d.Records.Item(ctx, s.copy.Item)
	if err != nil || !ok {
		return errors.Join(err, fmt.Errorf("the item of copy %d", s.copy.ID))
	}
	if item.GoneMS != 0 && !s.proving {
		return sourceError{queue.Gone, "The file was changed or removed before it was sent."}
	}
	d.mu.Lock()
	s.item, s.path = item, filepath.Join(d.Folder(item.Source), filepath.FromSlash(item.Path()))
	d.mu.Unlock()
	driver, err := d.reach(ctx, s.copy.Destination)
	if err != nil {
		return err
	}
	d.mu.Lock()
	s.driver, s.place = driver, d.placeOf(s.copy.Destination).bound.fact(s.copy.Destination)
	d.mu.Unlock()
	s.ours = s.copy.Landed
	if s.proving {
		return d.prove(ctx, s)
	}
	if there, err := d.alreadyThere(ctx, s); err != nil || there {
		return err
	}
	if d.goesWhole(s) {
		err = d.sendWhole(ctx, s)
	} else {
		err = d.send(ctx, s)
	}
	if err != nil {
		return err
	}
	err = d.prove(ctx, s)
	// Without a proof it is on record all the same that it landed.
	return errors.Join(err, d.settle(ctx, s))
}

// step records a step even when the send is cut meanwhile: what has happened at
// the storage must be known here. The cut shows at the next thing that is done.
func (d *Device) step(ctx context.Context, s *carriage, to queue.State, story string, c records.Change) error {
	ctx = context.WithoutCancel(ctx)
	var err error
	if l := s.unrecorded; l != nil && to == queue.Safe {
		err = d.Records.Land(ctx, s.copy.ID, l.story, l.change, story, c, time.Now())
	} else {
		err = d.Records.Step(ctx, s.copy.ID, to, story, c, time.Now())
	}
	if err != nil {
		return err
	}
	s.unrecorded = nil
	d.mu.Lock()
	s.copy.State = to
	d.mu.Unlock()
	d.Changed()
	return nil
}

// alreadyThere looks whether the content is at the destination before it is
// sent: put there by a try that was cut short, as another item's copy, of any
// device here, or before Yard Tide came. It then goes on to the proof.
func (d *Device) alreadyThere(ctx context.Context, s *carriage) (bool, error) {
	if s.copy.Remote != "" && s.copy.SHA256 != "" {
		there, err := d.finished(ctx, s)
		if err != nil || there {
			return there, err
		}
	}
	if d.currentPlan().Rules[s.copy.Rule].StoreEach {
		return false, nil
	}
	same, err := d.Fleet.sameLook(ctx, d, s)
	if err != nil {
		return false, err
	}
	found, err := d.Fleet.found(ctx, s.copy.Destination, s.copy.Bytes)
	if err != nil {
		return false, err
	}
	if !same && len(found) == 0 {
		d.Fleet.clear(s)
		return false, nil
	}
	if err := d.step(ctx, s, queue.Preparing, "Something like it goes or went there: they are compared first.", records.Change{Says: text("")}); err != nil {
		return false, err
	}
	sum, err := d.hashFile(ctx, s)
	if err != nil {
		return false, err
	}
	d.mu.Lock()
	s.hash = sum
	d.mu.Unlock()
	if err := d.Fleet.waitForTwin(ctx, s); err != nil {
		return false, err
	}
	twin, device, ok, err := d.Fleet.twin(ctx, s)
	if err != nil {
		return false, err
	}
	if ok {
		return true, d.joinTwin(ctx, s, twin, device)
	}
	return d.joinFound(ctx, s, found)
}

// finished looks whether an earlier try had put the file in place, and was cut
// before it could tell. The name is its own only if the content is: another may
// have taken it first.
func (d *Device) finished(ctx context.Context, s *carriage) (bool, error) {
	if !s.ours && d.currentPlan().Rules[s.copy.Rule].StoreEach {
		taken, err := d.Fleet.taken(ctx, d, s)
		if err != nil || taken {
			return false, err
		}
	}
	n, err := s.driver.Size(ctx, s.copy.Remote)
	switch {
	case errors.Is(err, destination.ErrNotFound) || err == nil && n != s.copy.Bytes:
		return false, nil
	case err != nil:
		return false, err
	}
	if err := d.step(ctx, s, queue.Proving, "An earlier try had meant to put it in place as "+s.copy.Remote+"; what lies there is compared.", records.Change{}); err != nil {
		return false, err
	}
	return true, d.prove(ctx, s)
}

// joinTwin lets a copy rest on another's with the same content: what lies there is
// proven for this one too.
func (d *Device) joinTwin(ctx context.Context, s *carriage, twin records.Copy, device string) error {
	of := twin.Path()
	if device != d.Name {
		of += " of " + device
	}
	story := "The same content is there as " + twin.Remote + ", from " + of + "; it is not sent again."
	if err := d.step(ctx, s, queue.Proving, story, records.Change{Remote: &twin.Remote, SHA256: &twin.SHA256, Landed: new(bool)}); err != nil {
		return err
	}
	d.mu.Lock()
	s.copy.Remote, s.copy.SHA256, s.twin = twin.Remote, twin.SHA256, twin.Remote
	d.mu.Unlock()
	return d.prove(ctx, s)
}

// errCompare tells that a file of the same size at the destination must be
// read first, which the network does not allow now.
var errCompare = errors.New("a file of its size is at the destination")

// joinFound compares with files of the same size that were at the destination
// before Yard Tide came. Each is read once.
func (d *Device) joinFound(ctx context.Context, s *carriage, found []foundAt) (bool, error) {
	for _, f := range found {
		sum, at, fresh := f.SHA256, records.FromMS(f.HashedMS), false
		if sum == "" {
			if s.metered {
				return false, errCompare
			}
			var err error
			at, fresh = time.Now(), true
			sum, err = readBack(ctx, s, f.Path)
			if err != nil && !errors.Is(err, destination.ErrNotFound) {
				return false, err
			}
			if err := f.at.Records.SetFound(ctx, f.Destination, f.Path, sum, at); err != nil {
				return false, err
			}
		}
		if sum != s.hash {
			continue
		}
		if n, err := s.driver.Size(ctx, f.Path); err != nil || n != s.copy.Bytes {
			if err == nil || errors.Is(err, destination.ErrNotFound) {
				err = f.at.Records.SetFound(ctx, f.Destination, f.Path, "", at)
			}
			if err != nil {
				return false, err
			}
			continue
		}
		if err := d.step(ctx, s, queue.Proving, "It was at the storage before, as "+f.Path+"; it is not sent.", records.Change{Remote: &f.Path, SHA256: &sum, Landed: new(bool)}); err != nil {
			return false, err
		}
		d.mu.Lock()
		s.copy.Remote, s.copy.SHA256 = f.Path, sum
		d.mu.Unlock()
		if fresh { // it was read this moment
			return true, d.safe(ctx, s, "Read back whole.", ReadBack, at)
		}
		return true, d.prove(ctx, s)
	}
	return false, nil
}

// safe records a proof.
func (d *Device) safe(ctx context.Context, s *carriage, story, way string, at time.Time) error {
	// It is still the place that was proven, and the same address.
	switch driver, err := d.reach(ctx, s.copy.Destination); {
	case err != nil:
		return err
	case driver != s.driver:
		return errMoved
	}
	d.mu.Lock()
	s.recording = true
	d.mu.Unlock()
	nudge(d.freed)
	err := d.step(ctx, s, queue.Safe, story, records.Change{If: &s.place, Proof: &way, ProvenAt: &at, Says: text(""), Order: new(records.Order), NotBefore: &time.Time{}, Tries: new(int)})
	if errors.Is(err, records.ErrFactChanged) { // in this moment
		return errMoved
	}
	return err
}

// open opens the file and sees that it is the one that was found. What is read of
// it ends with the context, whatever the file system does.
func (d *Device) open(ctx context.Context, s *carriage) (*file, error) {
	f, err := openFile(ctx, s.path)
	var other scan.NotRegular
	switch {
	case context.Cause(ctx) != nil:
		if err == nil {
			f.close()
		}
		return nil, context.Cause(ctx)
	case errors.Is(err, fs.ErrNotExist):
		return nil, sourceError{queue.Gone, "The file is no longer on the device."}
	case errors.As(err, &other):
		return nil, sourceError{queue.Changed, "What has the file's name is no file any more; it is looked at again."}
	case err != nil:
		return nil, sourceError{queue.Unreadable, "The file cannot be read: " + scan.Reason(err) + "."}
	}
	if err := f.unchanged(ctx, s.item); err != nil {
		f.close()
		return nil, err
	}
	return f, nil
}

func (d *Device) hashFile(ctx context.Context, s *carriage) (string, error) {
	f, err := d.open(ctx, s)
	if err != nil {
		return "", err
	}
	defer f.close()
	h := sha256.New()
	n, err := io.CopyBuffer(h, f, make([]byte, 256<<10))
	if cause := context.Cause(ctx); cause != nil {
		return "", cause
	}
	if err != nil {
		return "", sourceError{queue.Unreadable, "The file cannot be read to its end: " + scan.Reason(err) + "."}
	}
	if n != s.item.Size {
		return "", sourceError{queue.Changed, "The file changed while it was read."}
	}
	if err := f.unchanged(ctx, s.item); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if c.ctx.Err() != nil {
		return 0, context.Cause(c.ctx)
	}
	return c.r.Read(p)
}

// resumeFrom is the size from which a send that was cut goes on.
const resumeFrom = 8 << 20

// kept asks what an earlier try left that can be built on.
func (d *Device) kept(ctx context.Context, s *carriage, f *file) (int64, error) {
	r, able := s.driver.(destination.Resumer)
	if !able || s.copy.Temp == "" || s.copy.Bytes < resumeFrom {
		return 0, nil
	}
	kept, err := r.Kept(ctx, s.copy.Temp, f, s.copy.Bytes)
	if errors.Is(err, fs.ErrClosed) || errors.Is(err, io.EOF) {
		return 0, nil
	}
	return kept, err
}

// send streams the file to a temporary name, hashing on the way, and puts it
// in place.
func (d *Device) send(ctx context.Context, s *carriage) error {
	f, err := d.open(ctx, s)
	if err != nil {
		return err
	}
	defer f.close()
	s.meter.began.Store(true) // looking at what is there is metered too
	from, err := d.kept(ctx, s, f)
	if err != nil {
		return err
	}
	if s.copy.Temp != "" && s.copy.Bytes >= resumeFrom {
		s.meter.read.Add(destination.Compared)
	}
	temp := s.copy.Temp
	if from == 0 {
		if temp != "" { // it is of no use
			if err := s.driver.Remove(ctx, temp); err != nil {
				return err
			}
		}
		temp = destination.NewTemp(d.owner())
	}
	s.temp = temp
	story := d.way(s)
	if from > 0 {
		story += fmt.Sprintf(" It goes on after %s that are there.", gate.Bytes(from))
	}
	// The temporary name is on record before anything is written under it.
	if err := d.step(ctx, s, queue.Sending, story, records.Change{Says: text(""), Temp: &temp, Remote: text(""), SHA256: text(""), Landed: new(bool)}); err != nil {
		return err
	}
	body := &sendReader{ctx: ctx, f: f, meter: &s.meter, hash: newDigest(s.copy.Bytes), pace: d.pace, note: func() error {
		return d.Records.SetSent(context.WithoutCancel(ctx), s.copy.ID, s.copy.Sent+s.meter.n.Load())
	}}
	if err := body.skip(from); err != nil {
		body.hash.sum()
		return err
	}
	s.meter.from.Store(from)
	err = s.driver.Put(ctx, temp, body, from, s.copy.Bytes)
	sum := body.hash.sum()
	if err != nil {
		if body.failure != nil {
			return body.failure
		}
		if errors.Is(err, io.ErrUnexpectedEOF) && body.n < s.copy.Bytes {
			return sourceError{queue.Changed, "The file became shorter while it was sent."}
		}
		return err
	}
	if err := f.unchanged(ctx, s.item); err != nil {
		return err
	}
	if same, err := f.isStill(ctx, s.path); err != nil || !same {
		return errors.Join(err, sourceError{queue.Changed, "The file was replaced while it was sent."})
	}
	if s.hash != "" && s.hash != sum {
		return sourceError{queue.Changed, "The file changed while it was sent."}
	}
	remote, err := d.publish(ctx, s, temp, sum)
	if err != nil {
		return err
	}
	sent := s.copy.Sent + s.meter.n.Load()
	story = fmt.Sprintf("Sent %s as %s.", gate.Bytes(s.copy.Bytes), remote)
	if twice := sent - s.copy.Bytes; twice > 0 {
		story = fmt.Sprintf("Sent %s as %s, %s of it twice.", gate.Bytes(s.copy.Bytes), remote, gate.Bytes(twice))
	}
	d.mu.Lock()
	s.copy.Remote, s.copy.SHA256, s.landed, s.ours = remote, sum, true, true
	d.mu.Unlock()
	landed := true
	change := records.Change{Temp: text(""), Remote: &remote, SHA256: &sum, Sent: &sent, Landed: &landed}
	if s.reserved {
		spent := s.meter.spent()
		change.Settle = &spent
	}
	if err := d.step(ctx, s, queue.Proving, story, change); err != nil {
		return err
	}
	s.reserved = false
	return nil
}

func (d *Device) way(s *carriage) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.plan.Destinations[s.copy.Destination].Networked() {
		return "To " + s.copy.Destination + "."
	}
	how := "Over " + d.now.Network.Label()
	if s.metered {
		how += ", counted as metered"
	}
	return how + "."
}

// publish puts the temporary file in place under the layout's path, or under a
// name that tells it from something else which has that path. Content that is
// there already is not put there twice.
func (d *Device) publish(ctx context.Context, s *carriage, temp, sum string) (string, error) {
	base, mark, each := d.pathOf(s), sum, d.currentPlan().Rules[s.copy.Rule].StoreEach
	if each { // equal files are told apart by where they come from
		of := sha256.Sum256([]byte(sum + "\x00" + d.Name + "\x00" + s.copy.Path()))
		mark = hex.EncodeToString(of[:])
	}
	for try := range mostNames {
		path := base
		if try > 0 {
			path = naming.Clash(base, mark, try)
		}
		if err := d.Records.Note(ctx, s.copy.ID, temp, path, sum); err != nil {
			return "", err
		}
		err := s.driver.Publish(ctx, temp, path)
		if err == nil {
			return path, nil
		}
		if !errors.Is(err, destination.ErrExists) {
			return "", err
		}
		if each {
			continue // what is there is another's: this try has put nothing in place
		}
		same, err := d.sameThere(ctx, s, path, sum)
		if err != nil {
			return "", err
		}
		if same {
			if err := s.driver.Remove(ctx, temp); err != nil {
				return "", err
			}
			return path, nil
		}
	}
	return "", &destination.Error{Cause: queue.Refused, Says: "every name for it is taken at the storage"}
}

// pathOf is the layout's path of a copy.
func (d *Device) pathOf(s *carriage) string {
	layout := d.currentPlan().Destinations[s.copy.Destination].Layout
	return naming.Path(layout, naming.Item{Name: s.item.Name, Device: d.Name, Kind: s.item.Kind, TakenAt: s.item.TakenAt()})
}

// mostNames is how many names are tried for a file. Storage that damaged it
// time and again holds some of them, and is mended one day.
const mostNames = 50

// sameThere compares what has a path with a hash. What the storage cannot tell
// is not read back over a network that costs: the content then gets a name of
// its own.
func (d *Device) sameThere(ctx context.Context, s *carriage, path, sum string) (bool, error) {
	_, err := compare(ctx, s, path, sum, !s.metered, true)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, destination.ErrNotFound), errors.Is(err, errUnproven), destination.CauseOf(err) == queue.Different:
		return false, nil
	}
	return false, err
}

// errUnproven tells that a proof would have to be read back, which was not
// allowed.
var errUnproven = errors.New("the storage cannot tell its hash")

// compare proves that a path has the content with a hash: by one that the
// storage computed, else by reading it back, if that is allowed. With anew a
// hash that was kept since the file was written does not count. It returns the
// way.
func compare(ctx context.Context, s *carriage, path, sum string, mayRead, anew bool) (string, error) {
	if p, able := s.driver.(destination.Prover); able && (p.ProvesAnew() || !anew) {
		if way, err := p.Prove(ctx, path, sum, s.copy.Bytes); err != nil || way != "" {
			return way, err
		}
	}
	if !mayRead {
		return "", errUnproven
	}
	if n, err := s.driver.Size(ctx, path); err != nil {
		return "", err
	} else if n != s.copy.Bytes {
		return "", destination.Differs(path)
	}
	there, err := readBack(ctx, s, path)
	if err != nil {
		return "", err
	}
	if there != sum {
		return "", destination.Differs(path)
	}
	return ReadBack, nil
}

func readBack(ctx context.Context, s *carriage, path string) (string, error) {
	r, err := s.driver.Open(ctx, path)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	// No more than it should be and one byte: a storage may never end.
	_, err = io.CopyBuffer(h, io.LimitReader(contextReader{ctx, r}, s.copy.Bytes+1), make([]byte, 256<<10))
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

// ReadBack is the proof by reading everything back and hashing it.
const ReadBack = "read back, SHA-256"

// prove takes the best proof that the destination allows. Over a network that
// costs nothing is read back: unless the storage itself can tell, the proof is
// owed, and the copy stays where it is. A hash that the storage has kept counts
// for what was put there this moment only.
func (d *Device) prove(ctx context.Context, s *carriage) error {
	costs := d.outlook(time.Now()).Costs(s.copy.Destination)
	d.mu.Lock()
	s.proving = true
	d.mu.Unlock()
	if costs && !s.metered {
		return nil
	}
	way, err := compare(ctx, s, s.copy.Remote, s.copy.SHA256, !costs, !s.landed)
	missing := errors.Is(err, destination.ErrNotFound)
	switch {
	case errors.Is(err, errUnproven):
		return nil
	case err != nil && !missing && destination.CauseOf(err) != queue.Different:
		return err
	case err != nil:
		return d.notThere(ctx, s, missing)
	}
	story := "Read back whole."
	if way != ReadBack {
		story = "The storage has the same SHA-256."
	}
	return d.safe(ctx, s, story, way, time.Now())
}

// errClash tells that something else has the name that a copy had meant to take.
var errClash = errors.New("another file has the name")

// notThere tells what follows when what a copy was to be proven with is not at its
// path: missing, or something else.
func (d *Device) notThere(ctx context.Context, s *carriage, missing bool) error {
	path := s.copy.Remote
	switch {
	case s.twin != "":
		// It was called safe for another copy: that is not so any more.
		says := "What was at " + path + " is no longer at the storage."
		if !missing {
			says = "What lies at " + path + " is no longer what was proven."
		}
		if err := d.lost(ctx, s.copy, says, "Find out who changed it. Retry sends it again while the file is on the device."); err != nil {
			return err
		}
		return errClash
	case !s.ours: // it was never put there: no fault of the storage's
		return errClash
	case missing:
		return &destination.Error{Cause: queue.Different, Says: "what was put there as " + path + " is not at the storage"}
	}
	return &destination.Error{Cause: queue.Different, Says: "what lies at " + path + " is not what was sent; it is left there and sent anew"}
}

// failed records what follows from a failure.
func (d *Device) failed(ctx context.Context, s *carriage, err error) error {
	cause, says, after := queue.Bug, destination.Sentence(err), time.Duration(0)
	var fromStorage *destination.Error
	var fromSource sourceError
	switch {
	case errors.Is(err, errShut):
		cause, says = queue.Shut, "A gate shut while it was sent."
	case errors.Is(err, errStopping):
		cause, says = queue.Shut, "The service stopped."
	case errors.Is(err, errMoved):
		cause, says = queue.Shut, "Its destination came to stand for another address."
	case errors.Is(err, errUnwanted):
		return d.unwanted(ctx, s)
	case errors.Is(err, errClash):
		cause, says = queue.Shut, "Something else has the name that it was to take; it is sent under another."
	case errors.Is(err, errCompare):
		cause, says = queue.Shut, "A file of its size is at the storage; the two are compared when a network is there that costs nothing."
	case errors.As(err, &fromSource):
		cause, says = fromSource.cause, fromSource.says
	case errors.As(err, &fromStorage):
		cause, after = fromStorage.Cause, fromStorage.RetryAfter
	case errors.Is(err, destination.ErrNotFound):
		cause, says = queue.Busy, "The storage lost the file on its way."
	}
	if cause == queue.Bug {
		d.Log.Error("a copy failed in a way that is not known", "device", d.Name, "copy", s.copy.ID, "err", err)
	}
	tries, now := s.copy.Tries+1, time.Now()
	if s.temp != "" { // what was under way may still arrive
		d.mu.Lock()
		d.lookThrough(s.copy.Destination, now)
		d.mu.Unlock()
	}
	o := queue.Judge(cause, tries, d.Jitter(), after)
	change := records.Change{Says: &says, Todo: text(o.Do), Tries: &tries, Temp: text(""), NotBefore: new(time.Time)}
	sent := s.copy.Sent + s.meter.n.Load()
	change.Sent = &sent
	switch {
	case errors.Is(err, errCompare):
		at := now.Add(d.Wait(compareWait))
		change.Tries, change.NotBefore = &s.copy.Tries, &at
	case cause == queue.Shut:
		change.Tries = &s.copy.Tries
	case o.Destination:
		d.trouble(s.copy.Destination, cause, says, now)
		change.Tries = &s.copy.Tries
	case o.Wait > 0:
		at := now.Add(d.Wait(o.Wait))
		change.NotBefore = &at
	}
	anew := cause == queue.Different || cause == queue.Changed || errors.Is(err, errClash)
	if anew { // what was sent does not count
		change.Remote, change.SHA256, change.Landed, change.Sent = text(""), text(""), new(bool), new(int64)
	}
	if s.temp == "" || keepsPart(s, cause) || !d.clean(ctx, s) {
		change.Temp = nil // it may still lie there: the next try goes on from it or writes over it, or a sweep removes it
	}
	to := o.To
	switch {
	case s.copy.State == queue.Proving && to == queue.Waiting && !anew:
		to = queue.Proving // what was sent lies there: only its proof is still owed
	case (cause == queue.Different || errors.Is(err, errClash)) && s.item.GoneMS != 0: // nothing to send it from
		to, change.Todo = queue.Stuck, text("The file is no longer on the device either: look for it at the storage, or put it back on the device.")
	}
	return d.step(ctx, s, to, says, change)
}

// unwanted leaves a copy that the plan no longer asks for. What was put in place
// stays, and is found again when a later plan asks for it.
func (d *Device) unwanted(ctx context.Context, s *carriage) error {
	sent := s.copy.Sent + s.meter.n.Load()
	change := records.Change{Says: text(queue.NotAsked), Todo: text(""), Temp: text(""), Sent: &sent, NotBefore: new(time.Time), Tries: new(int), Order: new(records.Order)}
	if !d.clean(ctx, s) {
		change.Temp = nil // a sweep removes it
	}
	return d.step(ctx, s, queue.Skipped, queue.NotAsked, change)
}

// compareWait is how long a copy waits that is to be compared with what is at
// the storage.
const compareWait = 10 * time.Minute

// keepsPart tells whether what a failed try left is of use to the next.
func keepsPart(s *carriage, cause queue.Cause) bool {
	r, able := s.driver.(destination.Resumer)
	return able && r.Resumes() && s.meter.from.Load()+s.meter.n.Load() >= resumeFrom && (cause == queue.Unreachable || cause == queue.Busy || cause == queue.Shut)
}

// clean removes what a failed try left under its temporary name, if the
// storage can be asked; it tells whether nothing is left.
func (d *Device) clean(ctx context.Context, s *carriage) bool {
	if s.driver == nil || s.temp == "" {
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	o := d.outlook(time.Now())
	if o.Places[s.copy.Destination].Failing.Is() || o.Costs(s.copy.Destination) || o.Away(s.copy.Destination) {
		return false
	}
	return s.driver.Remove(ctx, s.temp) == nil
}

// trouble notes that a destination fails for everything; sends that fail at
// the same time count once.
func (d *Device) trouble(name string, cause queue.Cause, says string, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lookThrough(name, now)
	p := d.placeOf(name)
	f := &p.failing
	if !f.Is() {
		f.Since = now
	} else if now.Before(f.Until) {
		return
	}
	p.tries++
	o := queue.Judge(cause, p.tries, d.Jitter(), 0)
	wait := o.Wait
	if wait == 0 { // a copy would be stuck; a destination is tried again
		wait = queue.Wait(p.tries, d.Jitter())
	}
	f.Says, f.Todo, f.You, f.Until = says, strings.ReplaceAll(o.Do, "NAME", name), o.You, now.Add(d.Wait(wait))
	d.Log.Warn("a destination fails", "device", d.Name, "destination", name, "says", says, "next", f.Until)
}

func (d *Device) mended(name string) {
	d.mu.Lock()
	p := d.placeOf(name)
	failed := p.failing.Is()
	p.failing, p.tries = gate.Failing{}, 0
	d.mu.Unlock()
	if failed {
		d.Log.Info("a destination works again", "device", d.Name, "destination", name)
		d.changed()
	}
}

// meter counts what a send took from its file, for the allowance and for the
// progress that is shown.
type meter struct {
	n     atomic.Int64
	from  atomic.Int64 // what was there already and is not counted in n
	read  atomic.Int64 // what was read back, to go on from it
	began atomic.Bool  // requests may have left
}

// spent is what may have gone over the network, never more than was reserved.
func (m *meter) spent() int64 {
	if !m.began.Load() {
		return 0
	}
	return allowance.Cost(m.n.Load() + m.read.Load())
}

// sendReader is the body of a send: it reads, hashes and counts, as fast as the
// device may send.
type sendReader struct {
	ctx     context.Context
	f       io.Reader
	meter   *meter
	hash    *digest
	pace    *rate.Limiter
	note    func() error // keeps how much was sent
	noted   int64        // of the meter's count
	n       int64        // how far it has read, with what was skipped
	failure error
}

// skip reads what is at the storage already, for the hash only.
func (r *sendReader) skip(n int64) error {
	if n == 0 {
		return nil
	}
	buffer := make([]byte, 256<<10)
	for r.n < n {
		got, err := r.take(buffer[:min(int64(len(buffer)), n-r.n)])
		if err != nil && got == 0 {
			if errors.Is(err, io.EOF) {
				return sourceError{queue.Changed, "The file became shorter while it was sent."}
			}
			return err
		}
	}
	return nil
}

func (r *sendReader) take(p []byte) (int, error) {
	if r.ctx.Err() != nil {
		return 0, context.Cause(r.ctx)
	}
	n, err := r.f.Read(p)
	r.n += int64(n)
	if r.hash != nil { // else it is known
		r.hash.write(p[:n])
	}
	if err != nil && !errors.Is(err, io.EOF) {
		r.failure = sourceError{queue.Unreadable, "The file cannot be read to its end: " + scan.Reason(err) + "."}
		return n, r.failure
	}
	return n, err
}

// Read implements io.Reader.
func (r *sendReader) Read(p []byte) (int, error) {
	limited := r.pace.Limit() != rate.Inf
	if limited {
		p = p[:min(len(p), paceStep)]
	}
	n, err := r.take(p)
	if sent := r.meter.n.Add(int64(n)); sent-r.noted >= noteEvery {
		r.noted = sent
		if nerr := r.note(); nerr != nil {
			r.failure = nerr
			return n, nerr
		}
	}
	if limited && n > 0 {
		if perr := r.pace.WaitN(r.ctx, n); perr != nil && r.ctx.Err() != nil {
			return 0, context.Cause(r.ctx)
		}
	}
	return n, err
}

// noteEvery is after how many bytes it is kept how much was sent.
const noteEvery = 16 << 20

// paceStep is how much may go at once under a limit: little enough that no
// sender looks stalled at the lowest limit that a plan takes.
const paceStep = 64 << 10

// digest hashes beside the sending when a file is large, so that a core that
// is free is used.
type digest struct {
	h      hash.Hash
	chunks chan []byte
	free   chan []byte
	done   chan struct{}
}

const (
	largeFile  = 16 << 20
	chunkSize  = 64 << 10
	chunkCount = 64
)

func newDigest(size int64) *digest {
	d := &digest{h: sha256.New()}
	if size < largeFile {
		return d
	}
	d.chunks, d.free, d.done = make(chan []byte, chunkCount), make(chan []byte, chunkCount), make(chan struct{})
	for range chunkCount {
		d.free <- make([]byte, chunkSize)
	}
	go func() {
		defer close(d.done)
		for c := range d.chunks {
			d.h.Write(c)
			d.free <- c[:chunkSize]
		}
	}()
	return d
}

func (d *digest) write(p []byte) {
	if d.chunks == nil {
		d.h.Write(p)
		return
	}
	for len(p) > 0 {
		c := <-d.free
		n := copy(c[:chunkSize], p)
		d.chunks <- c[:n]
		p = p[n:]
	}
}

// sum ends the hashing; nothing may be written after it.
func (d *digest) sum() string {
	if d.chunks != nil {
		close(d.chunks)
		<-d.done
	}
	return hex.EncodeToString(d.h.Sum(nil))
}

package carry

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"strings"
	"time"

	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/proof"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/source"
)

// This file sends a file and puts it in place.

// sending is a send that puts its content at the storage.
type sending struct {
	*Send
	c *Carrier
}

// open opens the file and sees that it is the one that was found. What is read of
// it ends with the context, whatever the file system does.
func (s sending) open(ctx context.Context) (content, error) {
	f, err := s.c.openItem(ctx, s.Send.item, s.path)
	if err != nil {
		return content{}, err
	}
	s.name = s.item.Name
	if s.rights, err = f.Rights(); err != nil {
		f.Close()
		return content{}, err
	}
	if !s.copy.Reduced {
		return content{f, f}, nil
	}
	made, err := s.c.reducedContent(ctx, s.Send, f)
	if err != nil {
		f.Close()
	}
	return made, err
}

// openItem opens an item's file.
func (c *Carrier) openItem(ctx context.Context, item records.Item, path string) (*source.File, error) {
	f, err := source.Open(ctx, path)
	var other scan.NotRegular
	switch {
	case context.Cause(ctx) != nil:
		if err == nil {
			f.Close()
		}
		return nil, context.Cause(ctx)
	case errors.Is(err, fs.ErrNotExist):
		return nil, source.Error{Cause: queue.Gone, Says: "The file is no longer on the device."}
	case errors.As(err, &other):
		return nil, source.Error{Cause: queue.Changed,
			Says: "What has the file's name is no file any more; it is looked at again."}
	case err != nil:
		return nil, source.Unreadable("read", err)
	}
	if err := f.Unchanged(ctx, item); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (s sending) hashFile(ctx context.Context) (string, error) {
	f, err := s.open(ctx)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.CopyBuffer(h, f, make([]byte, 256<<10))
	if cause := context.Cause(ctx); cause != nil {
		return "", cause
	}
	if err != nil {
		return "", source.Unreadable("read to its end", err)
	}
	if n != s.copy.Bytes {
		return "", source.Error{Cause: queue.Changed, Says: "The file changed while it was read."}
	}
	if err := f.Unchanged(ctx, s.item); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// resumeFrom is the size from which a send that was cut goes on.
const resumeFrom = 8 << 20

// kept asks what an earlier try left that can be built on.
func (s sending) kept(ctx context.Context, f content) (int64, error) {
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
func (s sending) send(ctx context.Context) error {
	f, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	ctx = destination.WithRights(ctx, s.rights)
	s.meter.began.Store(true) // looking at what is there is metered too
	from, err := s.kept(ctx, f)
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
		temp = destination.NewTemp(s.c.Owner)
	}
	sum, err := s.put(ctx, f, temp, from)
	if err != nil {
		return err
	}
	if err := f.Unchanged(ctx, s.item); err != nil {
		return err
	}
	if same, err := f.IsStill(ctx, s.path); err != nil || !same {
		return errors.Join(err, source.Error{Cause: queue.Changed, Says: "The file was replaced while it was sent."})
	}
	if s.hash != "" && s.hash != sum {
		return source.Error{Cause: queue.Changed, Says: "The file changed while it was sent."}
	}
	s.date(ctx, temp)
	remote, landed, err := s.publish(ctx, temp, sum)
	if err != nil {
		return err
	}
	return s.recordLanded(ctx, remote, sum, landed)
}

// put puts the content under a temporary name, from a byte on, and tells its hash.
func (s sending) put(ctx context.Context, f content, temp string, from int64) (sum string, err error) {
	s.temp = temp
	story := s.way()
	if from > 0 {
		story += fmt.Sprintf(" It goes on after %s that are there.", words.Bytes(from))
	}
	// The temporary name is on record before anything is written under it.
	if err := s.c.step(ctx, s.Send, queue.Sending, story, records.Change{Says: text(""), Temp: &temp, Remote: text(""),
		SHA256: text(""), Landed: new(bool)}); err != nil {
		return "", err
	}
	body := &sendReader{ctx: ctx, f: f, meter: &s.meter, hash: newDigest(s.copy.Bytes), pace: s.c.Pace,
		note: func() error {
			return s.c.Records.Queue.SetSent(context.WithoutCancel(ctx), s.copy.ID, s.copy.Sent+s.meter.n.Load())
		}}
	if err := body.skip(from); err != nil {
		body.hash.sum()
		return "", err
	}
	s.meter.from.Store(from)
	err = s.driver.Put(ctx, temp, body, from, s.copy.Bytes)
	sum = body.hash.sum()
	switch {
	case err == nil:
		return sum, nil
	case body.failure != nil:
		return "", body.failure
	case errors.Is(err, io.ErrUnexpectedEOF) && body.n < s.copy.Bytes:
		return "", source.Error{Cause: queue.Changed, Says: "The file became shorter while it was sent."}
	}
	return "", err
}

// recordLanded records that the content lies in place: its proof is owed from now on.
func (s sending) recordLanded(ctx context.Context, remote, sum string, landed bool) error {
	sent := s.copy.Sent + s.meter.n.Load()
	story := fmt.Sprintf("Sent %s as %s.", words.Bytes(s.copy.Bytes), remote)
	if twice := sent - s.copy.Bytes; twice > 0 {
		story = fmt.Sprintf("Sent %s as %s, %s of it twice.", words.Bytes(s.copy.Bytes), remote, words.Bytes(twice))
	}
	s.lies(remote, sum, landed)
	change := records.Change{Temp: text(""), Remote: &remote, SHA256: &sum, Sent: &sent, Landed: &landed}
	if s.reserved {
		if s.readsBack() { // it is read back next: that counts before it is done
			s.meter.read.Add(s.copy.Bytes)
		}
		spent := s.meter.spent()
		change.Settle = &spent
	}
	if err := s.c.step(ctx, s.Send, queue.Proving, story, change); err != nil {
		return err
	}
	s.reserved = false
	return nil
}

func (s sending) way() string {
	now := s.c.Outside()
	if !now.Networked(s.copy.Destination) {
		return "To " + s.copy.Destination + "."
	}
	how := "Over " + now.Now.Network.Label()
	if s.Metered {
		how += ", counted as metered"
	}
	return how + "."
}

// publish puts the temporary file in place under the layout's path, or under a
// name that tells it from something else which has that path. Content that is
// there already is not put there twice: landed is then false, as it is not this copy's own.
func (s sending) publish(ctx context.Context, temp, sum string) (remote string, landed bool, err error) {
	base, err := s.pathOf(ctx)
	if err != nil {
		return "", false, err
	}
	mark, each := sum, s.c.Plan().Rules[s.copy.Rule].StoreEach
	if each { // equal files are told apart by where they come from
		of := sha256.Sum256([]byte(sum + "\x00" + s.c.Device + "\x00" + s.copy.Path()))
		mark = hex.EncodeToString(of[:])
	}
	for try := range mostNames {
		path := base
		if try > 0 {
			path = naming.Clash(base, mark, try)
		}
		meant := path
		path, err := s.putInPlace(ctx, temp, path, sum)
		if err == nil {
			return path, true, nil
		}
		if errors.Is(err, errBeside) { // it lies there under the name that it would have
			return meant, false, s.driver.Remove(ctx, temp)
		}
		if !errors.Is(err, destination.ErrExists) {
			return "", false, err
		}
		if each {
			continue // what is there is another's: this try has put nothing in place
		}
		same, err := s.sameThere(ctx, path, sum)
		if err != nil {
			return "", false, err
		}
		if same {
			return path, false, s.driver.Remove(ctx, temp)
		}
		if s.c.Plan().Rules[s.copy.Rule].OnClash == plan.SkipClash {
			return "", false, &destination.Error{Cause: queue.Taken, Says: "something else has the name " + path +
				" there, and the rule " + s.copy.Rule + " skips such"}
		}
	}
	return "", false, &destination.Error{Cause: queue.Refused, Says: "every name for it is taken at the storage"}
}

// date gives what was sent the time that its file has. A storage that refuses keeps its own:
// no fact of the picture is lost by it.
func (s sending) date(ctx context.Context, temp string) {
	d, able := s.driver.(destination.Dater)
	if !able || s.item.MTime <= 0 || s.item.MTime == math.MaxInt64 { // a time beyond what is kept
		return
	}
	if err := d.SetTime(ctx, temp, time.Unix(0, s.item.MTime)); err != nil {
		s.c.Log.Debug("a file has the storage's own time", "device", s.c.Device, "copy", s.copy.ID, "err", err)
	}
}

// putInPlace gives the temporary file a path. It returns which.
func (s sending) putInPlace(ctx context.Context, temp, path, sum string) (string, error) {
	path, end, err := s.alone(ctx, path, sum)
	if err != nil {
		return "", err
	}
	defer end()
	if err := s.c.Records.Queue.Note(ctx, s.copy.ID, temp, path, sum); err != nil {
		return path, err
	}
	return path, s.driver.Publish(ctx, temp, path)
}

// errBeside tells that the very content lies under the name that a copy was to have, where it
// would get another, as nobody can tell whether a device puts something there in this moment.
var errBeside = errors.New("the same content has the name")

// alone sees that nobody else puts something in place under a path, until end is called.
// Where nobody can tell, it is another path, that no other device makes.
func (s sending) alone(ctx context.Context, path, sum string) (own string, end func(), err error) {
	end, sure, err := s.c.Others.Name(ctx, s.copy.Destination, path)
	if err != nil || sure {
		return path, end, err
	}
	own = s.ownPath(path, sum)
	if own == path || s.c.Plan().Rules[s.copy.Rule].StoreEach {
		return own, end, nil
	}
	// Put there by this device before its records were lost, or by another one of the yard.
	there, err := isLong(ctx, s.Send, path)
	if err == nil && there {
		there, err = s.sameThere(ctx, path, sum)
	}
	if err == nil && there {
		err = errBeside
	}
	if err != nil {
		end()
		return own, func() {}, err
	}
	return own, end, nil
}

// ownPath is a path that only this device makes of another.
func (s sending) ownPath(path, sum string) string {
	if strings.Contains(s.c.Plan().Layout(s.copy.Destination, s.copy.Rule, s.copy.Shelf), "{device}") {
		return path
	}
	of := sha256.Sum256([]byte(sum + "\x00" + s.c.Owner))
	return naming.Clash(path, hex.EncodeToString(of[:]), 1)
}

// pathOf is the path that a copy is to have: the layout's, or, of a part, beside its main
// file.
func (s sending) pathOf(ctx context.Context) (string, error) {
	layout, it, name := s.c.Plan().Layout(s.copy.Destination, s.copy.Rule, s.copy.Shelf), s.item, s.name
	if it.PartOf != 0 {
		main, ok, err := s.c.Records.Catalogue.Item(ctx, it.PartOf)
		if err != nil {
			return "", err
		}
		whole, sent, err := s.c.Records.Queue.CopyAt(ctx, it.PartOf, s.copy.Destination)
		if err != nil {
			return "", err
		}
		if ok && sent && whole.Remote != "" {
			return naming.Beside(whole.Remote, main.Name, name), nil
		}
		if ok { // the main file is not sent there: both would lie in one folder
			it = main
		}
	}
	return naming.Path(layout, naming.Item{Name: name, Device: s.c.Device, Source: it.Source, Folder: it.Dir,
		Kind: it.Kind, TakenAt: it.TakenAt(), Camera: it.Camera, Caption: it.Caption}), nil
}

// mostNames is how many names are tried for a file. Storage that damaged it
// time and again holds some of them, and is mended one day.
const mostNames = 50

// sameThere compares what has a path with a hash. What the storage cannot tell
// is not read back over a network that costs: the content then gets a name of
// its own.
func (s sending) sameThere(ctx context.Context, path, sum string) (bool, error) {
	_, err := proof.Take(ctx, s.driver, path, sum, s.copy.Bytes, !s.Metered, true)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, destination.ErrNotFound), errors.Is(err, proof.ErrUnread),
		destination.CauseOf(err) == queue.Different:
		return false, nil
	}
	return false, err
}

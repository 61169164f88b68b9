package device

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// Records that were begun anew know nothing of what is at the destinations. Before
// anything is sent to one, what lies there is listed, and the open records there
// are read: a file that is there is then compared and not sent.

func rebuiltFact(name string) string { return "rebuilt " + name }

// readRebuild reads which destinations were looked at since the records were begun
// anew.
func (d *Device) readRebuild(ctx context.Context) error {
	begun, err := d.Records.Fact(ctx, records.RebuildFact)
	if err != nil || begun == "" {
		return err
	}
	seen, err := d.Records.Facts(ctx, rebuiltFact(""))
	if err != nil {
		return err
	}
	d.rebuilt = map[string]bool{}
	for name := range seen {
		d.rebuilt[name] = true
	}
	return nil
}

// owesLook is the hold of everything that goes to a destination that was not
// looked at since the records were begun anew. The caller has the lock.
func (d *Device) owesLook(name string) (gate.Hold, bool) {
	if d.rebuilt == nil || d.rebuilt[name] {
		return gate.Hold{}, false
	}
	return gate.Hold{Gate: gate.Place, Says: "The records are rebuilt: what lies at " + name + " is looked at before anything is sent there."}, true
}

// rebuild looks at destinations that are owed it, beside everything else.
func (d *Device) rebuild(sendCtx context.Context, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name := range d.plan.Destinations {
		if _, owed := d.owesLook(name); !owed || d.rebuilding[name] || d.besideShut(name, now) || !d.asked(name) {
			continue
		}
		d.rebuilding[name] = true
		d.sends.Go(func() {
			err := d.lookThroughAll(sendCtx, name)
			if err != nil && sendCtx.Err() == nil {
				d.trouble(name, destination.CauseOf(err), destination.Sentence(err), time.Now())
			}
			d.mu.Lock()
			d.rebuilding[name] = false
			d.rebuilt[name] = d.rebuilt[name] || err == nil
			d.mu.Unlock()
			d.changed()
		})
	}
}

func (d *Device) lookThroughAll(ctx context.Context, name string) error {
	if _, err := d.Adopt(ctx, name); err != nil {
		return err
	}
	driver, err := d.reach(ctx, name)
	if err != nil {
		return err
	}
	known, err := d.readRecords(ctx, driver, name)
	if err != nil {
		return err
	}
	d.Log.Info("a destination was looked at, to rebuild the records", "device", d.Name, "destination", name, "recorded", known)
	return d.Records.SetFact(context.WithoutCancel(ctx), rebuiltFact(name), time.Now().UTC().Format(time.RFC3339))
}

// readRecords reads the open records at a destination, of all devices. It returns
// how many files they tell of.
func (d *Device) readRecords(ctx context.Context, driver destination.Driver, name string) (known int, err error) {
	b, able := driver.(destination.Browser)
	if !able {
		return 0, nil
	}
	devices, err := b.List(ctx, RecordDir)
	if errors.Is(err, destination.ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	for _, one := range devices {
		if !one.Folder {
			continue
		}
		files, err := b.List(ctx, path.Join(RecordDir, one.Name))
		if err != nil {
			return known, err
		}
		for _, f := range files {
			if f.Folder || !strings.HasPrefix(f.Name, "index-") || !strings.HasSuffix(f.Name, ".jsonl") {
				continue
			}
			r, err := driver.Open(ctx, path.Join(RecordDir, one.Name, f.Name))
			if err != nil {
				return known, err
			}
			entries, err := ReadIndex(r)
			if cerr := r.Close(); err == nil {
				err = cerr
			}
			if err != nil {
				return known, err
			}
			found := make([]records.Found, len(entries))
			for i, e := range entries {
				found[i] = records.Found{Destination: name, Path: e.Path, Size: e.Size, SHA256: e.SHA256, HashedMS: e.Proven.UnixMilli()}
			}
			if err := d.Records.KnowFound(ctx, found); err != nil {
				return known, err
			}
			known += len(entries)
		}
	}
	return known, nil
}

// Of a file of the open record: how long a line and the whole may be.
const (
	maxLine  = 64 << 10
	maxIndex = 256 << 20
)

var sumForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// ReadIndex reads an index of the open record. Anybody may have written into it: a
// line that is none is left out. The error is one of reading.
func ReadIndex(r io.Reader) ([]Entry, error) {
	lines := bufio.NewScanner(io.LimitReader(r, maxIndex))
	lines.Buffer(nil, maxLine)
	var entries []Entry
	for lines.Scan() {
		var e Entry
		if json.Unmarshal(lines.Bytes(), &e) != nil || !sumForm.MatchString(e.SHA256) || e.Size <= 0 || e.Path == "" || e.Path != strings.TrimPrefix(path.Clean("/"+e.Path), "/") {
			continue
		}
		entries = append(entries, e)
	}
	if err := lines.Err(); err != nil && !errors.Is(err, bufio.ErrTooLong) {
		return nil, fmt.Errorf("reading the open record: %w", err)
	}
	return entries, nil
}

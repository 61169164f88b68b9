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

	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
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

// unseen tells whether a destination was not looked at since the records were begun
// anew. The caller has the lock.
func (d *Device) unseen(name string) bool { return d.rebuilt != nil && !d.rebuilt[name] }

// rebuildDue has destinations looked at that are owed it.
func (d *Device) rebuildDue(_ context.Context, name string, _ time.Time, _ bool) (do func(context.Context) error, next time.Time, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.unseen(name) {
		return nil, time.Time{}, nil
	}
	return func(ctx context.Context) error {
		err := d.lookThroughAll(ctx, name)
		if err == nil {
			d.mu.Lock()
			d.rebuilt[name] = true
			d.mu.Unlock()
		}
		return err
	}, time.Time{}, nil
}

func (d *Device) lookThroughAll(ctx context.Context, name string) error {
	if _, err := d.Adopt(ctx, name, func(wire.Adopted) {}); err != nil {
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

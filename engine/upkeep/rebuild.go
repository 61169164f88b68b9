package upkeep

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

// rebuildDue has destinations looked at that are owed it.
func (u *Upkeep) rebuildDue(_ context.Context, name string, _ time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
	if !u.Places.At(name).Unseen {
		return nil, time.Time{}, nil
	}
	return func(ctx context.Context) error { return u.lookThroughAll(ctx, name) }, time.Time{}, nil
}

func (u *Upkeep) lookThroughAll(ctx context.Context, name string) error {
	if _, err := u.Adopt(ctx, name, func(wire.Adopted) {}); err != nil {
		return err
	}
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	known, err := u.readRecords(ctx, driver, name, func(string) bool { return true }, u.Records.Adopted.KnowFound)
	if err != nil {
		return err
	}
	u.Log.Info("a destination was looked at, to rebuild the records", "device", u.Device, "destination", name, "recorded",
		known)
	return u.Places.Listed(ctx, name)
}

// readRecords reads the parts of the open records at a destination that are wanted, by their
// paths, of all devices, and has what they tell kept. It returns how many files they tell of.
func (u *Upkeep) readRecords(ctx context.Context, driver destination.Driver, name string,
	wanted func(path string) bool, keep func(context.Context, []records.Lying) error) (known int, err error) {
	b, able := driver.(destination.Browser)
	if !able {
		return 0, nil
	}
	devices, err := b.List(ctx, destination.RecordDir)
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
		files, err := b.List(ctx, path.Join(destination.RecordDir, one.Name))
		if err != nil {
			return known, err
		}
		for _, f := range files {
			if f.Folder || !strings.HasPrefix(f.Name, "index-") || !strings.HasSuffix(f.Name, ".jsonl") {
				continue
			}
			part := path.Join(destination.RecordDir, one.Name, f.Name)
			if !wanted(part) {
				continue
			}
			r, err := driver.Open(ctx, part)
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
			found := make([]records.Lying, len(entries))
			for i, e := range entries {
				found[i] = records.Lying{Destination: name, Path: e.Path, Size: e.Size, SHA256: e.SHA256,
					HashedMS: e.Proven.UnixMilli()}
			}
			if err := keep(ctx, found); err != nil {
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
		if json.Unmarshal(lines.Bytes(), &e) != nil || !sumForm.MatchString(e.SHA256) || e.Size <= 0 || e.Path == "" ||
			e.Path != strings.TrimPrefix(path.Clean("/"+e.Path), "/") {
			continue
		}
		entries = append(entries, e)
	}
	if err := lines.Err(); err != nil && !errors.Is(err, bufio.ErrTooLong) {
		return nil, fmt.Errorf("reading the open record: %w", err)
	}
	return entries, nil
}

package device

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/invopop/jsonschema"

	"yardtide/core/naming"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/wire"
)

// The open record at a destination says what is there without Yard Tide: see
// docs/record.md. It is written in parts, which are never changed, each beside
// those of other devices and services: so it costs little, and nobody writes
// over anybody's.

// RecordDir is the folder at a destination that holds the open records.
const RecordDir = "records"

// When a part is written: when so many copies are proven, or the oldest has
// waited so long, or nothing more is to come for a little while.
const (
	recordFull  = 2000
	recordAge   = time.Hour
	recordQuiet = 30 * time.Second
)

// Entry is one line of the index in the open record (docs/record.schema.json).
type Entry struct {
	Path    string    `json:"path" jsonschema:"description=Below the destination."`
	Size    int64     `json:"size" jsonschema:"description=Bytes.,minimum=0"`
	SHA256  string    `json:"sha256" jsonschema:"pattern=^[0-9a-f]{64}$"`
	TakenAt time.Time `json:"takenAt" jsonschema:"description=When it was taken\\, in the zone of the place."`
	Kind    string    `json:"kind" jsonschema:"enum=photo,enum=video"`
	Device  string    `json:"device"`
	From    string    `json:"from" jsonschema:"description=Where it was on the device."`
	Proof   string    `json:"proof" jsonschema:"description=How it was proven that the destination holds these bytes."`
	Proven  time.Time `json:"provenAt"`
}

// RecordSchema is the JSON Schema of a line of the index, as it is published.
func RecordSchema() ([]byte, error) {
	s := (&jsonschema.Reflector{Anonymous: true, DoNotReference: true}).Reflect(Entry{})
	s.Title = "A line of the index in the open record of a Yard Tide destination"
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the record's schema: %w", err)
	}
	return append(text, '\n'), nil
}

// recordDue has the next part of a destination's record written.
func (d *Device) recordDue(ctx context.Context, name string, now time.Time, busy bool) (do func(context.Context) error, next time.Time, err error) {
	n, since, err := d.Records.Unrecorded(ctx, name)
	if err != nil || n == 0 {
		return nil, time.Time{}, err
	}
	due := since.Add(d.Wait(recordAge))
	if !busy {
		due = since.Add(d.Wait(recordQuiet))
	}
	if n < recordFull && now.Before(due) && !since.After(now) { // it is later when the clock was set back
		return nil, due, nil
	}
	d.mu.Lock()
	failing := d.placeOf(name).failing.Is()
	d.mu.Unlock()
	if failing {
		return nil, time.Time{}, nil // its end wakes
	}
	return func(ctx context.Context) error {
		err := d.writeRecord(ctx, name)
		if err != nil {
			d.mu.Lock()
			d.lookThrough(name, time.Now()) // what was on its way may lie there
			d.mu.Unlock()
		}
		return err
	}, time.Time{}, nil
}

// writeRecord writes one part of the record at a destination: an index in JSON
// Lines and checksums as sha256sum reads them.
func (d *Device) writeRecord(ctx context.Context, name string) error {
	copies, err := d.Records.ToRecord(ctx, name, recordFull)
	if err != nil || len(copies) == 0 {
		return err
	}
	dir := d.recordDir()
	fact := "record " + name
	text, err := d.Records.Fact(ctx, fact)
	if err != nil {
		return err
	}
	last, _ := strconv.ParseInt(text, 10, 64) // "" is 0
	var index, sums bytes.Buffer
	lines := json.NewEncoder(&index)
	lines.SetEscapeHTML(false)
	ids := make([]int64, len(copies))
	for i, c := range copies {
		ids[i] = c.ID
		taken := time.UnixMilli(c.TakenMS).In(time.FixedZone("", c.TakenZone))
		err := lines.Encode(Entry{Path: c.Remote, Size: c.Bytes, SHA256: c.SHA256, TakenAt: taken, Kind: string(c.Kind), Device: d.Name, From: c.Path(), Proof: c.Proof, Proven: records.FromMS(c.ProvenMS).UTC()})
		if err != nil {
			return fmt.Errorf("writing the index: %w", err)
		}
		sums.WriteString(sumLine(c.SHA256, c.Remote))
	}
	driver, err := d.reach(ctx, name)
	if err != nil {
		return err
	}
	for part := last + 1; ; part++ {
		// The number is on record first: whatever happens, the next part has
		// another.
		if err := d.Records.SetFact(ctx, fact, strconv.FormatInt(part, 10)); err != nil {
			return err
		}
		err := d.putRecord(ctx, driver, fmt.Sprintf("%s/index-%06d.jsonl", dir, part), index.Bytes())
		if errors.Is(err, destination.ErrExists) {
			continue
		}
		if err == nil {
			err = d.putRecord(ctx, driver, fmt.Sprintf("%s/SHA256SUMS-%06d", dir, part), sums.Bytes())
		}
		if err != nil {
			return err
		}
		return d.Records.SetRecorded(context.WithoutCancel(ctx), ids, part)
	}
}

// putRecord puts one file of the record in place.
func (d *Device) putRecord(ctx context.Context, driver destination.Driver, path string, content []byte) error {
	temp := destination.NewTemp(d.owner())
	set := func(writing bool) {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.writing[temp] = writing; !writing {
			delete(d.writing, temp)
		}
	}
	set(true)
	defer set(false)
	if err := driver.Put(ctx, temp, bytes.NewReader(content), 0, int64(len(content))); err != nil {
		return err
	}
	err := driver.Publish(ctx, temp, path)
	if errors.Is(err, destination.ErrExists) {
		return errors.Join(err, driver.Remove(ctx, temp))
	}
	return err
}

// recordDir is this device's own folder for records.
func (d *Device) recordDir() string { return RecordDir + "/" + naming.Safe(d.Name) + "-" + d.marked }

// owner is what temporary names of this device begin with. It has the device's
// mark, so that two services with a device of one name never meet in it.
func (d *Device) owner() string { return naming.Safe(d.Name) + "-" + d.marked }

// readMark reads the device's mark, making it at the first start.
func (d *Device) readMark(ctx context.Context) (err error) {
	if d.marked, err = d.Records.Fact(ctx, "mark"); err != nil || d.marked != "" {
		return err
	}
	b := make([]byte, 4)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	d.marked = hex.EncodeToString(b)
	return d.Records.SetFact(ctx, "mark", d.marked)
}

// sumLine is a line that `sha256sum -c` reads. A name with a line break or a
// backslash is escaped, which a backslash before the hash tells (GNU coreutils,
// "md5sum invocation").
func sumLine(sum, path string) string {
	escaped := strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(path)
	if escaped != path {
		return `\` + sum + "  " + escaped + "\n"
	}
	return sum + "  " + path + "\n"
}

// maxFolders is how deep a storage's folders are looked at.
const maxFolders = 64

// Adopt lists what is at a destination and was not put there by a device of
// this process, so that it is not sent again. A file is read back when
// something of its size is to be sent, once, over a network that costs nothing. It
// tells what it found so far.
func (d *Device) Adopt(ctx context.Context, name string, tell func(wire.Adopted)) (wire.Adopted, error) {
	var a wire.Adopted
	if d.outlook(time.Now()).Costs(name) {
		return a, &destination.Error{Cause: queue.Shut, Says: "the network costs, or the device cannot tell that it does not; this is done over one that costs nothing"}
	}
	driver, err := d.reach(ctx, name)
	if err != nil {
		return a, err
	}
	b, able := driver.(destination.Browser)
	if !able {
		return a, &destination.Error{Cause: queue.Misplaced, Says: "this storage cannot be listed"}
	}
	ours := map[string]bool{}
	for _, member := range d.Fleet.all() {
		own, err := member.Records.Ours(ctx, name)
		if err != nil {
			return a, err
		}
		for p := range own {
			ours[p] = true
		}
	}
	dirs := []string{""}
	for len(dirs) > 0 {
		dir := dirs[len(dirs)-1]
		dirs = dirs[:len(dirs)-1]
		entries, err := b.List(ctx, dir)
		if err != nil && !errors.Is(err, destination.ErrNotFound) {
			return a, fmt.Errorf("listing %q: %w", dir, err)
		}
		var found []records.Found
		for _, e := range entries {
			p := strings.TrimPrefix(dir+"/"+e.Name, "/")
			switch {
			case p == destination.TempDir || p == RecordDir || p == destination.MarkerName || ours[p]:
			case e.Folder && strings.Count(p, "/") >= maxFolders: // a storage may show a folder within itself
			case e.Folder:
				dirs = append(dirs, p)
			case e.Size > 0:
				found = append(found, records.Found{Destination: name, Path: p, Size: e.Size})
				a.Files, a.Bytes = a.Files+1, a.Bytes+e.Size
			}
		}
		if err := d.Records.AddFound(ctx, found); err != nil {
			return a, err
		}
		tell(a)
	}
	for _, member := range d.Fleet.all() {
		n, err := member.Records.Matching(ctx, name)
		if err != nil {
			return a, err
		}
		a.Compare += n
	}
	d.changed()
	return a, nil
}

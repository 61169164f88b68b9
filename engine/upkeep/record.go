package upkeep

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/invopop/jsonschema"

	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// The open record at a destination says what is there without Yard Tide: see
// docs/record.md. It is written in parts, which are never changed, each beside
// those of other devices and services: so it costs little, and nobody writes
// over anybody's.

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
	Kind    string    `json:"kind" jsonschema:"enum=photo,enum=raw,enum=graphic,enum=video,enum=audio,enum=document,enum=other"`
	Device  string    `json:"device"`
	From    string    `json:"from" jsonschema:"description=Where it was on the device\\, from its source on."`
	// Modified was left out before Yard Tide brought files back.
	Modified time.Time `json:"modified,omitzero" jsonschema:"description=When its file was last changed there."`
	Reduced  bool      `json:"reduced,omitempty" jsonschema:"description=It is smaller than as shot."`
	Proof    string    `json:"proof" jsonschema:"description=How it was proven that the destination holds these bytes."`
	Proven   time.Time `json:"provenAt"`
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
func (u *Upkeep) recordDue(ctx context.Context, name string, now time.Time,
	busy bool) (do func(context.Context) error, next time.Time, err error) {
	n, since, err := u.Records.Proofs.Unrecorded(ctx, name)
	if err != nil || n == 0 {
		return nil, time.Time{}, err
	}
	due := since.Add(u.Wait(recordAge))
	if !busy {
		due = since.Add(u.Wait(recordQuiet))
	}
	if n < recordFull && now.Before(due) && !since.After(now) { // it is later when the clock was set back
		return nil, due, nil
	}
	if u.Places.At(name).Failing.Is() {
		return nil, time.Time{}, nil // its end wakes
	}
	return func(ctx context.Context) error {
		err := u.writeRecord(ctx, name)
		if err != nil {
			u.Places.Late(name) // what was on its way may lie there
		}
		return err
	}, time.Time{}, nil
}

// partFact is the number of the last part of the record at a destination.
const partFact records.Fact[int64] = "record "

// writeRecord writes one part of the record at a destination: an index in JSON
// Lines and checksums as sha256sum reads them.
func (u *Upkeep) writeRecord(ctx context.Context, name string) error {
	copies, err := u.Records.Proofs.ToRecord(ctx, name, recordFull)
	if err != nil || len(copies) == 0 {
		return err
	}
	dir := u.recordDir()
	last, _, err := partFact.For(name).Read(ctx, &u.Records.Facts)
	if err != nil {
		return err
	}
	var index, sums bytes.Buffer
	lines := json.NewEncoder(&index)
	lines.SetEscapeHTML(false)
	ids := make([]int64, len(copies))
	for i, c := range copies {
		ids[i] = c.ID
		taken := time.UnixMilli(c.TakenMS).In(time.FixedZone("", c.TakenZone))
		err := lines.Encode(Entry{Path: c.Remote, Size: c.Bytes, SHA256: c.SHA256, TakenAt: taken, Kind: string(c.Kind),
			Device: u.Device, From: c.Path(), Modified: time.Unix(0, c.MTime).UTC(), Reduced: c.Reduced, Proof: c.Proof, Proven: records.FromMS(c.ProvenMS).UTC()})
		if err != nil {
			return fmt.Errorf("writing the index: %w", err)
		}
		sums.WriteString(sumLine(c.SHA256, c.Remote))
	}
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	for part := last + 1; ; part++ {
		// The number is on record first: whatever happens, the next part has
		// another.
		if err := partFact.For(name).Keep(ctx, &u.Records.Facts, part); err != nil {
			return err
		}
		err := u.putRecord(ctx, driver, fmt.Sprintf("%s/index-%06d.jsonl", dir, part), index.Bytes())
		if errors.Is(err, destination.ErrExists) {
			continue
		}
		if err == nil {
			err = u.putRecord(ctx, driver, fmt.Sprintf("%s/SHA256SUMS-%06d", dir, part), sums.Bytes())
		}
		if err != nil {
			return err
		}
		return u.Records.Proofs.SetRecorded(context.WithoutCancel(ctx), ids, part)
	}
}

// putRecord puts one file of the record in place.
func (u *Upkeep) putRecord(ctx context.Context, driver destination.Driver, path string, content []byte) error {
	temp := destination.NewTemp(u.Owner)
	set := func(writing bool) {
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.writing[temp] = writing; !writing {
			delete(u.writing, temp)
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
func (u *Upkeep) recordDir() string { return destination.RecordDir + "/" + u.Folder }

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

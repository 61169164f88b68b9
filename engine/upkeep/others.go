package upkeep

import (
	"context"
	"maps"
	"strings"
	"time"

	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// This file knows what other devices put at a place while nobody tells: by their open records,
// which lie there. So a picture that two devices have is not sent twice, as far as the first has
// recorded it; and where it was, that is told.

// othersWait is how often the records of others are read while the service does not answer.
const othersWait = 5 * time.Minute

// othersDue has the records of others read.
func (u *Upkeep) othersDue(_ context.Context, name string, now time.Time,
	_ bool) (do func(context.Context) error, next time.Time, err error) {
	if !u.Others.Alone() {
		return nil, time.Time{}, nil // the service tells, and its silence wakes
	}
	u.mu.Lock()
	next = u.others[name].Add(u.Wait(othersWait))
	u.mu.Unlock()
	if now.Before(next) {
		return nil, next, nil
	}
	return func(ctx context.Context) error { return u.KnowOthers(ctx, name) }, time.Time{}, nil
}

// knowWait is how old what is known of the records of others may be as something is sent.
const knowWait = 10 * time.Second

// KnowOthers reads what others recorded at a destination, before something is sent there while
// the service does not answer.
func (u *Upkeep) KnowOthers(ctx context.Context, name string) error {
	if !u.Others.Alone() {
		return nil
	}
	u.reading.Lock()
	defer u.reading.Unlock()
	u.mu.Lock()
	fresh := time.Since(u.others[name]) < u.Wait(knowWait)
	u.mu.Unlock()
	if fresh {
		return nil
	}
	return u.readOthers(ctx, name)
}

// readOthers keeps what others recorded since it was read last as files that are there: what is
// in them counts for nothing before it is compared.
func (u *Upkeep) readOthers(ctx context.Context, name string) error {
	driver, err := u.Places.Reach(ctx, name)
	if err != nil {
		return err
	}
	read := map[string]bool{}
	wanted := func(part string) bool {
		if strings.HasPrefix(part, destination.RecordDir+"/"+u.Folder+"/") {
			return false // its own
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		read[name+"/"+part] = true
		return !u.parts[name+"/"+part]
	}
	keep := func(ctx context.Context, found []records.Lying) error {
		if err := u.Records.Adopted.AddFound(ctx, found); err != nil {
			return err
		}
		return u.Records.Adopted.KnowFound(ctx, found)
	}
	if _, err := u.readRecords(ctx, driver, name, wanted, keep); err != nil {
		return err
	}
	n, err := u.Records.Adopted.Doubles(ctx, name)
	if err != nil {
		return err
	}
	u.mu.Lock()
	maps.Copy(u.parts, read)
	u.others[name] = time.Now()
	before := u.doubles[name]
	u.doubles[name] = n
	u.mu.Unlock()
	if n != before {
		u.Log.Warn("pictures lie at a place twice", "device", u.Device, "destination", name, "copies", n)
		u.Tell()
	}
	return nil
}

// Doubles is how many copies of this device lie at each place beside the same content of
// another's, as far as the records of others tell.
func (u *Upkeep) Doubles() map[string]int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return maps.Clone(u.doubles)
}

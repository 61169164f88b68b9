package device

import (
	"context"
	"sync"
	"time"

	"yardtide/engine/records"
)

// This file shows when the records of the device cannot be written, lets nothing new begin then,
// and tries them again.

// mending is how the records stand.
type mending struct {
	d *Device

	mu      sync.Mutex
	problem string    // why the device itself cannot work
	until   time.Time // the records could not be written: when they are tried again
}

// now is why the device itself cannot work, "" when it can.
func (m *mending) now() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.problem
}

// rest waits after a failure of the device's own records or disk, and shows
// it; false when the context ended.
func (m *mending) rest(ctx context.Context, what string, err error) bool {
	if ctx.Err() != nil {
		return false
	}
	m.broke(what, err)
	select {
	case <-ctx.Done():
		return false
	case <-time.After(m.d.Wait(recordsWait)):
		return true
	}
}

// recordsWait is how long the records rest after they could not be written.
const recordsWait = 5 * time.Second

// broke shows that the records could not be written and lets nothing new
// begin for a while.
func (m *mending) broke(what string, err error) {
	m.mu.Lock()
	if m.problem == "" {
		m.d.Log.Error(what, "device", m.d.Name, "err", err)
	}
	m.problem = "Yard Tide cannot keep its records: " + err.Error() +
		". Make room on the disk of the data directory and allow writing to it; it goes on by itself."
	if records.IsDamage(err) {
		m.problem = "The records of " + m.d.Name + " are damaged, and nothing is sent until they are rebuilt: stop Yard " +
			"Tide and run: yardtide rebuild. What is at the storages is kept, and nothing is sent that is there."
	}
	m.until = time.Now().Add(m.d.Wait(recordsWait))
	m.mu.Unlock()
	m.d.Changed()
}

// mend tries the records again after they could not be written, and
// takes up what could not be recorded. It returns when to try next, zero when
// all is well.
func (m *mending) mend(ctx context.Context, now time.Time) (time.Time, error) {
	m.mu.Lock()
	until := m.until
	m.mu.Unlock()
	if until.IsZero() || now.Before(until) {
		return until, nil
	}
	var carried []int64
	m.d.mu.Lock()
	for id := range m.d.active {
		carried = append(carried, id)
	}
	m.d.mu.Unlock()
	if err := m.d.Records.Queue.TakeUp(ctx, carried, now); err != nil {
		return time.Time{}, err
	}
	m.recovered()
	return time.Time{}, nil
}

func (m *mending) recovered() {
	m.mu.Lock()
	was := m.problem
	m.problem, m.until = "", time.Time{}
	m.mu.Unlock()
	if was != "" {
		m.d.Changed()
	}
}

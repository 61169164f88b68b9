package link

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/tell"
	"yardtide/wire"
)

// This file keeps what one device told from spoiling the pages of all: what cannot be read of
// it is told as such, and the device tells everything anew.

// tellAnew is answered as the last batch of a device whose mirror cannot be read. No batch is
// called so: the device begins anew.
const tellAnew = "unreadable"

// Unreadable is since when what the device told cannot be read; zero while it can.
func (m *Mirror) Unreadable() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.unreadable
}

// beginning tells whether the device is telling everything anew.
func (m *Mirror) beginning() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.next != nil
}

// spoiled tells whether an error is one of what was told, and not of the question.
func (m *Mirror) spoiled(ctx context.Context, err error) bool {
	var none records.NoItem
	var costs tell.NeedsMetered
	if err == nil || ctx.Err() != nil || errors.As(err, &none) || errors.As(err, &costs) {
		return false
	}
	m.Spoiled(err)
	return true
}

// Spoiled notes that what the device told cannot be read.
func (m *Mirror) Spoiled(err error) {
	m.mu.Lock()
	first := m.unreadable.IsZero()
	if first {
		m.unreadable = time.Now()
	}
	m.mu.Unlock()
	if first {
		m.Log.Error("what a device told cannot be read; it tells everything anew", "device", m.DeviceName(), "err", err)
		m.Tell()
	}
}

// unreadableDevice is the device while what it told cannot be read.
func (m *Mirror) unreadableDevice() wire.Device {
	m.mu.Lock()
	defer m.mu.Unlock()
	return wire.Device{
		Name: m.DeviceName(), Conditions: m.told.Known.Conditions.Sound(), Modem: m.told.Known.Modem.Sound(),
		States: map[queue.State]wire.Amount{}, Kinds: []media.Kind{},
		Beside: []wire.Beside{}, Doubles: []wire.Doubled{}, Holds: []wire.HoldGroup{}, Sends: []wire.Send{},
		Lanes: []wire.Lane{}, Sources: []wire.Source{},
		Problem: fmt.Sprintf("What %s told cannot be read since %s. What is safe stays safe; it tells everything anew "+
			"when it is heard of.", m.DeviceName(), m.unreadable.Format("15:04 on 2 January")),
		Link: &wire.DeviceLink{Heard: m.told.Heard, Connected: m.told.connected(time.Now()), Version: m.told.Version,
			Reached: []wire.Reached{}, Says: "What it told cannot be read."},
	}
}

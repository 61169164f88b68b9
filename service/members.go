package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"yardtide/engine/device"
	"yardtide/engine/records"
)

// members are the devices of this process. Some come and go while it runs: those of phones that hand over. It is safe
// for concurrent use.
type members struct {
	mu   sync.Mutex
	list []*member
	ctx  context.Context //nolint:containedctx // of Run, nil before and after it
	run  sync.WaitGroup
	fail func(error) // ends Run
}

// member is one of them.
type member struct {
	*device.Device
	records *records.Records
	ends    context.CancelFunc // nil while it does not run
	ended   chan struct{}
}

func (m *members) all() []*member {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.list)
}

// add takes a device in. It runs at once where the others do.
func (m *members) add(d *device.Device, r *records.Records) {
	m.mu.Lock()
	defer m.mu.Unlock()
	one := &member{Device: d, records: r, ended: make(chan struct{})}
	m.list = append(slices.Clone(m.list), one)
	if m.ctx != nil {
		m.begin(one)
	}
}

// begin has a device run. The caller has the lock.
func (m *members) begin(one *member) {
	ctx, cancel := context.WithCancel(m.ctx)
	one.ends = cancel
	m.run.Go(func() {
		defer close(one.ended)
		if err := one.Run(ctx); err != nil && ctx.Err() == nil {
			m.fail(fmt.Errorf("running %s: %w", one.Name, err))
		}
	})
}

// follow runs the devices until the context ends, or one fails.
func (m *members) follow(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	m.mu.Lock()
	m.ctx, m.fail = ctx, func(err error) { cancel(err) }
	for _, one := range m.list {
		m.begin(one)
	}
	m.mu.Unlock()
	<-ctx.Done()
	m.mu.Lock()
	m.ctx = nil
	m.mu.Unlock()
	m.run.Wait()
	if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// remove ends a device and lets go of its records; false when there is none of the name.
func (m *members) remove(name string) (bool, error) {
	m.mu.Lock()
	i := slices.IndexFunc(m.list, func(one *member) bool { return one.Name == name })
	if i < 0 {
		m.mu.Unlock()
		return false, nil
	}
	one := m.list[i]
	m.list = slices.Delete(slices.Clone(m.list), i, i+1)
	m.mu.Unlock()
	if one.ends != nil {
		one.ends()
		<-one.ended
	}
	return true, one.records.Close()
}

// close lets go of the records of all.
func (m *members) close() (err error) {
	for _, one := range m.all() {
		err = errors.Join(err, one.records.Close())
	}
	return err
}

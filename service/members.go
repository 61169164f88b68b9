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

// members are the devices of this process. Some come while it runs: those of phones that hand over. It is safe
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
	one := &member{d, r}
	m.list = append(slices.Clone(m.list), one)
	if m.ctx != nil {
		m.begin(one)
	}
}

// begin has a device run. The caller has the lock.
func (m *members) begin(one *member) {
	ctx := m.ctx
	m.run.Go(func() {
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

// close lets go of the records of all.
func (m *members) close() (err error) {
	for _, one := range m.all() {
		err = errors.Join(err, one.records.Close())
	}
	return err
}

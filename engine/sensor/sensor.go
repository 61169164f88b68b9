// Package sensor tells a device's network, power and use: what gates look at.
// System is that of this machine; Set is set by hand (standin/ uses it). It decides nothing.
package sensor

import (
	"context"
	"sync"

	"yardtide/core/gate"
)

// Sensor tells the conditions of a device. Watch calls tell with the present
// ones before it returns anything else, and again whenever they change, one
// call at a time, until the context ends; it then returns nil.
type Sensor interface {
	Watch(ctx context.Context, tell func(gate.Conditions)) error
}

// Modem tells whether a sensor's device has a modem; unknown when it cannot tell.
func Modem(s Sensor) gate.Known {
	if able, is := s.(interface{ Modem() gate.Known }); is {
		return able.Modem()
	}
	return gate.Unknown
}

// Modem tells that a device whose conditions are set has one.
func (s *Set) Modem() gate.Known { return gate.Yes }

// Set is a sensor whose conditions are set. The zero value has no network.
type Set struct {
	mu      sync.Mutex
	now     gate.Conditions
	changed chan struct{} // closed at the next change
}

// Put sets the conditions.
func (s *Set) Put(c gate.Conditions) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now = c
	if s.changed != nil {
		close(s.changed)
		s.changed = nil
	}
}

// Get returns the conditions.
func (s *Set) Get() gate.Conditions {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// Watch implements Sensor.
func (s *Set) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	for {
		s.mu.Lock()
		now := s.now
		if s.changed == nil {
			s.changed = make(chan struct{})
		}
		changed := s.changed
		s.mu.Unlock()
		tell(now)
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		}
	}
}

package device_test

import (
	"context"
	"errors"
	"log/slog"
	"testing"

	"yardtide/engine/destination"
)

// noFault is a log that fails the test when a device reports a fault of its own: a copy that
// failed by no known cause.
func noFault(t *testing.T) *slog.Logger { return slog.New(faults{slog.DiscardHandler, t}) }

type faults struct {
	slog.Handler
	t *testing.T
}

func (f faults) Enabled(_ context.Context, level slog.Level) bool { return level >= slog.LevelError }

func (f faults) Handle(_ context.Context, r slog.Record) error {
	if r.Message != "a copy failed in a way that is not known" && r.Message != "a send panicked" {
		return nil
	}
	says, meant := r.Message, false
	r.Attrs(func(a slog.Attr) bool {
		var injected *destination.Error // a driver of a test failed so
		err, is := a.Value.Any().(error)
		meant = meant || is && errors.As(err, &injected)
		says += " " + a.String()
		return true
	})
	if !meant {
		f.t.Errorf("the device reports a fault: %s", says)
	}
	return nil
}

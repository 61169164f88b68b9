package device_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/awake"
	"yardtide/wire"
)

// bed notes what a device asks of its system.
type bed struct {
	mu    sync.Mutex
	holds int
	held  int // in all
	done  []awake.Then
	fails bool
}

func (b *bed) Hold(context.Context, string) (func(), error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.fails {
		return nil, awake.ErrUnable
	}
	b.holds++
	b.held++
	return func() { b.mu.Lock(); b.holds--; b.mu.Unlock() }, nil
}

func (b *bed) Do(_ context.Context, then awake.Then) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.fails {
		return errors.New("no")
	}
	if b.holds > 0 {
		return errors.New("it is held still")
	}
	b.done = append(b.done, then)
	return nil
}

func (b *bed) now() (holds, held int, done []awake.Then) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.holds, b.held, b.done
}

// wakeful is a yard whose device is kept awake while it sends, if the plan says so.
func wakeful(t *testing.T, keep string) (*yard, *bed) {
	y := setup(t, none)
	b := &bed{}
	y.stop()
	require.NoError(t, y.storage.Close())
	y.storage.Rate = 100_000 // so that sending takes a while
	require.NoError(t, y.storage.Start("127.0.0.1:0"))
	y.awake = b
	y.start()
	p, err := plantext.Parse("plan", []byte(yardPlan))
	require.NoError(t, err)
	d := p.Devices["phone"]
	if keep != "" {
		d.Awake = plan.AwakeWhileSending
		if keep != "always" {
			d.AwakeWhen.Power, err = plan.ParsePower(keep)
			require.NoError(t, err)
		}
	}
	p.Devices["phone"] = d
	y.device.SetPlan(p)
	return y, b
}

func TestASystemIsKeptAwakeWhileSomethingGoesAndLetGoAtOnce(t *testing.T) {
	t.Parallel()
	for keep, holds := range map[string]bool{"always": true, "at least 40%": true, "charging": false, "": false} {
		t.Run("keep "+keep, func(t *testing.T) {
			y, b := wakeful(t, keep)
			for i := range 4 {
				y.picture(string(rune('a'+i))+".jpg", i)
			}
			y.until("they wait", func(d wire.Device) bool { return d.States[queue.Waiting].N == 4 })
			time.Sleep(50 * time.Millisecond)
			_, held, _ := b.now()
			assert.Zero(t, held, "nothing can go: it may sleep")
			y.sensor.Put(home)
			if holds {
				y.until("it is held", func(wire.Device) bool { n, _, _ := b.now(); return n == 1 })
				st, err := y.device.Told.Status(t.Context())
				require.NoError(t, err)
				assert.Contains(t, st.Awake.Says, "Kept awake until")
			}
			y.until("they are safe", func(d wire.Device) bool { return d.States[queue.Safe].N == 4 })
			y.until("it may sleep", func(wire.Device) bool { n, _, _ := b.now(); return n == 0 })
			_, held, done := b.now()
			assert.Equal(t, holds, held > 0)
			assert.Empty(t, done, "it is sent nowhere")
		})
	}
}

func TestFinishHoldsUntilNothingMoreCanGoAndThenSleeps(t *testing.T) {
	t.Parallel()
	y, b := wakeful(t, "")
	for i := range 3 {
		y.picture(string(rune('a'+i))+".jpg", i)
	}
	y.until("they wait", func(d wire.Device) bool { return d.States[queue.Waiting].N == 3 })
	y.sensor.Put(home)
	require.NoError(t, y.device.Orders.Finish(t.Context(), "sleep"))
	require.Error(t, y.device.Orders.Finish(t.Context(), "explode"))
	y.until("it is held", func(wire.Device) bool { n, _, _ := b.now(); return n == 1 })
	y.until("it sleeps", func(wire.Device) bool { _, _, done := b.now(); return len(done) == 1 })
	assert.Equal(t, int64(3), y.status().States[queue.Safe].N, "everything had gone")
	n, _, done := b.now()
	assert.Zero(t, n)
	assert.Equal(t, []awake.Then{awake.Sleep}, done)

	// Taken back, nothing happens; where the system cannot, that is said.
	require.NoError(t, y.device.Orders.Finish(t.Context(), "off"))
	require.NoError(t, y.device.Orders.Finish(t.Context(), ""))
	time.Sleep(200 * time.Millisecond)
	_, _, done = b.now()
	assert.Len(t, done, 1)
	b.mu.Lock()
	b.fails = true
	b.mu.Unlock()
	require.NoError(t, y.device.Orders.Finish(t.Context(), "off"))
	y.until("it says that it could not", func(d wire.Device) bool { return d.Awake.Then == "" && d.Awake.Says != "" })
}

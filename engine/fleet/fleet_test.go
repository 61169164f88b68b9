package fleet_test

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/fleet"
	"yardtide/engine/records"
)

// What lands while a storage is asked for its room is not forgotten when it
// answers.
func TestWhatLandsWhileRoomIsAskedForCounts(t *testing.T) {
	f := &fleet.Fleet{}
	assert.EqualValues(t, -1, f.Left("shed", 0), "nobody knows")
	assert.True(t, f.Take("shed", 1<<40, 0))
	f.Give("shed", 1<<40, false)
	f.SetSpace("shed", destination.Space{Free: 1000, Used: 0}, f.Landed("shed"))
	before := f.Landed("shed")
	require.True(t, f.Take("shed", 300, 0))
	assert.EqualValues(t, 700, f.Left("shed", 0), "what is under way has its room")
	f.Give("shed", 300, true) // after the question, before the answer
	f.SetSpace("shed", destination.Space{Free: 1000, Used: 0}, before)
	assert.EqualValues(t, 700, f.Left("shed", 0))
	assert.EqualValues(t, 600, f.Left("shed", 100))
	assert.False(t, f.Take("shed", 601, 100))
	assert.Equal(t, destination.Space{Free: 700, Used: 300}, f.SpaceNow("shed"))
	f.SetSpace("shed", destination.Space{Free: 700, Used: 300}, f.Landed("shed"))
	assert.EqualValues(t, 700, f.Left("shed", 0), "and not twice")
}

// Two never send the same content to one destination at once; who waits goes on when
// the other ends, and goes when it is cut.
func TestTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &fleet.Fleet{}
		c := records.Copy{Class: queue.Class{Destination: "shed"}, Bytes: 300}
		turn := func(ctx context.Context, c records.Copy, look, hash string) (*fleet.Turn, error) {
			return f.Turn(ctx, c, look, hash, true)
		}
		unknown, err := f.Turn(t.Context(), c, "alike", "", false)
		require.NoError(t, err)
		other := c
		other.Destination = "locker"
		for name, ask := range map[string]func() (*fleet.Turn, error){
			"elsewhere":   func() (*fleet.Turn, error) { return turn(t.Context(), other, "alike", "a") },
			"unlike":      func() (*fleet.Turn, error) { return turn(t.Context(), c, "another", "a") },
			"not waiting": func() (*fleet.Turn, error) { return f.Turn(t.Context(), c, "alike", "a", false) },
		} {
			got, err := ask()
			require.NoError(t, err, name)
			f.End(got)
		}
		ctx, cut := context.WithCancelCause(t.Context())
		cutHere := errors.New("cut")
		time.AfterFunc(time.Second, func() { cut(cutHere) })
		_, err = turn(ctx, c, "alike", "a")
		require.ErrorIs(t, err, cutHere, "it may be the same")

		began := time.Now()
		time.AfterFunc(time.Minute, func() { f.End(unknown) })
		first, err := turn(t.Context(), c, "alike", "a")
		require.NoError(t, err)
		assert.Equal(t, time.Minute, time.Since(began))
		second, err := turn(t.Context(), c, "alike", "b")
		require.NoError(t, err, "its hash is another")
		time.AfterFunc(time.Minute, func() { f.End(first) })
		third, err := turn(t.Context(), c, "alike", "a")
		require.NoError(t, err)
		assert.Equal(t, 2*time.Minute, time.Since(began))
		f.End(second)
		f.End(third)
		f.End(nil)
	})
}

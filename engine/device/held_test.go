package device_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/wire"
)

// What a folder and a rule hold is what lies there, what of it is safe, and what waits and why.
func TestWhatFoldersAndRulesHold(t *testing.T) {
	t.Parallel()
	now := home
	y := setup(t, now)
	y.picture("one.jpg", 1)
	y.picture("two.jpg", 2)
	y.until("safe", counts(queue.Safe, 2))
	now = none
	y.sensor.Put(now)
	y.picture("three.jpg", 3)
	y.until("waiting", counts(queue.Waiting, 1))
	y.clip("launch.mp4")
	y.follow("- folder: DCIM", "- folder: DCIM\n        leave-out: [\"*.mp4\"]")
	require.Eventually(t, func() bool {
		held, err := y.device.Told.Held(t.Context())
		require.NoError(t, err)
		require.Len(t, held.Folders, 1)
		return held.Folders[0].LeftOut.N == 1
	}, time.Minute, 20*time.Millisecond)
	held, err := y.device.Told.Held(t.Context())
	require.NoError(t, err)
	folder := held.Folders[0]
	assert.Equal(t, "DCIM", folder.Folder)
	assert.EqualValues(t, 3, folder.All.N)
	assert.EqualValues(t, 2, folder.Safe.N)
	assert.False(t, folder.Changed.IsZero())
	left, err := y.device.Told.Items(t.Context(), wire.Filter{State: string(queue.Skipped), Limit: 10})
	require.NoError(t, err)
	require.Len(t, left, 1, "what is left out is in the list of it")
	assert.Equal(t, "DCIM/launch.mp4", left[0].Path)
	assert.Contains(t, left[0].Says, "*.mp4", "and by what")
	more, err := y.device.Told.Items(t.Context(), wire.Filter{State: string(queue.Skipped), Limit: 10, After: left[0].Key})
	require.NoError(t, err)
	assert.Empty(t, more)
	pictures, err := y.device.Told.Items(t.Context(), wire.Filter{State: string(queue.Skipped), Kind: "photo", Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, pictures)
	require.Len(t, held.Rules, 1)
	assert.Equal(t, "everyday", held.Rules[0].Rule)
	assert.EqualValues(t, 3, held.Rules[0].All.N)
	assert.EqualValues(t, 2, held.Rules[0].Safe.N)
	assert.Equal(t, folder.All.Bytes, held.Rules[0].All.Bytes)
	require.Len(t, held.Rules[0].Holds, 1)
	assert.Equal(t, wire.Amount{N: 1, Bytes: folder.All.Bytes - folder.Safe.Bytes}, held.Rules[0].Holds[0].Amount)
}

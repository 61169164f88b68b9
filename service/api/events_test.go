package api

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/service"
	"yardtide/wire"
)

func TestAStatusIsMadeOnceForAllWhoListen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var changes service.Changes
		made := 0
		var fails error
		tells := telling{next: changes.Next, status: func(context.Context) (wire.Yard, error) {
			made++
			return wire.Yard{Devices: []wire.Device{{Name: "phone"}}}, fails
		}}
		now := func(fresh bool) event {
			is, err := tells.now(fresh)
			require.NoError(t, err)
			return is
		}
		for range 10 {
			assert.Contains(t, now(true).text, "phone")
		}
		assert.Equal(t, 1, made, "ten who come at once")
		changes.Tell()
		now(false)
		assert.Equal(t, 1, made, "one who listened is told at its next pace")
		now(true)
		assert.Equal(t, 2, made, "one who comes is told what is so now")
		time.Sleep(pace)
		changes.Tell()
		for range 10 {
			now(false)
		}
		assert.Equal(t, 3, made, "ten who were woken by one change")
		time.Sleep(pace)
		fails = errors.New("the records are damaged")
		_, err := tells.now(false)
		require.ErrorIs(t, err, fails)
		fails = nil
		now(false)
		assert.Equal(t, 5, made, "a failure is not kept")
	})
}

package probe_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/engine/probe"
	"yardtide/standin"
)

// Where a picture was taken is read as it was written, on each side of the earth.
func TestWhereItWasTaken(t *testing.T) {
	t.Parallel()
	for _, at := range []media.Position{{Lat: 54.5231, Lon: 8.6482}, {Lat: -33.8568, Lon: 151.2153}, {Lat: 40.6892, Lon: -74.0445}, {Lat: -54.8019, Lon: -68.3030}} {
		content, err := standin.JPEGAt(1, 200, time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC), at)
		require.NoError(t, err)
		m, err := probe.Marks(bytes.NewReader(content), "image/jpeg")
		require.NoError(t, err)
		require.NotNil(t, m.Position)
		assert.InDelta(t, at.Lat, m.Position.Lat, 0.00001)
		assert.InDelta(t, at.Lon, m.Position.Lon, 0.00001)
	}
	// No position, one that cannot be, and that of a receiver that knew nothing yet.
	plain, err := standin.JPEG(1, 200, time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	nowhere, err := standin.JPEGAt(1, 200, time.Now(), media.Position{})
	require.NoError(t, err)
	beyond, err := standin.JPEGAt(1, 200, time.Now(), media.Position{Lat: 123, Lon: 8})
	require.NoError(t, err)
	for _, content := range [][]byte{plain, nowhere, beyond, nowhere[:300]} {
		m, err := probe.Marks(bytes.NewReader(content), "image/jpeg")
		require.NoError(t, err)
		assert.Nil(t, m.Position)
	}
}

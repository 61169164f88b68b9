package burst

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheHoldingPlaceKeepsForItsDays(t *testing.T) {
	now, dir := time.Now(), t.TempDir()
	name := func(at time.Time, of string) string {
		p := filepath.Join(dir, strconv.FormatInt(at.Unix(), 10)+" "+of)
		require.NoError(t, os.WriteFile(p, []byte("x"), 0o600))
		return p
	}
	fresh, old := name(now.Add(-heldFor+time.Minute), "a.gif"), name(now.Add(-heldFor-time.Minute), "b.gif")
	theirs := filepath.Join(dir, "somebody's.gif")
	require.NoError(t, os.WriteFile(theirs, nil, 0o600))
	require.NoError(t, emptyHolding(dir, now))
	assert.FileExists(t, fresh)
	assert.FileExists(t, theirs)
	assert.NoFileExists(t, old)
	require.NoError(t, emptyHolding(dir+"/none", now))
}

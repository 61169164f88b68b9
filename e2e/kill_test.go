package e2e

import (
	crand "crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/standin"
	"yardtide/wire"
)

// kills is how many SIGKILLs a test sends: a sample, or YARDTIDE_KILLS.
func kills() int {
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_KILLS")); err == nil && n > 0 {
		return n
	}
	return 50
}

// SIGKILLs at random moments while two devices send: nothing is lost, nothing lies
// there twice, no half file has a final name.
func TestKilledAgainAndAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "30", "-clips=false", "-rate", "6000000")
	s.stop()
	base, err := standin.JPEG(1, 200, time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC))
	require.NoError(t, err)
	underWay := 0
	for n := range kills() {
		for i := range 3 { // there is always something to send
			tail := make([]byte, 20_000+rand.IntN(120_000))
			_, _ = crand.Read(tail) // it never fails
			file := fmt.Sprintf("%s/chart-table/Restoration/more/%d-%d.jpg", dir, n, i)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, append(base[:len(base):len(base)], tail...), 0o644))
			past := time.Now().Add(-time.Hour)
			require.NoError(t, os.Chtimes(file, past, past))
		}
		s.start()
		time.Sleep(time.Duration(rand.IntN(200)) * time.Millisecond)
		s.kill()
		if left, err := filepath.Glob(dir + "/north-locker/.yardtide/*.part"); assert.NoError(t, err) && len(left) > 0 {
			underWay++
		}
		if n%20 == 0 {
			halves(t, dir)
		}
	}
	t.Logf("%d of %d kills came while something was sent", underWay, kills())
	assert.Greater(t, underWay, kills()/10, "kills should come while something is sent")
	s.start()
	s.phone(onWiFi)
	s.until("all safe", func(y wire.Yard) bool {
		return settled(y) && total(y, queue.Waiting, queue.Preparing, queue.Sending, queue.Proving, queue.Stuck) == 0
	})
	halves(t, dir)
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(dir + "/north-locker/.yardtide/*.part")
		return assert.NoError(t, err) && len(left) == 0
	}, time.Minute, 50*time.Millisecond, "temporary files are left")
	there := stored(t, dir+"/north-locker")
	want := sources(t, dir)
	for sum, file := range want {
		assert.Contains(t, there, sum, "lost: %s", file)
	}
	assert.Len(t, there, len(want), "something lies there that nobody sent")
	s.stop()
	for _, name := range []string{"galley-phone", "chart-table"} {
		r, err := records.Open(t.Context(), filepath.Join(dir, "data/devices", name, "records.db"))
		require.NoError(t, err)
		counters, err := r.Queue.Counters(t.Context())
		require.NoError(t, err)
		for _, c := range counters {
			assert.Contains(t, []queue.State{queue.Safe, queue.Skipped}, c.State, name)
			assert.Contains(t, media.Kinds, c.Kind)
		}
		require.NoError(t, r.Close())
	}
}

// sources are the demo's pictures by hash.
func sources(t testing.TB, dir string) map[string]string {
	t.Helper()
	byHash := map[string]string{}
	for _, root := range []string{dir + "/galley-phone/DCIM", dir + "/chart-table/Restoration"} {
		require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(p, ".txt") {
				return err
			}
			content, err := os.ReadFile(p)
			if sum := sha256.Sum256(content); len(content) > 0 {
				byHash[hex.EncodeToString(sum[:])] = p
			}
			return err
		}))
	}
	return byHash
}

// halves sees that whatever has a final name is one of the pictures, whole.
func halves(t testing.TB, dir string) {
	t.Helper()
	want := sources(t, dir)
	for sum, file := range stored(t, dir+"/north-locker") {
		assert.Contains(t, want, sum, "half a file has a final name: %s", file)
	}
}

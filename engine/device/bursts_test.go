package device_test

import (
	"fmt"
	"image/gif"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// shoot puts shots in a row into the gallery, of one picture.
func (y *yard) shoot(name string, picture, n int, from time.Time) {
	y.t.Helper()
	for i := range n {
		content, err := standin.JPEG(picture, 640, from.Add(time.Duration(i)*time.Second))
		require.NoError(y.t, err)
		y.file(fmt.Sprintf("%s%d.jpg", name, i), content)
	}
}

func TestShotsInARowBecomeAMovingPictureBesideThem(t *testing.T) {
	t.Parallel()
	charged := home
	charged.Charging = gate.Yes
	y := setup(t, charged)
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	y.shoot("gull", 1, 5, noon)
	y.shoot("pair", 2, 2, noon.Add(time.Hour))
	for i := range 4 { // in a row, and of other things
		content, err := standin.JPEG(20+7*i, 640, noon.Add(2*time.Hour+time.Duration(i)*time.Second))
		require.NoError(t, err)
		y.file(fmt.Sprintf("walk%d.jpg", i), content)
	}
	y.until("safe", counts(queue.Safe, 11))
	found, err := y.device.Shows.FoundBursts(t.Context(), "everyday")
	require.NoError(t, err)
	require.Len(t, found.Bursts, 1, "shown before it is switched on")
	assert.Equal(t, []any{int64(5), "gull0.jpg", "gull4.jpg"},
		[]any{found.Bursts[0].N, found.Bursts[0].First, found.Bursts[0].Last})
	assert.NoDirExists(t, y.dir+"/data/bursts/everyday", "and nothing is made before")

	y.follow("    to: [locker]\n", "    to: [locker]\n    bursts: true\n")
	y.until("made and safe", counts(queue.Safe, 12))
	c := y.copy("gull0 to gull4.mp4")
	assert.Equal(t, "2026/03/gull0 to gull4.mp4", c.Remote)
	said, err := exec.CommandContext(t.Context(), "ffprobe", "-v", "error", "-show_format", "-show_streams",
		filepath.Join(y.dir, "locker", c.Remote)).CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "Made of 5 shots in a row, gull0.jpg to gull4.jpg.")
	assert.Contains(t, string(said), "nb_frames=5")
	for i := range 5 {
		assert.FileExists(t, filepath.Join(y.dir, "phone/DCIM", fmt.Sprintf("gull%d.jpg", i)), "never in place of its shots")
	}
	require.Eventually(t, func() bool {
		left, err := os.ReadDir(y.dir + "/data/bursts/everyday")
		return err == nil && len(left) == 0
	}, time.Minute, 20*time.Millisecond, "what is safe need not stay")
	held, err := filepath.Glob(y.dir + "/data/bursts/.held/*")
	require.NoError(t, err)
	assert.Len(t, held, 1, "its bytes wait in the holding place")

	// It is made once.
	y.stop()
	y.start()
	y.follow("    to: [locker]\n", "    to: [locker]\n    bursts: true\n")
	y.large("later.jpg", 9)
	y.until("safe", func(s wire.Device) bool { return s.States[queue.Safe].N == 13 })
	time.Sleep(time.Second)
	assert.Len(t, y.below("2026"), 13)
}

func TestWithoutFFmpegItIsAnAnimatedPicture(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	y := setup(t, none)
	y.follow("take: [photo, video]\n", "take: [photo, graphic, video]\n", "    to: [locker]\n",
		"    to: [locker]\n    bursts: true\n")
	y.shoot("gull", 1, 4, time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	y.until("found", func(s wire.Device) bool { return total(s.States) == 4 })
	time.Sleep(300 * time.Millisecond)
	assert.NoFileExists(t, y.dir+"/data/bursts/everyday/gull0 to gull3.gif", "on charge only")
	charged := home
	charged.Charging = gate.Yes
	y.sensor.Put(charged)
	y.until("safe", func(s wire.Device) bool { return s.States[queue.Safe].N == 5 })
	f, err := os.Open(filepath.Join(y.dir, "locker", y.copy("gull0 to gull3.gif").Remote))
	require.NoError(t, err)
	defer f.Close()
	all, err := gif.DecodeAll(f)
	require.NoError(t, err)
	assert.Len(t, all.Image, 4)
}

package device_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// raw is a raw file as cameras make them, with noise in it.
func raw(n int) []byte {
	return append([]byte("II*\x00\x10\x00\x00\x00CR\x02\x00\x00\x00\x00\x00"),
		bytes.Repeat([]byte{byte(n), 3, 1}, 20_000)...)
}

func (y *yard) item(name string) wire.Item {
	y.t.Helper()
	found, err := y.device.Told.Find(y.t.Context(), name, 5)
	require.NoError(y.t, err)
	require.Len(y.t, found, 1, name)
	return found[0]
}

func TestWhatBelongsTogetherIsOneItem(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.follow("take: [photo, video]\n", "take: [photo, raw, video]\n", "devices:", "devices:")
	y.large("IMG_1.JPG", 1)
	y.file("IMG_1.CR2", raw(1))
	y.file("IMG_1.xmp", []byte(sidecar("Launching", 5)))
	y.large("IMG_2.JPG", 2)
	clip := t.TempDir() + "/clip.mp4"
	require.NoError(t, standin.Clip(clip, 1, 320, 60, time.Date(2026, 3, 1, 10, 2, 0, 0, time.UTC)))
	content, err := os.ReadFile(clip)
	require.NoError(t, err)
	y.file("IMG_2.MOV", content)
	y.file("alone.CR2", raw(2))
	s := y.until("found", func(s wire.Device) bool { return total(s.States) == 3 })
	sum := int64(0)
	for _, name := range []string{"IMG_1.JPG", "IMG_1.CR2", "IMG_1.xmp", "IMG_2.JPG", "IMG_2.MOV", "alone.CR2"} {
		info, err := os.Stat(filepath.Join(y.dir, "phone/DCIM", name))
		require.NoError(t, err)
		sum += info.Size()
	}
	all := int64(0)
	for _, a := range s.States {
		all += a.Bytes
	}
	assert.Equal(t, sum, all, "an item has the bytes of all its files")

	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 3))
	assert.ElementsMatch(t, []string{"03/IMG_1.JPG", "03/IMG_1.CR2", "03/IMG_1.xmp", "03/IMG_2.JPG", "03/IMG_2.MOV"},
		y.below("2026")[:5])
	one := y.item("IMG_1.CR2")
	assert.Equal(t, "IMG_1.JPG", one.Name, "who looks for a part finds the item")
	assert.ElementsMatch(t, []string{"IMG_1.CR2", "IMG_1.xmp"}, []string{one.Parts[0].Name, one.Parts[1].Name})
	assert.Equal(t, "Safe at locker.", one.Says)
	story, err := y.device.Told.Story(t.Context(), one.Key)
	require.NoError(t, err)
	named := map[string]bool{}
	for _, e := range story.Story {
		named[e.Part] = true
	}
	assert.True(t, named["IMG_1.CR2"] && named["IMG_1.xmp"] && named[""])

	// It is safe when each of its files is.
	y.sensor.Put(none)
	y.file("IMG_2.xmp", []byte(sidecar("later", 3)))
	y.until("waits again", func(s wire.Device) bool {
		return s.States[queue.Waiting].N == 1 && s.States[queue.Safe].N == 2
	})
	assert.Equal(t, "waiting", y.item("IMG_2.JPG").State)
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 3))

	// Without its main file a raw is an item of its own; what is safe stays so.
	require.NoError(t, os.Remove(filepath.Join(y.dir, "phone/DCIM/IMG_1.JPG")))
	y.until("apart", func(s wire.Device) bool { return s.States[queue.Safe].N == 4 })
	assert.Equal(t, "IMG_1.CR2", y.item("IMG_1.CR2").Name)
	y.large("IMG_1.JPG", 9)
	y.until("together again", func(s wire.Device) bool {
		return s.States[queue.Safe].N == 4 && y.item("IMG_1.CR2").Name == "IMG_1.JPG"
	})
}

func TestARuleSaysWhichPartsGo(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.follow("\nyard:", "\nformat: 2\nyard:")
	y.large("IMG_1.JPG", 1)
	y.file("IMG_1.CR2", raw(1))
	y.file("IMG_1.JPG.xmp", []byte(sidecar("Launching", 5)))
	y.until("found", func(s wire.Device) bool { return total(s.States) == 1 })
	y.sensor.Put(home)
	y.until("safe", func(s wire.Device) bool { return s.States[queue.Safe].N == 1 && total(s.States) == 1 })
	assert.ElementsMatch(t, []string{"03/IMG_1.JPG", "03/IMG_1.JPG.xmp"}, y.below("2026"),
		"raw files are not taken, sidecars go")
	y.follow("\nyard:", "\nformat: 2\nyard:", "    to: [locker]\n", "    to: [locker]\n    companions: [raw]\n")
	y.until("the raw goes", func(s wire.Device) bool { return len(y.below("2026")) == 3 && s.States[queue.Safe].N == 1 })
	assert.Contains(t, y.below("2026"), "03/IMG_1.CR2")
	y.follow("\nyard:", "\nformat: 2\nyard:", "    to: [locker]\n", "    to: [locker]\n    companions: [none]\n")
	y.large("IMG_2.JPG", 2)
	y.file("IMG_2.CR2", raw(2))
	y.until("safe", counts(queue.Safe, 2))
	assert.NotContains(t, y.below("2026"), "03/IMG_2.CR2")
	y.follow("\nyard:", "\nformat: 2\nyard:", "    to: [locker]\n",
		"    to: [locker]\n    companions: [raw, clip, sidecar]\n")
	y.until("it goes, too", func(s wire.Device) bool { return len(y.below("2026")) == 5 && s.States[queue.Safe].N == 2 })
}

func TestASidecarStaysWhereThePlaceIsLeftOut(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.follow("destinations:", "renditions:\n  quiet: {facts: no place}\ndestinations:", "    to: [locker]\n",
		"    to: [locker]\n    send: {photo: quiet}\n")
	y.large("IMG_1.JPG", 1)
	y.file("IMG_1.xmp", []byte(sidecar("At the slip", 5)))
	y.until("found", func(s wire.Device) bool { return total(s.States) == 1 })
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 1))
	assert.Equal(t, []string{"03/IMG_1.JPG"}, y.below("2026"))
	y.follow("destinations:", "renditions:\n  quiet: {long-edge: 800}\ndestinations:", "    to: [locker]\n",
		"    to: [locker]\n    send: {photo: quiet}\n")
	y.until("it goes when all is told", func(s wire.Device) bool {
		return len(y.below("2026")) == 2 && s.States[queue.Safe].N == 1
	})
}

func TestPartsKeepTheNameOfTheirMainFile(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	require.NoError(t, os.MkdirAll(y.dir+"/locker/2026/03", 0o755))
	require.NoError(t, os.WriteFile(y.dir+"/locker/2026/03/IMG_1.JPG", []byte("another's"), 0o644))
	y.follow("take: [photo, video]\n", "take: [photo, raw, video]\n")
	y.file("IMG_1.CR2", raw(1))
	y.file("IMG_1.JPG.xmp", []byte(sidecar("Launching", 5)))
	y.large("IMG_1.JPG", 1)
	y.until("found", func(s wire.Device) bool { return total(s.States) == 1 && len(y.item("IMG_1.JPG").Parts) == 2 })
	y.sensor.Put(home)
	y.until("safe", func(s wire.Device) bool { return s.States[queue.Safe].N == 1 && total(s.States) == 1 })
	main := y.copy("IMG_1.JPG")
	stem := main.Remote[:len(main.Remote)-len(".JPG")]
	require.NotEqual(t, "2026/03/IMG_1", stem, "the name was taken")
	y.until("each file", func(wire.Device) bool { return len(y.below("2026")) == 4 })
	assert.ElementsMatch(t, []string{"03/IMG_1.JPG", stem[5:] + ".JPG", stem[5:] + ".CR2", stem[5:] + ".JPG.xmp"},
		y.below("2026"))
}

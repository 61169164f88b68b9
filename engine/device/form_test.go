package device_test

import (
	"bytes"
	"fmt"
	picture "image/jpeg"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/standin"
	"yardtide/wire"
)

// asReduced has photos go in a form.
func (y *yard) asReduced(form string) {
	y.t.Helper()
	text := yardPlan
	if form != "" {
		text = strings.NewReplacer("destinations:", "renditions:\n  small: "+form+"\ndestinations:", "    to: [locker]\n",
			"    send: {photo: small}\n    to: [locker]\n").Replace(yardPlan)
	}
	p, err := plantext.Parse("plan", []byte(text))
	require.NoError(y.t, err)
	y.device.SetPlan(p)
}

// large puts a picture into the gallery that is larger than the forms.
func (y *yard) large(name string, n int) {
	y.t.Helper()
	content, err := standin.JPEG(n, 900, time.Date(2026, 3, 1, 10, n, 0, 0, time.UTC))
	require.NoError(y.t, err)
	y.file(name, content)
}

// pixels are the edges of what lies at the storage.
func (y *yard) pixels(c records.Copy) (w, h int) {
	y.t.Helper()
	content, err := os.ReadFile(filepath.Join(y.dir, "locker", c.Remote))
	require.NoError(y.t, err)
	assert.EqualValues(y.t, len(content), c.Bytes)
	assert.Equal(y.t, hash(content), c.SHA256)
	is, err := picture.DecodeConfig(bytes.NewReader(content))
	require.NoError(y.t, err)
	return is.Width, is.Height
}

func total(states map[queue.State]wire.Amount) (n int64) {
	for _, a := range states {
		n += a.N
	}
	return n
}

func TestPicturesGoAsTheirRuleSays(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.asReduced("{long-edge: 300}")
	y.large("a.jpg", 1)
	y.large("again/a.jpg", 1) // the same picture
	small, err := standin.JPEG(3, 200, time.Date(2026, 3, 1, 10, 3, 0, 0, time.UTC))
	require.NoError(t, err)
	y.file("small.jpg", small)
	whole, err := standin.JPEG(5, 900, time.Date(2026, 3, 1, 10, 5, 0, 0, time.UTC))
	require.NoError(t, err)
	cut := whole[:len(whole)/2]
	y.file("cut.jpg", cut)
	y.until("found", func(s wire.Device) bool { return total(s.States) == 4 })
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 4))
	c := y.copy("a.jpg")
	w, h := y.pixels(c)
	assert.Equal(t, 300, max(w, h))
	assert.Less(t, c.Bytes, c.Size)
	assert.True(t, c.Reduced)
	assert.Contains(t, y.story("a.jpg"), "Reduced to ")
	assert.Contains(t, y.story("small.jpg"), "It goes as shot: it is within the limits.")
	assert.Contains(t, y.story("cut.jpg"), "It goes as shot: it cannot be read as a picture")
	stored := y.stored()
	assert.Contains(t, stored, hash(small))
	assert.Contains(t, stored, hash(cut))
	assert.Len(t, stored, 3, "the same picture once")
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(y.dir + "/data/renditions/*")
		return err == nil && len(left) == 0
	}, time.Minute, 10*time.Millisecond, "what was sent is kept no longer")

	// What is told in numbers adds up, for the items and for what is sent.
	y.asReduced("")
	y.large("b.jpg", 4)
	y.until("safe as shot", counts(queue.Safe, 5))
	b := y.copy("b.jpg")
	assert.Equal(t, b.Size, b.Bytes)
	assert.False(t, b.Reduced)
	assert.Equal(t, 900, func() int { w, h := y.pixels(b); return max(w, h) }())
	assert.True(t, y.copy("a.jpg").Reduced, "what is safe stays")
	sum := int64(0)
	for _, name := range []string{"a.jpg", "again/a.jpg", "small.jpg", "cut.jpg", "b.jpg"} {
		info, err := os.Stat(filepath.Join(y.dir, "phone/DCIM", name))
		require.NoError(t, err)
		sum += info.Size()
	}
	assert.Equal(t, sum, y.status().States[queue.Safe].Bytes, "items are counted by their own size")
}

// Whatever forms the plan had before, each place gets the one that it asks for as the picture goes.
func TestEachPlaceGetsItsOwnForm(t *testing.T) {
	t.Parallel()
	weak := home
	weak.Battery = 10
	y := setup(t, weak)
	require.NoError(t, os.MkdirAll(y.dir+"/shed", 0o755))
	edges := map[string]int{"": 900, " as shot": 900, " as family": 500, " as tiny": 120}
	plan := func(shed, locker string) {
		y.follow("destinations:", "renditions:\n  family: {long-edge: 500}\n  tiny: {long-edge: 120}\ndestinations:\n"+
			"  shed: {kind: folder, path: "+y.dir+"/shed}", "to: [locker]", "to: [shed"+shed+", locker"+locker+"]")
	}
	forms := slices.Sorted(maps.Keys(edges))
	n := 0
	for _, shed := range forms {
		for _, locker := range forms {
			n++
			name := fmt.Sprintf("%02d.jpg", n)
			plan(forms[n%len(forms)], forms[(n/2)%len(forms)]) // it is found, and maybe prepared, under another
			y.large(name, n)
			y.until("found", heldBy(gate.Power, 1))
			plan(shed, locker)
			y.sensor.Put(home)
			y.until("safe at both", counts(queue.Safe, int64(n)))
			y.sensor.Put(weak)
			y.until("held", func(s wire.Device) bool { return s.Conditions.Battery == 10 })
			of, err := y.records.Catalogue.CopiesOf(t.Context(), []int64{y.copy(name).Item})
			require.NoError(t, err)
			for _, copies := range of {
				require.Len(t, copies, 2)
				for _, c := range copies {
					content, err := os.ReadFile(filepath.Join(y.dir, c.Destination, c.Remote))
					require.NoError(t, err)
					is, err := picture.DecodeConfig(bytes.NewReader(content))
					require.NoError(t, err)
					want := edges[map[string]string{"shed": shed, "locker": locker}[c.Destination]]
					assert.Equal(t, want, max(is.Width, is.Height), "%s at %s (shed%s, locker%s)", name, c.Destination, shed, locker)
					assert.EqualValues(t, len(content), c.Bytes, "what really goes there is what is counted")
					assert.Equal(t, want < 900, c.Reduced)
				}
			}
		}
	}
}

func TestTheFormOfWhatWaitsFollowsThePlan(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.asReduced("{long-edge: 300}")
	y.large("a.jpg", 1)
	y.until("held", heldBy(gate.Network, 1))
	assert.Empty(t, y.copy("a.jpg").Form, "nothing is prepared before it may go")
	// Over cellular as shot it would not fit; reduced it does.
	y.file("noise.jpg", bytes.Repeat([]byte("no picture"), 40_000))
	y.sensor.Put(away)
	y.until("sent over cellular", func(s wire.Device) bool { return s.States[queue.Proving].N == 1 })
	c := y.copy("a.jpg")
	assert.True(t, c.Reduced)
	// Another form for what waits, and then none.
	y.sensor.Put(none)
	y.large("b.jpg", 2)
	y.large("c.jpg", 3)
	y.until("held", heldBy(gate.Network, 2))
	y.asReduced("{megapixels: 0.02, quality: 60}")
	y.sensor.Put(home)
	y.until("safe", counts(queue.Safe, 3))
	w, h := y.pixels(y.copy("b.jpg"))
	assert.LessOrEqual(t, w*h, 20_000)
	w, h = y.pixels(y.copy("a.jpg"))
	assert.Equal(t, 300, max(w, h), "what was sent stays")
}

func TestClipsAreMadeSmallerOnChargeOnly(t *testing.T) {
	y := setup(t, home)
	p, err := plantext.Parse("plan", []byte(strings.NewReplacer("destinations:",
		"renditions:\n  low: {height: 144, quality: 60}\ndestinations:", "    to: [locker]\n", "    send: {video: "+
			"low}\n    to: [locker]\n").Replace(yardPlan)))
	require.NoError(t, err)
	y.device.SetPlan(p)
	file := t.TempDir() + "/clip.mp4"
	require.NoError(t, standin.Clip(file, 1, 480, 60, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)))
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	y.file("launch.MP4", content)
	y.picture("a.jpg", 1)
	s := y.until("the clip is held", heldBy(gate.Power, 1))
	assert.Contains(t, s.Holds[0].Says, "clips are made smaller on charge only")
	y.until("the picture is not", func(s wire.Device) bool { return s.States[queue.Safe].N == 1 })
	charged := home
	charged.Charging = gate.Yes
	y.sensor.Put(charged)
	y.until("safe", counts(queue.Safe, 2))
	c := y.copy("launch.MP4")
	assert.True(t, c.Reduced)
	assert.Less(t, c.Bytes, c.Size)
	assert.Equal(t, "2026/03/launch.MP4", c.Remote)
	assert.Contains(t, y.story("launch.MP4"), "Reduced to ")
	stored, err := os.ReadFile(filepath.Join(y.dir, "locker", c.Remote))
	require.NoError(t, err)
	assert.Equal(t, c.SHA256, hash(stored))
	says, err := y.device.Told.Doubts(t.Context(), p)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(words.Said(says), "|"), "ffmpeg")
	t.Setenv("PATH", t.TempDir())
	says, err = y.device.Told.Doubts(t.Context(), p)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(words.Said(says), "|"), "ffmpeg is not installed on phone: the clips of everyday go as shot.")
}

func TestWhatWasPreparedIsMadeAgainAfterItWasLost(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.storage.SetFaults(standin.Faults{Away: true})
	y.asReduced("{long-edge: 300}")
	for n := range 5 {
		y.large(string(rune('a'+n))+".jpg", n)
	}
	y.until("prepared", func(wire.Device) bool {
		ready, err := y.records.Forms.AllPrepared(t.Context())
		require.NoError(t, err)
		return len(ready) == 1 && ready[0].N == 5 && len(y.prepared()) == 5
	})
	before := y.copy("a.jpg")
	y.stop()
	// The cache is gone, and one file in it is not what was made.
	files := y.prepared()
	require.NoError(t, os.Remove(files[0]))
	require.NoError(t, os.WriteFile(files[1], []byte("not what was made"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Dir(files[0])+"/making-12345", []byte("half"), 0o600))
	y.start()
	y.asReduced("{long-edge: 300}")
	y.storage.SetFaults(standin.Faults{})
	y.until("safe", counts(queue.Safe, 5))
	assert.Equal(t, before.Bytes, y.copy("a.jpg").Bytes)
	for n := range 5 {
		w, h := y.pixels(y.copy(string(rune('a'+n)) + ".jpg"))
		assert.Equal(t, 300, max(w, h))
	}
	assert.Len(t, y.stored(), 5)
	require.Eventually(t, func() bool { return len(y.prepared()) == 0 }, time.Minute, 10*time.Millisecond,
		"what was sent is kept no longer")
}

func (y *yard) prepared() []string {
	y.t.Helper()
	files, err := filepath.Glob(y.dir + "/data/renditions/*")
	require.NoError(y.t, err)
	return files
}

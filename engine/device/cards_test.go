package device_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/volume"
	"yardtide/standin"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

// reader is a card reader: cards are put in and pulled out, wherever they are mounted.
type reader struct {
	mu   sync.Mutex
	in   []volume.Volume
	wake chan struct{}
}

func (r *reader) put(in ...volume.Volume) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.in = in
	close(r.wake)
	r.wake = make(chan struct{})
}

// List implements volume.Lister.
func (r *reader) List() []volume.Volume {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]volume.Volume{}, r.in...)
}

// Changed implements volume.Lister.
func (r *reader) Changed(ctx context.Context) {
	r.mu.Lock()
	wake := r.wake
	r.mu.Unlock()
	select {
	case <-ctx.Done():
	case <-wake:
	}
}

// cardWith makes a card with pictures numbered from one on, and returns what is on it.
func cardWith(t *testing.T, root string, first, n int) (on map[string]string) {
	t.Helper()
	for i := range n {
		content, err := standin.JPEG(first+i, 300, time.Date(2026, 4, 1+(first+i)%3, 9, i%60, 0, 0, time.UTC))
		require.NoError(t, err)
		file := filepath.Join(root, "DCIM/100BOATS", fmt.Sprintf("BOAT%04d.JPG", i+1))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, content, 0o644))
		require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(-time.Hour)))
	}
	return whatIsIn(t, root)
}

// whatIsIn are the files below a folder: their hashes and times.
func whatIsIn(t *testing.T, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.Walk(root, func(path string, info os.FileInfo, err error) error {
		if errors.Is(err, fs.ErrNotExist) { // a file on its way
			return nil
		}
		if err != nil || info.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		sum := sha256.Sum256(text)
		below, _ := filepath.Rel(root, path)
		all[below] = hex.EncodeToString(sum[:]) + info.ModTime().String()
		return err
	}))
	return all
}

func (y *yard) card(id string) (c cardwire.Card) {
	for _, one := range y.status().Cards {
		if one.ID == id {
			c = one
		}
	}
	return c
}

func withReader(t *testing.T) (*yard, *reader) {
	t.Helper()
	r := &reader{wake: make(chan struct{})}
	y := setupWith(t, home, r)
	return y, r
}

func TestACardIsAskedAboutAndLeftAlone(t *testing.T) {
	t.Parallel()
	y, r := withReader(t)
	root := y.dir + "/media/EOS"
	before := cardWith(t, root, 1, 6)
	for i := range 2 { // two of them are here already
		content, err := os.ReadFile(fmt.Sprintf("%s/DCIM/100BOATS/BOAT%04d.JPG", root, i+1))
		require.NoError(t, err)
		y.file(fmt.Sprintf("own-%d.jpg", i), content)
	}
	y.until("those are safe", counts(queue.Safe, 2))
	r.put(volume.Volume{ID: "4F3A-11C2", Label: "EOS", Root: root})
	y.until("it is asked about", func(wire.Device) bool { return y.card("4F3A-11C2").State == cardwire.Asks })
	c := y.card("4F3A-11C2")
	assert.Equal(t, "EOS, with 6 pictures, is in phone; 2 of them are in phone's folders already.", c.Says)
	assert.EqualValues(t, 2, c.Safe)
	time.Sleep(200 * time.Millisecond)
	assert.EqualValues(t, 2, y.status().States[queue.Safe].N, "nothing of it is taken up")
	y.follow("    sources:", "    cards:\n      4F3A-11C2: {leave: true}\n    sources:")
	y.until("it is left", func(wire.Device) bool { return y.card("4F3A-11C2").State == cardwire.Left })
	r.put()
	y.until("it is away", func(wire.Device) bool { return y.card("4F3A-11C2").State == cardwire.Away })
	assert.Equal(t, before, whatIsIn(t, root))
}

func TestACardIsASourceWhereverItComes(t *testing.T) {
	t.Parallel()
	y, r := withReader(t)
	one, other := y.dir+"/media/one", y.dir+"/media/other"
	cardWith(t, one, 1, 5)
	cardWith(t, other, 20, 3) // with the same names
	y.follow("    sources:", "    cards:\n      AAAA-1111: {rule: everyday}\n      BBBB-2222: {rule: everyday}\n    sources:")
	y.until("both are away", func(d wire.Device) bool {
		return y.card("AAAA-1111").State == cardwire.Away && len(d.Sources) == 3 && d.Sources[1].Away && len(d.Sources[1].Problems) == 0
	})
	r.put(volume.Volume{ID: "AAAA-1111", Root: one})
	y.until("the first is safe", counts(queue.Safe, 5))
	// Another comes to the same place.
	moved := y.dir + "/media/elsewhere"
	require.NoError(t, os.Rename(one, moved))
	require.NoError(t, os.Rename(other, one))
	r.put(volume.Volume{ID: "BBBB-2222", Root: one})
	y.until("the second, too", counts(queue.Safe, 8))
	require.Len(t, y.stored(), 8)
	// The first comes again, at another place: nothing is sent twice, what is new on it goes.
	y.sensor.Put(none)
	cardWith(t, moved, 1, 7)
	r.put(volume.Volume{ID: "AAAA-1111", Root: moved})
	y.until("what is new waits", func(d wire.Device) bool { return d.States[queue.Waiting].N == 2 })
	r.put()
	y.sensor.Put(home)
	y.until("it is away", func(wire.Device) bool { return y.card("AAAA-1111").State == cardwire.Away })
	time.Sleep(300 * time.Millisecond)
	d := y.status()
	assert.EqualValues(t, 8, d.States[queue.Safe].N, "what is away is not gone")
	assert.EqualValues(t, 2, d.States[queue.Waiting].N, "and what waits is not stuck")
	r.put(volume.Volume{ID: "AAAA-1111", Root: moved})
	y.until("it goes on", counts(queue.Safe, 10))
	assert.Len(t, y.stored(), 10)
}

// A card that is a source is pulled while it is scanned and sent: nothing is lost, nothing is stuck, and nothing is sent
// twice.
func TestACardPulledInTheMiddleOfASend(t *testing.T) {
	t.Parallel()
	y, r := withReader(t)
	root := y.dir + "/media/EOS"
	before := cardWith(t, root, 1, 12)
	y.follow("    sources:", "    cards:\n      4F3A-11C2: {rule: everyday}\n    sources:")
	now := volume.Volume{ID: "4F3A-11C2", Label: "EOS", Root: root}
	for pull := range 30 {
		r.put(now)
		time.Sleep(time.Duration(5+pull*3%40) * time.Millisecond)
		require.NoError(t, os.Rename(root, root+"-out"))
		r.put()
		d := y.status()
		assert.Zero(t, d.States[queue.Stuck].N, "pull %d", pull)
		time.Sleep(time.Duration(pull%4) * 5 * time.Millisecond)
		require.NoError(t, os.Rename(root+"-out", root))
	}
	r.put(now)
	y.until("all are safe", counts(queue.Safe, 12))
	assert.Len(t, y.stored(), 12)
	assert.Equal(t, before, whatIsIn(t, root), "nothing on the card changed")
	d := y.status()
	assert.Zero(t, d.States[queue.Skipped].N)
	assert.Zero(t, d.States[queue.Stuck].N)
}

// A card is pulled at any moment of a copy: nothing is lost, nothing half has a final name, nothing on the card
// changed, and it is done only when everything is there.
func TestACardPulledInTheMiddleOfACopy(t *testing.T) {
	t.Parallel()
	y, r := withReader(t)
	root := y.dir + "/media/EOS"
	before := cardWith(t, root, 1, 12)
	into := y.dir + "/phone/DCIM/Cards"
	y.follow("    sources:", "    cards:\n      any: {copy-to: DCIM/Cards}\n    sources:")
	volumeNow := volume.Volume{ID: "4F3A-11C2", Label: "EOS", Root: root}
	byHash := func() map[string]bool {
		there := map[string]bool{}
		for name, is := range whatIsIn(t, into) {
			if !strings.Contains(name, ".yardtide") {
				there[is[:64]] = true
			}
		}
		return there
	}
	require.NoError(t, os.MkdirAll(into, 0o755))
	for pull := range 40 {
		r.put(volumeNow)
		time.Sleep(time.Duration(pull%20) * time.Millisecond)
		if pull%3 == 0 { // really: its files go with it
			require.NoError(t, os.Rename(root, root+"-out"))
		}
		done := y.card("4F3A-11C2").State == cardwire.Done
		r.put()
		there := byHash()
		if done {
			assert.Len(t, there, 12, "it was told to be done")
		}
		wants := map[string]bool{}
		for _, is := range before {
			wants[is[:64]] = true
		}
		for is := range there {
			assert.True(t, wants[is], "what has a final name is whole")
		}
		if pull%3 == 0 {
			require.NoError(t, os.Rename(root+"-out", root))
		}
	}
	r.put(volumeNow)
	y.until("it is done", func(wire.Device) bool { return y.card("4F3A-11C2").State == cardwire.Done })
	assert.Contains(t, y.card("4F3A-11C2").Says, "you can take it out")
	assert.Len(t, byHash(), 12)
	assert.Equal(t, before, whatIsIn(t, root), "nothing on the card changed")
	assert.Len(t, whatIsIn(t, into), 12, "nothing is there twice, and nothing is left over")
	for name := range whatIsIn(t, into) {
		assert.Regexp(t, `^2026-04-0\d/BOAT\d{4}\.JPG$`, name)
	}
	y.until("and it is safe", counts(queue.Safe, 12))

	// Something is put on it: one more, and one that has another's name and day. It is not done any more until they are copied.
	cardWith(t, root, 1, 13)
	other, err := standin.JPEG(77, 300, time.Date(2026, 4, 2, 9, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(root+"/DCIM/101BOATS", 0o755))
	require.NoError(t, os.WriteFile(root+"/DCIM/101BOATS/BOAT0001.JPG", other, 0o644))
	y.until("both are copied", func(wire.Device) bool { return len(byHash()) == 14 })
	y.until("and safe", counts(queue.Safe, 14))
}

package device_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/wire"
)

// TestWhatTheKeeperSaysGoesAlong marks pictures: a sidecar beside goes to the place with each, what another program wrote
// there stays, a pick of the rule follows, and of what is gone the records alone have it.
func TestWhatTheKeeperSaysGoesAlong(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	one := y.picture("one.jpg", 1)
	y.picture("two.jpg", 2)
	y.file("two.xmp", []byte(`<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmp:Rating="4"/></rdf:RDF></x:xmpmeta>`))
	y.until("both are safe", counts(queue.Safe, 2))
	p, err := plantext.Parse("plan", []byte(strings.Replace(yardPlan, "    to: [locker]\n",
		"    to: [locker]\n    also: [{when: set Launch day, layout: \"best/{name}\"}]\n", 1)))
	require.NoError(t, err)
	y.device.SetPlan(p)

	item := func(name string) records.Item {
		found, err := y.records.Catalogue.Find(t.Context(), name, 5)
		require.NoError(t, err)
		require.NotEmpty(t, found)
		it, err := y.records.Catalogue.ItemsOf(t.Context(), []int64{found[0].ID})
		require.NoError(t, err)
		return it[0]
	}
	yes, note := true, "Launched at last"
	n, err := y.device.Orders.Say(t.Context(), []int64{item("one.jpg").ID, item("two.jpg").ID}, media.KeeperChange{Marked: &yes, Note: &note, Put: "Launch day"})
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	said := media.Keeper{Marked: true, Note: note, Sets: []string{"Launch day"}}
	for _, name := range []string{"one.jpg.xmp", "two.xmp"} {
		text, err := os.ReadFile(filepath.Join(y.dir, "phone/DCIM", name))
		require.NoError(t, err)
		assert.Equal(t, said, probe.XMP(text).Keeper, name)
	}
	two, err := os.ReadFile(filepath.Join(y.dir, "phone/DCIM/two.xmp"))
	require.NoError(t, err)
	assert.Equal(t, 4, probe.XMP(two).Rating, "what another program wrote stays")
	assert.NoFileExists(t, filepath.Join(y.dir, "phone/DCIM/two.jpg.xmp"))
	assert.Equal(t, said, records.KeeperOf(item("one.jpg").Keeper))

	there := func(path string) func() bool {
		return func() bool {
			for _, below := range []string{"", "2026/03"} {
				if _, err := os.Stat(filepath.Join(y.dir, "locker", below, path)); err == nil {
					return true
				}
			}
			return false
		}
	}
	for _, path := range []string{"one.jpg.xmp", "best/one.jpg", "best/two.jpg"} {
		require.Eventually(t, there(path), time.Minute, 20*time.Millisecond, path)
	}

	// Gone from the device: it is said all the same.
	require.NoError(t, os.Remove(one))
	require.Eventually(t, func() bool { return item("one.jpg").GoneMS != 0 }, time.Minute, 20*time.Millisecond)
	no := false
	_, err = y.device.Orders.Say(t.Context(), []int64{item("one.jpg").ID}, media.KeeperChange{Marked: &no, Hidden: &yes, Take: "Launch day"})
	require.NoError(t, err)
	assert.Equal(t, media.Keeper{Hidden: true, Note: note}, records.KeeperOf(item("one.jpg").Keeper))

	// What is no sidecar is not written into, and nothing is said.
	y.picture("three.jpg", 3)
	y.file("three.jpg.xmp", []byte("no sidecar at all"))
	y.until("it is known", func(wire.Device) bool {
		found, err := y.records.Catalogue.Find(t.Context(), "three.jpg", 5)
		return err == nil && len(found) > 0
	})
	_, err = y.device.Orders.Say(t.Context(), []int64{item("three.jpg").ID}, media.KeeperChange{Marked: &yes})
	assert.ErrorIs(t, err, probe.ErrNoSidecar)
	assert.Empty(t, item("three.jpg").Keeper)
}

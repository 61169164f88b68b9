package link_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/fleet"
	"yardtide/engine/link"
)

// What a device's program claimed is nobody's once another run of it was heard of; what the
// ended one asked, and arrives late, claims nothing and ends nothing.
func TestAClaimEndsWithTheRunThatMadeIt(t *testing.T) {
	d := link.Desk{Fleet: &fleet.Fleet{}}
	none := func(string) (int64, bool) { return 0, true }
	name := func(device, boot, claim string) (bool, error) {
		got, err := d.Answer(t.Context(), device, "name", link.Asked{Destination: "shed", Path: "2026/a.jpg", Claim: claim, Boot: boot}, none)
		return got.Is, err
	}
	is, err := name("galley-phone", "first", "one")
	require.NoError(t, err)
	require.True(t, is)
	// It is killed, and begins anew: the same path is free at once, not when a lease ends.
	is, err = name("galley-phone", "second", "two")
	require.NoError(t, err)
	assert.True(t, is, "asked for while the first has it still, it would be told to ask again")
	// What the first asked before it was killed comes late.
	_, err = name("galley-phone", "first", "three")
	require.Error(t, err)
	d.Renew("galley-phone", "first", nil)
	_, err = d.Answer(t.Context(), "galley-phone", "ended", link.Asked{Ended: []string{"two"}, Boot: "first"}, none)
	require.Error(t, err)
	// Another device does not get what the second has still; then it gives it back.
	got := make(chan bool, 1)
	go func() {
		is, err := name("deck-phone", "other", "four")
		got <- is && err == nil
	}()
	select {
	case <-got:
		t.Fatal("two have one name")
	case <-time.After(100 * time.Millisecond):
	}
	_, err = d.Answer(t.Context(), "galley-phone", "ended", link.Asked{Ended: []string{"two"}, Boot: "second"}, none)
	require.NoError(t, err)
	assert.True(t, <-got)
	// Renamed, its runs are known still.
	d.Rename("deck-phone", "mast-phone")
	_, err = d.Answer(t.Context(), "mast-phone", "ended", link.Asked{Ended: []string{"four"}, Boot: "other"}, none)
	require.NoError(t, err)
	is, err = name("galley-phone", "second", "five")
	require.NoError(t, err)
	assert.True(t, is)
}

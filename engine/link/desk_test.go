package link_test

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/engine/fleet"
	"yardtide/engine/link"
)

// What a device's program claimed is nobody's once another run of it was heard of; what the
// ended one asked, and arrives late, claims nothing and ends nothing.
func TestAClaimEndsWithTheRunThatMadeIt(t *testing.T) {
	d := link.Desk{Fleet: &fleet.Fleet{}}
	none := func(string) (int64, bool) { return 0, true }
	name := func(device, boot, claim string) (bool, error) {
		got, err := d.Answer(t.Context(), device, "name", link.Asked{Destination: "shed", Path: "2026/a.jpg", Claim: claim,
			Boot: boot}, none)
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

// However devices ask, repeat themselves, end what is theirs or others', begin anew, are revoked and wait: no two
// have one name at once, none ends another's claim, and when all is given back a name is free at once. Nothing
// sleeps: the hours pass in a bubble of their own.
func TestNoTwoHaveOneNameWhateverDevicesSay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { rapid.Check(timeless{t}, names) })
}

// timeless is a test without a deadline: the clock of its bubble is another.
type timeless struct{ testing.TB }

// held is a claim as a person would keep it on paper.
type held struct {
	device, path string
	boot         int
	until        time.Time
}

// request is an ask that is waited for.
type request struct {
	id, device, path string
	boot             int
	at               time.Time
}

// paper is what is known of all claims, by their ids.
type paper struct {
	mu    sync.Mutex
	held  map[string]held
	boots map[string]int
}

func (p *paper) drop(is func(id string, h held) bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.held, is)
}

func names(rt *rapid.T) {
	const lease = 90 * time.Second
	d := link.Desk{Fleet: &fleet.Fleet{}}
	part := func(string) (int64, bool) { return 0, true }
	p := &paper{held: map[string]held{}, boots: map[string]int{}}
	devices := []string{"galley-phone", "deck-phone", "chart-table"}
	boot := func(device string, n int) string { return fmt.Sprintf("%s %d", device, n) }
	var waiting sync.WaitGroup
	var asked []string  // ids
	var under []request // that are waited for
	for step := range rapid.IntRange(1, 25).Draw(rt, "steps") {
		device := rapid.SampledFrom(devices).Draw(rt, "device")
		run := p.boots[device]
		switch rapid.SampledFrom([]string{"ask", "ask", "ask", "again", "end", "wait", "sweep", "anew", "late",
			"revoke"}).Draw(rt, "what") {
		case "ask", "again":
			id := fmt.Sprintf("claim %d", step)
			if len(asked) > 0 && rapid.Bool().Draw(rt, "of before") { // its own, whose answer was lost, or another's
				id = rapid.SampledFrom(asked).Draw(rt, "id")
			}
			asked = append(asked, id)
			path, at := rapid.SampledFrom([]string{"2026/a.jpg", "2026/b.jpg"}).Draw(rt, "path"), time.Now()
			for _, before := range under { // asked again while it is waited for, it is what was asked first
				if before == (request{id, device, path, run, before.at}) {
					at = before.at
				}
			}
			mine := request{id, device, path, run, at}
			under = append(under, mine)
			waiting.Go(func() {
				q := link.Asked{Destination: "shed", Path: path, Claim: id, Boot: boot(device, run)}
				got, err := d.Answer(context.Background(), device, "name", q, part)
				p.mu.Lock()
				defer p.mu.Unlock()
				under = slices.DeleteFunc(under, func(r request) bool { return r == mine })
				if err != nil || !got.Is {
					return
				}
				if h, has := p.held[id]; has { // it was answered before
					assert.Equal(rt, held{device, path, h.boot, h.until}, h, "what another claims, or of another name, is refused")
					return
				}
				for other, h := range p.held {
					assert.NotEqual(rt, path, h.path, "%s of %s and %s of %s", id, device, other, h.device)
				}
				p.held[id] = held{device, path, run, at.Add(lease)}
			})
		case "end":
			ids := rapid.SliceOfN(rapid.SampledFrom(append(asked, "none")), 1, 3).Draw(rt, "ids")
			p.drop(func(id string, h held) bool { return h.device == device && slices.Contains(ids, id) })
			_, err := d.Answer(context.Background(), device, "ended", link.Asked{Ended: ids, Boot: boot(device, run)}, part)
			require.NoError(rt, err)
		case "wait":
			time.Sleep(time.Duration(rapid.IntRange(1, 60).Draw(rt, "seconds")) * time.Second)
		case "sweep":
			now := time.Now()
			p.drop(func(_ string, h held) bool { return now.After(h.until) })
			d.Sweep(now, "")
		case "anew": // another run of its program is heard of
			d.Renew(device, boot(device, run), nil)
			p.mu.Lock()
			p.boots[device]++
			run = p.boots[device]
			p.mu.Unlock()
			p.drop(func(_ string, h held) bool { return h.device == device })
			d.Renew(device, boot(device, run), nil)
		case "late": // what an earlier run asked comes now
			if run > 0 {
				_, err := d.Answer(context.Background(), device, "ended", link.Asked{Ended: asked, Boot: boot(device, run-1)}, part)
				require.Error(rt, err)
			}
		case "revoke":
			now := time.Now()
			p.drop(func(_ string, h held) bool { return h.device == device || now.After(h.until) })
			d.Sweep(now, device)
		}
		synctest.Wait()
	}
	waiting.Wait()
	for _, device := range devices {
		d.Sweep(time.Now(), device)
	}
	for _, path := range []string{"2026/a.jpg", "2026/b.jpg"} {
		q := link.Asked{Destination: "shed", Path: path, Claim: "last " + path, Boot: "its own"}
		got, err := d.Answer(context.Background(), "mast-phone", "name", q, part)
		require.NoError(rt, err)
		require.True(rt, got.Is, "all was given back")
	}
}

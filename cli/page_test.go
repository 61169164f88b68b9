package cli

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/wire"
)

func aYard() wire.Yard {
	now := time.Date(2026, 11, 25, 17, 0, 0, 0, time.Local)
	holds := []wire.HoldGroup{{
		Hold:   gate.Hold{Gate: gate.Hours, Says: "Sends only at 22:00-06:00.", Opens: now.Add(5 * time.Hour)},
		Amount: wire.Amount{N: 5, Bytes: 3_100_000}, Devices: []string{"chart-table",
			"slate"}, Kinds: []media.Kind{media.Video}, Destinations: []string{"locker", "loft", "shed"},
	}}
	return wire.Yard{
		Yard: "Saltmarsh Slip", Time: now, Says: "59 of 124 pictures and clips are safe. 65 wait, 22 MB.",
		Needs: []wire.Need{{Says: "locker: The storage is full.",
			Todo: "Make room at the storage or enlarge it; sending goes on by itself.", Destination: "locker"}},
		Holds: holds,
		Devices: []wire.Device{{
			Name: "galley-phone", Conditions: gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.No,
				Charging: gate.No, Battery: 64},
			States: map[queue.State]wire.Amount{queue.Waiting: {N: 65, Bytes: 22e6}, queue.Safe: {N: 59, Bytes: 1e7}},
			Going:  wire.Amount{N: 2, Bytes: 300_000}, Holds: holds,
			Sends: []wire.Send{{Item: "k-1", Name: "keel\x1b[31m.jpg", Destination: "locker", State: queue.Sending, Bytes: 8e6,
				Sent: 2e6, Rate: 1e6, BeginsAnew: true}},
		}},
		Destinations: []wire.DestinationStatus{{Name: "locker", Kind: plan.WebDAV, Where: "http://127.0.0.1:1/dav",
			Space: wire.Space{Free: 27e6, Used: 13e6}, KeepFree: 8e6, Held: wire.Amount{N: 80, Bytes: 13e6}}},
	}
}

func printed(width int, colour bool) string {
	var b strings.Builder
	printStatus(page{w: &b, width: width, height: 24, colour: colour}, aYard())
	return b.String()
}

func TestTheGlanceAnswersFromTheTop(t *testing.T) {
	text := printed(0, false)
	at := -1
	for _, part := range []string{
		"59 of 124 pictures and clips are safe.", "Needs you", "! locker: The storage is full. Make room at the storage",
		"On the way",
		"████░░░░░░░░░░░░ keel·[31m.jpg from galley-phone to locker  2.0 MB of 8.0 MB, " +
			"1.0 MB/s, 6 s still; after a cut it would begin anew", "next in line: 2 pictures and clips, 300 kB",
		"Waits", "5 clips of chart-table and slate for locker, loft and shed, 3.1 MB: Sends only at 22:00-06:00. [until 22:00]",
		"galley-phone: on cellular, battery 64%. waiting 65 (22 MB), safe 59 (10 MB)", "locker: holds 80 pictures and " +
			"clips, 13 MB; 27 MB free, 8.0 MB of it kept so, 13 MB used.",
	} {
		next := strings.Index(text, part)
		require.Greater(t, next, at, "%q comes in its turn in\n%s", part, text)
		at = next
	}
	assert.Equal(t, 1, strings.Count(text, "Sends only at"), "nothing stands twice")
	assert.NotContains(t, text, "\x1b", "outside a terminal there is no colour, and never a name's own codes")
}

func TestNoLineIsWiderThanTheTerminal(t *testing.T) {
	for _, width := range []int{40, 80, 132} {
		for _, line := range strings.Split(printed(width, true), "\n") {
			assert.LessOrEqual(t, ansi.StringWidth(line), width, "%q", line)
		}
	}
	one := strings.Join(strings.Fields(ansi.Strip(printed(40, true))), " ")
	assert.Contains(t, one, "Make room at the storage or enlarge it; sending goes on by itself.",
		"what is wrapped is all there")
}

func TestColourIsNotWhatTells(t *testing.T) {
	assert.Equal(t, printed(80, false), ansi.Strip(printed(80, true)))
	assert.NotEqual(t, printed(80, false), printed(80, true))
	null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, null.Close()) })
	p := newPage(Env{Out: null, getenv: func(string) string { return "" }}, "http://127.0.0.1:7400")
	assert.Zero(t, p.width, "what is no terminal is not wrapped")
	assert.False(t, p.colour)
}

func TestWatchDrawsInPlaceAndNeverScrolls(t *testing.T) {
	p := page{width: 60, height: 10, colour: true}
	out := redraw(printed(60, true), p)
	assert.True(t, strings.HasPrefix(out, "\x1b[H"))
	lines := strings.Split(out, "\r\n")
	assert.Len(t, lines, 9)
	assert.Contains(t, lines[8], "more lines: yardtide status tells all")
}

func TestAnItemIsOneLineAndOneStory(t *testing.T) {
	it := wire.Item{
		Key: "k-1", Device: "galley-phone", Name: "keel.jpg", Path: "DCIM/keel.jpg", Kind: "photo", Bytes: 137_000,
		State: "waiting", Says: "Safe at shed, waits for locker and loft.",
		TakenAt: time.Date(2026, 11, 13, 8, 12, 0, 0, time.UTC), TakenFrom: "header-nz",
		Copies: []wire.Copy{
			{Destination: "locker", State: "waiting",
				Holds: []gate.Hold{{Gate: gate.Network, Says: "Waits for Wi-Fi; the device is on cellular."}}},
			{Destination: "loft", State: "waiting", Holds: []gate.Hold{{Gate: gate.Network,
				Says: "Waits for Wi-Fi; the device is on cellular."}}},
			{Destination: "shed", State: "safe", Remote: "2026/11/keel.jpg", Proof: "read back, SHA-256", SHA256: "abc"},
		},
	}
	var b strings.Builder
	printItems(page{w: &b}, []wire.Item{it})
	assert.Equal(t, "waiting     137 kB  2026-11-13 08:12  galley-phone:DCIM/keel.jpg  Safe at shed, waits for "+
		"locker and loft. Waits for Wi-Fi; the device is on cellular.\n", b.String())
	b.Reset()
	printStory(page{w: &b}, wire.Story{Item: it, Cost: wire.Cost{Says: "It sends 274 kB and costs nothing."},
		Story: []wire.Event{
			{State: "waiting", Says: "Found on galley-phone."}, {Destination: "shed", State: "safe", Says: "Read back whole."},
		}})
	for _, part := range []string{"galley-phone:DCIM/keel.jpg  waiting\n",
		"(the camera wrote no zone; the device's is assumed)", "waiting   to locker\n", "waiting   to loft\n",
		"safe      at shed: 2026/11/keel.jpg\n",
		"proof     read back, SHA-256", "held by   network: Waits for Wi-Fi", "send-now  It sends 274 kB",
		"waiting   Found on galley-phone.\n", "safe      shed: Read back whole.\n"} {
		assert.Contains(t, b.String(), part)
	}
	b.Reset()
	printItems(page{w: &b}, nil)
	assert.Equal(t, "nothing\n", b.String())
}

func TestALongListIsPagedInATerminalOnly(t *testing.T) {
	var b strings.Builder
	e := Env{Out: &b, Err: &b, getenv: func(name string) string { return map[string]string{"PAGER": "false"}[name] }}
	require.NoError(t, paged(e, "", func(p page) error { p.line(0, "larch"); return nil }))
	assert.Equal(t, "larch\n", b.String())
}

func TestSpansAndNumbersAreForPeople(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "1 s", 40 * time.Second: "40 s", 5 * time.Minute: "5 min",
		3 * time.Hour: "3 h", 72 * time.Hour: "3 days"} {
		assert.Equal(t, want, short(d))
	}
	assert.Equal(t, []string{"1 picture or clip", "1 picture", "1,204 clips", "2 pictures and clips"},
		[]string{words.Things(1), words.Things(1, media.Photo), words.Things(1204, media.Video),
			words.Things(2, media.Photo, media.Video)})
	assert.Equal(t, "a\u00b7b", plain("a\nb"))
	assert.Equal(t, "3 proofs", fmt.Sprint(count(3, "proof")))
}

func TestNamesLeadToTheConsole(t *testing.T) {
	var b strings.Builder
	p := page{w: &b, width: 90, height: 24, links: "http://127.0.0.1:7400"}
	it := wire.Item{Key: "w-1a", Device: "galley-phone", Name: "keel 50%.jpg", Path: "DCIM/keel 50%.jpg",
		State: "waiting", Says: "Waits for locker."}
	printItems(p, []wire.Item{it})
	assert.Contains(t, b.String(), "\x1b]8;;http://127.0.0.1:7400/queue?item=galley-phone%2Fw-1a\x07")
	assert.Contains(t, ansi.Strip(b.String()), "galley-phone:DCIM/keel 50%.jpg",
		"what is seen is what every command takes")
	for _, line := range strings.Split(ansi.Strip(b.String()), "\n") {
		assert.LessOrEqual(t, len(line), 90)
	}
	b.Reset()
	p.links = ""
	printItems(p, []wire.Item{it})
	assert.NotContains(t, b.String(), "\x1b")
}

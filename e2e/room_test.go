package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/scan"
	"yardtide/wire"
)

// What is proven goes from a phone into the holding place, through kills, and comes back bit by bit: by
// command and by page.
func TestRoomIsMadeAndTakenBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "40", "-clips=false")
	gallery := filepath.Join(dir, "galley-phone/DCIM")
	want := tree(t, gallery)
	atHome := func() {
		s.phone(onWiFi)
		s.until("the phone is at home", func(y wire.Yard) bool { return y.Devices[0].Conditions.Network == plan.WiFi })
	}
	atHome()
	s.until("all safe", func(y wire.Yard) bool {
		return settled(y) && y.Devices[0].States[queue.Safe].N == int64(len(want))
	})
	out := s.ok("room", "plan", "galley-phone", "-places", "1")
	assert.Contains(t, out, fmt.Sprintf("%d pictures and clips", len(want)))
	assert.Contains(t, out, "would go: each is proven again at that moment")
	assert.Contains(t, s.ok("room", "plan", "galley-phone"), "safe, but not at 2 places")
	assert.Contains(t, s.ok("room"), "Nothing goes by itself.")
	assert.Equal(t, want, tree(t, gallery), "a plan moves nothing")
	for args, says := range map[string]string{
		"room plan nobody":                    "There is no device \"nobody\"",
		"room plan":                           "name the device",
		"room tidy galley-phone":              "say plan, make, held, back or ledger",
		"room make galley-phone -larger 9 TB": "Nothing may go",
		"room plan galley-phone -free much":   "is not a size",
		"room plan galley-phone -kind boats":  "boats",
		"room back galley-phone x-1":          "",
	} {
		words := strings.Fields(strings.Replace(args, "9 TB", "9TB", 1))
		out, errOut, exit := s.run(words...)
		assert.NotZero(t, exit, args)
		assert.Contains(t, out+errOut, says, args)
	}

	// Killed while it goes: each file is where it lay, or in the holding place.
	for n := range 4 {
		atHome()
		cmd := exec.Command(binary, "room", "make", "galley-phone", "-places", "1")
		cmd.Env = append(os.Environ(), "YARDTIDE_URL="+s.url, "YARDTIDE_TOKEN="+s.token())
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(20+rand.IntN(250)) * time.Millisecond)
		s.kill()
		_ = cmd.Wait() // the service was killed under it
		s.start()
		assert.Equal(t, want, wherever(t, gallery), "kill %d", n)
	}
	atHome()
	s.run("room", "make", "galley-phone", "-places", "1") // nothing is left to go, where it was not killed before its end
	require.Eventually(t, func() bool { return len(tree(t, gallery)) == 0 }, time.Minute, 100*time.Millisecond)
	assert.Equal(t, want, wherever(t, gallery))
	require.Eventually(t, func() bool { return len(s.found("-device", "galley-phone", "-where", "gone")) == len(want) }, time.Minute,
		200*time.Millisecond)
	held := s.ok("room", "held", "galley-phone")
	assert.Equal(t, len(want), strings.Count(held, "in the holding place since"))
	assert.Contains(t, held, "as shot, read back, SHA-256")

	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Room")
	k.sees("galley-phone", "in the holding place")
	k.click("What lies there, on galley-phone")
	k.sees("Proven at ")
	looks := looksIn(t, k)
	looks("room")
	k.click("Make room on galley-phone")
	k.sees("The last days stay")
	looks("room to be made")
	k.click("Not now")
	k.click("Take all back on galley-phone")
	require.Eventually(t, func() bool { return len(tree(t, gallery)) == len(want) }, time.Minute, 100*time.Millisecond)
	assert.Equal(t, want, tree(t, gallery))
	assert.NoDirExists(t, filepath.Join(gallery, scan.HeldFolder))
	require.Eventually(t, func() bool { return len(s.found("-device", "galley-phone", "-where", "gone")) == 0 }, time.Minute,
		200*time.Millisecond)
	s.until("nothing is sent again", func(y wire.Yard) bool { return settled(y) && y.Devices[0].States[queue.Safe].N == int64(len(want)) })
	assert.Contains(t, s.ok("room", "ledger", "galley-phone"), "You took it back.")
	assert.Empty(t, k.b.Complaints())
}

// wherever tells all files of a folder, also those in its holding place, by where they lay.
func wherever(t *testing.T, gallery string) map[string]string {
	files := tree(t, gallery)
	days, err := filepath.Glob(filepath.Join(gallery, scan.HeldFolder, "*"))
	require.NoError(t, err)
	for _, day := range days {
		for name, is := range tree(t, day) {
			assert.NotContains(t, files, name, "it lies at both")
			files[name] = is
		}
	}
	return files
}

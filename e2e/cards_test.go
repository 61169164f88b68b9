package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/volume"
	"yardtide/wire"
	"yardtide/wire/cardwire"
)

// holdsCards puts cards into a device's reader, and pulls all others out.
func holdsCards(t *testing.T, dir, name string, in ...volume.Volume) {
	t.Helper()
	text, err := json.Marshal(onWiFi)
	require.NoError(t, err)
	all := map[string]any{}
	require.NoError(t, json.Unmarshal(text, &all))
	all["volumes"] = in
	text, err = json.Marshal(all)
	require.NoError(t, err)
	file := filepath.Join(dir, name, "conditions.json")
	require.NoError(t, os.WriteFile(file+".new", text, 0o644))
	require.NoError(t, os.Rename(file+".new", file))
}

// cardIs tells whether a device has a card in a state.
func cardIs(device, id string, state cardwire.State) func(wire.Yard) bool {
	return func(y wire.Yard) bool {
		for _, d := range y.Devices {
			for _, c := range d.Cards {
				if d.Name == device && c.ID == id {
					return c.State == state
				}
			}
		}
		return false
	}
}

// Cards of a device elsewhere: asked about once on the page, copied and compared, taken up as every card is.
func TestCardsAreAskedAboutCopiedAndTakenUp(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	d := joins(t, s, dir, "galley-phone", "")
	d.start()
	shots(t, dir+"/galley-phone/DCIM", "own", 2)
	s.until("its own are safe", safe("galley-phone", 2))
	assert.Contains(t, s.ok("card", "list"), "No card, camera or phone on a cable is here.")

	one := volume.Volume{ID: "4F3A-11C2", Label: "CAMERA", Root: filepath.Join(dir, "one")}
	shots(t, one.Root+"/DCIM/100BOATS", "a", 5)
	holdsCards(t, dir, "galley-phone", one)
	s.until("it is asked about", cardIs("galley-phone", one.ID, cardwire.Asks))
	assert.Contains(t, s.ok("card", "list"), "? 4F3A-11C2  CAMERA, with 5 pictures, is in galley-phone.")
	assert.Contains(t, s.ok("status"), "Answer: yardtide card list")
	k := atTheConsole(t, s)
	k.sees("Cards and cameras", "CAMERA, with 5 pictures, is in galley-phone.")
	k.click("Copy what is new")
	k.sees("Into this folder of galley-phone")
	k.click("Copy")
	k.sees("Everything on CAMERA is in galley-phone's folders, compared byte by byte: you can take it out.")
	s.until("what was copied is safe", safe("galley-phone", 7))
	copied, err := filepath.Glob(dir + "/galley-phone/DCIM/Cards/*/*")
	require.NoError(t, err)
	assert.Len(t, copied, 5)
	holdsCards(t, dir, "galley-phone")
	k.gone("Everything on CAMERA")
	assert.Contains(t, s.ok("card", "list"), "CAMERA is away.")

	// Every other card is taken up as it comes, under its own identity.
	s.ok("card", "take", "any", "-rule", "everyday", "-device", "galley-phone")
	two := volume.Volume{ID: "9016-4EF8", Label: "CLUB", Root: filepath.Join(dir, "two")}
	shots(t, two.Root+"/DCIM/100BOATS", "b", 3)
	holdsCards(t, dir, "galley-phone", two)
	s.until("it is safe", safe("galley-phone", 10))
	assert.Contains(t, s.ok("plan", "show"), "9016-4EF8")
	assert.Contains(t, s.ok("card", "list"), "It is taken up as a folder of the plan.")
	holdsCards(t, dir, "galley-phone")
	s.until("it is away", cardIs("galley-phone", two.ID, cardwire.Away))
	y := s.yard()
	assert.EqualValues(t, 10, total(y, queue.Safe))
	for _, n := range y.Needs {
		assert.NotEqual(t, "galley-phone", n.Device, "a card that is away is no trouble: %s", n.Says)
	}
	s.ok("card", "leave", two.ID, "-name", "The club's")
	holdsCards(t, dir, "galley-phone", two)
	s.until("it is left", cardIs("galley-phone", two.ID, cardwire.Left))
	assert.Contains(t, s.ok("card", "list"), "The club's, with 3 pictures")
	s.ok("card", "ask", two.ID)
	assert.Empty(t, k.b.Complaints())

	for _, wrong := range [][]string{{"card"}, {"card", "take", "any"}, {"card", "copy", "4F3A-11C2"}, {"card", "leave", "0000-0000"},
		{"card", "copy", "4F3A-11C2", "../out"}, {"card", "take", "4F3A-11C2", "-rule", "none"}, {"card", "list", "-device", "none"},
		{"card", "leave", "any"}} {
		_, errOut, code := s.run(wrong...)
		assert.NotZero(t, code, wrong)
		assert.NotEmpty(t, errOut, wrong)
	}
}

// A volume that is mounted on this computer is seen within two seconds.
func TestAMountedCardIsSeen(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "keel", 1)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 1 })
	at, image := t.TempDir()+"/card", t.TempDir()+"/card.img"
	require.NoError(t, os.Mkdir(at, 0o755))
	shots(t, dir+"/on it/DCIM/100BOATS", "c", 4)
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		if err != nil {
			t.Skipf("%s cannot be done here: %s", name, out)
		}
	}
	run("mkfs.ext4", "-q", "-d", dir+"/on it", image, "8M")
	run("mount", "-o", "loop", image, at)
	mounted := true
	t.Cleanup(func() {
		if mounted {
			assert.NoError(t, exec.Command("umount", at).Run())
		}
	})
	began := time.Now()
	s.until("it is asked about", func(y wire.Yard) bool {
		return len(y.Devices) == 1 && len(y.Devices[0].Cards) == 1 && y.Devices[0].Cards[0].State == cardwire.Asks
	})
	t.Logf("it took %s", time.Since(began))
	assert.Contains(t, s.ok("card", "list"), "card, with 4 pictures, is in desk.")
	run("umount", at)
	mounted = false
	s.until("it is gone", func(y wire.Yard) bool { return len(y.Devices[0].Cards) == 0 })
}

package e2e

import (
	"encoding/json"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/wire"
)

// Pictures that no folder of the plan takes up: told in the terminal and on the page, of this computer and of a
// device elsewhere; taken up, or let be for good.
func TestStraysAreToldAndTakenUpOrLetBe(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	shots(t, dir+"/desk/Pictures", "in", 3)
	shots(t, dir+"/desk/Downloads/boats", "stray", 2)
	shots(t, dir+"/desk/Icons", "icon", 4)
	shots(t, dir+"/desk/.cache", "hidden", 1)
	shots(t, dir+"/galley-phone/DCIM", "a", 2)
	shots(t, dir+"/galley-phone/Bluetooth", "b", 3)
	d := joins(t, s, dir, "galley-phone", "")
	d.start()
	s.until("all are safe", safe("galley-phone", 2))
	s.until("the desk's too", safe("desk", 3))

	out := s.ok("strays", "-device", "desk")
	assert.Contains(t, out, "Of 9 pictures and clips that were seen on desk, 3 lie in its sources; 6 lie in no source, in "+
		"2 folders. 1 folder was not looked into.")
	assert.Contains(t, out, "2 pictures          Downloads")
	assert.Contains(t, out, "Not looked into: .cache (it is hidden).")
	assert.Contains(t, s.ok("strays"), "Of 5 pictures and clips that were seen on galley-phone, 2 lie in its sources; 3 lie "+
		"in no source, in 1 folder.")
	var told []wire.Strays
	require.NoError(t, json.Unmarshal([]byte(s.ok("strays", "-device", "galley-phone", "-json")), &told))
	require.Len(t, told, 1)
	assert.Equal(t, 40, told[0].Coverage)
	assert.Equal(t, "Bluetooth", told[0].Folders[0].Folder)
	for _, wrong := range [][]string{{"strays", "-device", "none"}, {"strays", "here"}} {
		_, errOut, code := s.run(wrong...)
		assert.NotZero(t, code, wrong)
		assert.NotEmpty(t, errOut, wrong)
	}

	k := atTheConsole(t, s)
	k.click("Devices", "Look for pictures outside its folders, on desk")
	k.sees("Of 9 pictures and clips that were seen on desk", "Downloads", "2 pictures", "Icons", "4 pictures",
		"1 folder was not looked into")
	k.click("Let it be: Icons")
	k.sees("4 lie where the plan lets them be")
	k.gone("Icons")
	k.click("Take it up: Downloads")
	s.until("they are taken up", safe("desk", 5))
	k.sees("Of 9 pictures and clips that were seen on desk, 5 lie in its sources; 4 lie where the plan lets them be")
	k.click("Look for pictures outside its folders, on galley-phone", "Take it up: Bluetooth")
	s.until("the phone's too", safe("galley-phone", 5))
	assert.Contains(t, s.ok("plan", "show"), "let-be")
	assert.Empty(t, k.b.Complaints())

	// What is let be by a command; and a device that does not answer is told, the others are shown.
	require.NoError(t, os.MkdirAll(dir+"/galley-phone/Stickers", 0o755))
	shots(t, dir+"/galley-phone/Stickers", "s", 1)
	s.ok("device", "set", "galley-phone", "-let-be", "Stickers")
	require.Eventually(t, func() bool {
		found, err := s.client().Strays(t.Context(), "galley-phone")
		return err == nil && found.LetBe.N == 1 && found.Outside.N == 0
	}, time.Minute, 100*time.Millisecond)
	d.stop()
	s.until("it is still safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 10 })
	s.stop()
	heardBefore(t, s, "galley-phone", time.Hour)
	s.start()
	out = s.ok("strays")
	assert.Contains(t, out, "that were seen on desk")
	assert.Contains(t, out, "! galley-phone: ")
	_, errOut, code := s.run("strays", "-device", "galley-phone")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "Galley-phone was last heard of")
}

package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/wire"
)

// A phone joins by the QR picture on the page, as a camera reads it, sends, is told of,
// falls silent, and is let go.
func TestAPhoneJoinsByThePictureOnThePage(t *testing.T) {
	s, dir, _ := slip(t)
	k := atTheConsole(t, s)
	k.click("Devices")
	k.sees("Devices reach this service over the home network", "deck-phone", "In the plan, and nothing runs it yet.")
	k.click("Let deck-phone join", "Make a code")
	k.sees("read the picture, or type")
	shot, err := k.b.Shot()
	require.NoError(t, err)
	picture := filepath.Join(dir, "page.png")
	require.NoError(t, os.WriteFile(picture, shot, 0o644))
	// another's reader of such pictures (Debian: zbar-tools)
	out, err := exec.Command("zbarimg", "-q", "--raw", picture).Output()
	require.NoError(t, err)
	code := strings.TrimSpace(string(out))
	require.Contains(t, code, "HTTPS://")

	root := filepath.Join(dir, "deck-phone")
	writes(t, dir, "deck-phone/DCIM", "a.txt", "b.txt")
	_, errOut, exit := runWith(t, os.Environ(), "device", "join", code, "-data", filepath.Join(root, "data"))
	require.Zero(t, exit, errOut)
	feels(t, dir, "deck-phone", gate.Conditions{Network: plan.WiFi, NetworkName: "Slip", Metered: gate.No,
		Roaming: gate.No, Charging: gate.Yes, Battery: 60, Use: gate.NotInUse})
	addr := freePort(t)
	d := &service{t: t, url: "http://" + addr, data: filepath.Join(root, "data"),
		args: []string{"device", "run", "-data", filepath.Join(root, "data"), "-listen", addr, "-root", root, "-conditions",
			filepath.Join(root, "conditions.json")}}
	d.start()
	t.Cleanup(func() { d.stop() })
	k.sees("deck-phone joined")
	k.click("Done")
	k.sees("In touch.", "Wi-Fi Slip", "battery 60%, charging", "2 files safe", "Follows the plan in force.",
		"Reached shed")

	// Its day, as a table too.
	k.click("The day of deck-phone as a table")
	k.sees("Network: Wi-Fi Slip", "Power: on charge", "Use: nobody uses it", "became safe")

	// A pause that is ordered here holds it there.
	k.click("Pause deck-phone", "for an hour")
	d.until("it is paused", func(y wire.Yard) bool { return y.Devices[0].Pause.On })
	k.click("Resume")
	d.until("it goes on", func(y wire.Yard) bool { return !y.Devices[0].Pause.On })

	// On the spot it tells whose it is, and lets nobody add devices.
	own := atTheConsole(t, d)
	own.click("Devices")
	own.sees("In touch with the service of Slip.", "2 files safe")
	assert.NotContains(t, own.text(), "Add a device")

	k.click("Revoke deck-phone", "Revoke deck-phone now")
	k.sees("deck-phone is known no more", "In the plan, and nothing runs it yet.")
	d.until("it hears of that", func(y wire.Yard) bool { return strings.Contains(y.Home.Says, "revoked") })
	assert.Equal(t, int64(2), d.yard().Devices[0].States[queue.Safe].N, "what it sent stays")
	assert.Empty(t, k.b.Complaints())
}

package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

var (
	onWiFi = gate.Conditions{Network: plan.WiFi, Metered: gate.No, Roaming: gate.No, Charging: gate.No, Battery: 80,
		Use: gate.NotInUse}
	onCellular = gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.No, Charging: gate.No,
		Battery: 80, Use: gate.InUse}
	offline = gate.Conditions{Network: plan.NoNetwork, Metered: gate.No, Roaming: gate.No, Charging: gate.No,
		Battery: 80, Use: gate.InUse}
)

// The keeper's day in a terminal.
func TestTheDemoFromTheTerminal(t *testing.T) {
	dir := t.TempDir()
	s := demo(t, dir)
	for i, begin := range []string{"making the demo yard", "storage ", "phone ", "computer ", "service ", "terminal ",
		"console "} {
		assert.True(t, strings.HasPrefix(s.lines[i], begin), "%q", s.lines[i])
	}
	s.phone(offline)
	s.until("offline", func(y wire.Yard) bool { return y.Devices[0].Conditions.Network == plan.NoNetwork })
	picture, err := standin.JPEG(999, 300, time.Date(2025, 12, 31, 23, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/galley-phone/DCIM/Camera/new year.jpg", picture, 0o644))
	s.until("found", func(wire.Yard) bool {
		p, err := s.client().Find(t.Context(), "new year.jpg")
		require.NoError(t, err)
		return len(p.Items) == 1
	})

	out := s.ok("status")
	assert.Contains(t, out, "Saltmarsh Slip, ")
	assert.Contains(t, out, "galley-phone: no network, battery 80%")
	assert.Contains(t, out, "wait")
	assert.Contains(t, out, "Waits for a network; the device has none.")
	var y wire.Yard
	require.NoError(t, json.Unmarshal([]byte(s.ok("status", "-json")), &y))
	assert.Len(t, y.Devices, 2)

	out = s.ok("why", "new year.jpg")
	assert.Contains(t, out, "held by   network: Waits for a network; the device has none. Since ")
	assert.Contains(t, out, "taken 31 Dec 2025 23:00:00 +00:00")
	out = s.ok("queue", "-device", "galley-phone", "-state", "waiting", "-hold", "network")
	assert.Contains(t, out, "galley-phone:DCIM/Camera/new year.jpg")
	assert.Equal(t, "nothing\n", s.ok("queue", "-state", "stuck"))
	var items []wire.Item
	require.NoError(t, json.Unmarshal([]byte(s.ok("queue", "-json", "-n", "0")), &items))
	assert.Greater(t, len(items), 10)

	assert.Contains(t, s.ok("pause", "-device", "galley-phone", "-for", "1h"), "paused until ")
	s.phone(onWiFi)
	s.until("paused", func(y wire.Yard) bool {
		return len(y.Devices[0].Holds) == 1 && y.Devices[0].Holds[0].Gate == gate.Pause
	})
	assert.Contains(t, s.ok("watch", "-n", "1"), "Paused by you.")
	var line wire.Yard
	require.NoError(t, json.Unmarshal([]byte(s.ok("watch", "-n", "1", "-json")), &line))
	assert.True(t, line.Devices[0].Pause.On)

	assert.Contains(t, s.ok("send-now", "new year.jpg"), "galley-phone: 1 ordered. It sends ")
	s.until("sent by order", func(wire.Yard) bool {
		return strings.Contains(s.ok("why", "new year.jpg"), "Read back whole.")
	})
	assert.FileExists(t, dir+"/north-locker/2025/12/new year.jpg")
	assert.Equal(t, "resumed\n", s.ok("resume"))
	s.until("all safe", settled)
	assert.Equal(t, "0 taken up again\n", s.ok("retry"))

	_, errOut, code := s.run("send-now", "new year.jpg")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `"new year.jpg" is safe; there is nothing to do`)
}

func TestSendNowAsksBeforeItCosts(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir)
	s.phone(onCellular)
	s.until("held", func(wire.Yard) bool {
		return strings.Contains(s.ok("queue", "-device", "galley-phone", "-kind", "video"),
			"Waits for Wi-Fi; the device is on cellular.")
	})
	_, errOut, code := s.run("send-now", "MOV_0317.mp4")
	if code == 1 && strings.Contains(errOut, "no item is called") {
		t.Skip("so small a demo has no clip of that name")
	}
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "of metered data over cellular")
	assert.Contains(t, errOut, "Nothing was sent; add -metered")
	assert.Contains(t, s.ok("send-now", "MOV_0317.mp4", "-metered"), "1 ordered.")
	s.until("sent", func(y wire.Yard) bool { return strings.Contains(s.ok("why", "MOV_0317.mp4"), "counted as metered") })
}

func TestPlansAreCheckedAndApplied(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-clips=false")
	shown := s.ok("plan", "show")
	file := filepath.Join(dir, "plan.yaml")
	require.NoError(t, os.WriteFile(file, []byte(shown), 0o644))
	assert.Contains(t, s.ok("plan", "check", file), "no mistakes. Saltmarsh Slip: 2 devices, 1 destination, 2 rules.")
	bad := strings.NewReplacer("over: cellular", "over: pigeon", "Europe/Lisbon", "Europe/Lisboa").Replace(shown)
	require.NoError(t, os.WriteFile(file, []byte(bad), 0o644))
	for _, verb := range []string{"check", "apply"} {
		_, errOut, code := s.run("plan", verb, file)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, file+`:4:11: there is no time zone "Europe/Lisboa"; would be`)
		assert.Contains(t, errOut, `"pigeon" is not a network; would be one of wifi, wired, cellular`)
	}
	assert.Equal(t, shown, s.ok("plan", "show"), "the one in force stays")
	good := strings.Replace(shown, "yard: Saltmarsh Slip", "yard: Saltmarsh Slip East", 1)
	require.NoError(t, os.WriteFile(file, []byte(good), 0o644))
	assert.Contains(t, s.ok("plan", "apply", file), "is in force, as version 2.")
	assert.Equal(t, "Saltmarsh Slip East", s.yard().Yard)
	assert.Contains(t, s.ok("plan", "schema"), `"$schema"`)
	s.stop()
	s.start()
	assert.Equal(t, good, s.ok("plan", "show"), "and outlives a restart")
}

func TestServeForReal(t *testing.T) {
	dir := t.TempDir()
	store := &standin.Storage{Dir: dir + "/store", User: "me", Password: "secret of the slip"}
	require.NoError(t, store.Start("127.0.0.1:0"))
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	addr := freePort(t)
	s := &service{t: t, url: "http://" + addr, data: dir + "/data",
		args: []string{"serve", "-data", dir + "/data", "-listen", addr, "-device", "desk", "-root", dir + "/home"}}
	t.Setenv("STORE_PASSWORD", store.Password)
	s.start()
	t.Cleanup(s.stop)
	assert.Contains(t, s.ok("status"), "! There is no plan yet.")
	require.NoError(t, os.MkdirAll(dir+"/home/Pictures", 0o755))
	picture, err := standin.JPEG(5, 300, time.Date(2024, 2, 29, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/home/Pictures/leap.jpg", picture, 0o644))
	// A folder on this machine needs no network, which this machine may lack.
	require.NoError(t, os.MkdirAll(dir+"/disk", 0o755))
	text := `yard: Desk
timezone: UTC
destinations:
  store: {kind: webdav, url: "` + store.URL() + `", user: me, password-from: "env:STORE_PASSWORD"}
  disk: {kind: folder, path: ` + dir + `/disk}
devices:
  desk:
    sources: [{folder: ~/Pictures, rule: all}]
rules:
  all:
    take: [photo]
    to: [store, disk]
    lanes: [{over: wifi}]
`
	require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(text), 0o644))
	s.ok("plan", "apply", dir+"/plan.yaml")
	s.until("on the disk", func(y wire.Yard) bool {
		_, err := os.Stat(dir + "/disk/2024/02/leap.jpg")
		return err == nil && total(y, queue.Safe) >= 1
	})
	secret, err := os.ReadFile(s.data + "/plans/000001.yaml")
	require.NoError(t, err)
	assert.NotContains(t, string(secret)+s.ok("status", "-json")+s.log.String(), store.Password)
	info, err := os.Stat(s.data + "/token")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	_, errOut, code := runWith(t, os.Environ(), "serve", "-data", s.data, "-listen", freePort(t))
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "another Yard Tide process uses it")
	began := time.Now()
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, s.cmd.Wait(), "a stop is a clean end")
	assert.Less(t, time.Since(began), 30*time.Second) // hangs are what is looked for here
	s.start()
	assert.Contains(t, s.ok("why", "leap.jpg"), "safe")
}

func TestAStopRightAfterTheStartIsAStop(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-clips=false", "-items", "2")
	for range 20 {
		s.stop()
		s.start()
	}
}

func TestCommandsUsedWrongly(t *testing.T) {
	t.Parallel()
	env := []string{"YARDTIDE_URL=http://127.0.0.1:1", "HOME=" + t.TempDir()}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{nil, 2, "usage: yardtide COMMAND"},
		{[]string{"stauts"}, 2, `there is no command "stauts"; yardtide help lists them`},
		{[]string{"help", "stauts"}, 2, "there is no command"},
		{[]string{"status", "-jsn"}, 2, "flag provided but not defined: -jsn\nusage: yardtide status"},
		{[]string{"status", "now"}, 2, `"now" is one word too many`},
		{[]string{"why"}, 2, "name one item"},
		{[]string{"plan"}, 2, "say check, try, apply, show, history, diff, undo or schema"},
		{[]string{"plan", "burn"}, 2, `"burn" is none of`},
		{[]string{"plan", "check"}, 2, "name one file"},
		{[]string{"plan", "check", "/no/such/plan"}, 1, "reading the plan: open /no/such/plan: no such file"},
		{[]string{"pause", "-for", "soon"}, 2, `invalid value "soon"`},
		{[]string{"pause", "-for", "-1h"}, 2, "cannot be negative"},
		{[]string{"status"}, 1, "no service answers at http://127.0.0.1:1; is it started (yardtide serve)?"},
		{[]string{"status", "-url", "::"}, 1, "is not the address of a service"},
		{[]string{"serve", "-listen", "0.0.0.0:7400", "-data", t.TempDir()}, 1, "is not a loopback address"},
		{[]string{"serve", "-listen", "nowhere", "-data", t.TempDir()}, 1, "is not an address such as 127.0.0.1:7400"},
		{[]string{"serve", "-device", "a b", "-data", t.TempDir()}, 2, "cannot be the name of a device"},
		{[]string{"serve", "-data", "/dev/null/x"}, 1, "making the data directory"},
	} {
		_, errOut, code := runWith(t, env, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.says, "%v", c.args)
		assert.NotContains(t, errOut, "panic")
	}
}

func TestHelpIsMadeFromTheCommands(t *testing.T) {
	t.Parallel()
	out, _, code := runWith(t, nil, "help")
	assert.Zero(t, code)
	for _, name := range []string{"status", "queue", "why", "watch", "pause", "resume", "send-now", "retry", "plan",
		"link", "serve", "demo"} {
		assert.Contains(t, out, "\n  "+name)
		one, _, code := runWith(t, nil, "help", name)
		assert.Zero(t, code)
		assert.True(t, strings.HasPrefix(one, "usage: yardtide "+name+" "), one)
		same, _, code := runWith(t, nil, name, "-h")
		assert.Zero(t, code)
		assert.Equal(t, one, same)
	}
}

package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"yardtide/wire"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const accountsPlan = `format: 2
yard: Slip
timezone: UTC
people: [games, www-data]
destinations:
  games-locker: {kind: folder, path: %[1]s/games-locker}
  www-data-locker: {kind: folder, path: %[1]s/www-data-locker}
  shed: {kind: folder, path: %[1]s/shed}
devices:
  desk: {sources: [{folder: Pictures, rule: shared}]}
  desk-games: {sources: [{folder: Pictures, rule: own}], person: games}
  desk-www-data: {sources: [{folder: Pictures, rule: own}], person: www-data}
rules:
  own: {take: [document, other], to: ["{person}-locker"], lanes: [{over: wifi}]}
  shared: {take: [document], to: [shed], lanes: [{over: wifi}]}
`

// One computer of two people: a worker each, under its own uid, that cannot see the
// other's files, and whose pictures go to its own place by the one rule.
func TestEachAccountOfAComputerHasAWorkerOfItsOwn(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can run workers under other accounts")
	}
	for as, begins := range map[string]string{
		"root": "exec",
		// As the unit has it: an account of its own that may take others' uids, and whose
		// workers must not.
		"an account with capabilities": "exec setpriv --reuid=nobody --regid=nogroup --clear-groups " +
			"--inh-caps=+setuid,+setgid --ambient-caps=+setuid,+setgid --",
	} {
		t.Run(as, func(t *testing.T) { accountsOf(t, begins) })
	}
}

func accountsOf(t *testing.T, begins string) {
	dir, err := os.MkdirTemp("/tmp", "yardtide-accounts-") // that of the test is shut to others
	require.NoError(t, err)
	t.Cleanup(func() {
		if !t.Failed() {
			assert.NoError(t, os.RemoveAll(dir))
		}
	})
	require.NoError(t, os.Chmod(dir, 0o755))
	program := filepath.Join(dir, "yardtide") // the workers run it, too
	out, err := exec.Command("cp", binary, program+".real").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"+begins+" "+program+".real \"$@\"\n"), 0o755))
	accounts := []string{"games", "www-data"}
	uids := map[string]int{}
	for _, name := range accounts {
		u, err := user.Lookup(name)
		require.NoError(t, err)
		uids[name], err = strconv.Atoi(u.Uid)
		require.NoError(t, err)
		home, locker := filepath.Join(dir, "homes", name), filepath.Join(dir, name+"-locker")
		writes(t, dir, "homes/"+name+"/Pictures", "of-"+name+".txt")
		require.NoError(t, os.MkdirAll(locker, 0o755))
		theirs := []string{"-R", name, home}
		if begins != "exec" { // else the service makes the place theirs
			theirs = append(theirs, locker)
		}
		out, err := exec.Command("chown", theirs...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NoError(t, os.Chmod(home, 0o700))
	}
	for _, folder := range []string{"desk/Pictures", "shed", "data", "run"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o755))
		if begins != "exec" {
			out, err := exec.Command("chown", "nobody", filepath.Join(dir, folder)).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	addr := freePort(t)
	s := &service{t: t, url: "http://" + addr, data: filepath.Join(dir, "data"),
		args: []string{"serve", "-data", filepath.Join(dir, "data"), "-listen", addr, "-device", "desk", "-root",
			filepath.Join(dir, "desk"),
			"-system", strings.Join(accounts, ","), "-run", filepath.Join(dir, "run"), "-homes", filepath.Join(dir, "homes")}}
	own := binary
	binary = program
	t.Cleanup(func() { binary = own })
	s.start()
	t.Cleanup(s.stop)
	file := filepath.Join(dir, "plan.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, accountsPlan, dir), 0o644))
	s.ok("plan", "apply", file)
	for _, name := range accounts {
		s.until("of "+name, safe("desk-"+name, 1))
		names, err := filepath.Glob(filepath.Join(dir, name+"-locker", "20*", "*", "*"))
		require.NoError(t, err)
		require.Len(t, names, 1, "its own place has its own file alone")
		assert.Equal(t, "of-"+name+".txt", filepath.Base(names[0]))
	}
	for _, name := range accounts {
		pids, err := exec.Command("pgrep", "-f", "device account -data "+filepath.Join(dir, "homes", name)).Output()
		require.NoError(t, err)
		pid := strings.Fields(string(pids))[0]
		status, err := os.ReadFile("/proc/" + pid + "/status")
		require.NoError(t, err)
		uid := strconv.Itoa(uids[name])
		assert.Contains(t, string(status), "Uid:\t"+uid+"\t"+uid+"\t"+uid+"\t"+uid)
		for _, set := range []string{"CapPrm", "CapEff", "CapAmb"} {
			assert.Contains(t, string(status), set+":\t0000000000000000", "it can take nobody else's uid")
		}
		other := accounts[0]
		if name == other {
			other = accounts[1]
		}
		text, err := os.ReadFile(filepath.Join(dir, "homes", name, ".local/share/yardtide/plans/000001.yaml"))
		require.NoError(t, err)
		assert.NotContains(t, string(text), other, "it learns nothing of the others")
		for _, secret := range []string{"joined.json", "token", "secrets.key"} {
			info, err := os.Stat(filepath.Join(dir, "homes", name, ".local/share/yardtide", secret))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		}
	}
	// Killed, the service leaves no worker behind.
	s.kill()
	require.Eventually(t, func() bool {
		return exec.Command("pgrep", "-f", "device account -data "+dir).Run() != nil
	}, time.Minute, 50*time.Millisecond)
	s.start()
	s.until("they call again", func(y wire.Yard) bool {
		return named(y, "desk-games").Link.Connected && named(y, "desk-www-data").Link.Connected
	})
}

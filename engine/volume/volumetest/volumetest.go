//go:build linux

// Package volumetest makes file systems of several kinds for tests, on loop devices: what volumes and files are known
// by differs from kind to kind.
package volumetest

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Kinds are the kinds of file systems that Formatted makes; exfat is mounted by a program, over FUSE.
var Kinds = []string{"ext4", "xfs", "btrfs", "exfat"}

// Formatted makes a file system of a kind in a file, and gives its device; it is mounted nowhere. The test is skipped
// where this machine cannot.
func Formatted(t *testing.T, kind string) (device string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	tool, err := exec.LookPath("mkfs." + kind)
	if err != nil {
		t.Skipf("there is no mkfs.%s", kind)
	}
	file := filepath.Join(t.TempDir(), "volume.img")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, 320<<20)) // the least that xfs takes
	out, err := exec.Command(tool, file).CombinedOutput()
	require.NoError(t, err, string(out))
	loop, err := exec.Command("losetup", "--find", "--show", file).CombinedOutput()
	if err != nil {
		t.Skipf("no loop device: %s", loop)
	}
	device = strings.TrimSpace(string(loop))
	t.Cleanup(func() { assert.NoError(t, exec.Command("losetup", "-d", device).Run()) })
	return device
}

// Alone runs a test in a process whose mounts nobody else sees: programs that run meanwhile would take a card of the test
// for a card of this machine. It tells whether this is that process; elsewhere the test has been run when it returns.
func Alone(t *testing.T) bool {
	t.Helper()
	const mark = "YARDTIDE_TEST_ALONE"
	if os.Getenv(mark) == t.Name() {
		return true
	}
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	cmd := exec.Command(os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v")
	cmd.Env = append(os.Environ(), mark+"="+t.Name())
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	assert.NoError(t, err, string(out))
	assert.Contains(t, string(out), "--- PASS: "+t.Name(), "it was run")
	return false
}

// Mounted mounts a device at a folder, which it makes. What unmounts it waits for whoever has a file open still; it is
// unmounted at the end of the test in any case.
func Mounted(t *testing.T, device, kind, at string) (unmount func()) {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o755))
	if kind == "exfat" {
		mountExFAT(t, device, at)
	} else {
		require.NoError(t, unix.Mount(device, at, kind, 0, ""))
	}
	is := true
	unmount = func() {
		if !is {
			return
		}
		is = false
		var info unix.Statfs_t
		if err := unix.Statfs(at, &info); err != nil || kind == "exfat" && info.Type != unix.FUSE_SUPER_MAGIC {
			return // it was pulled
		}
		var err error
		for range 400 {
			if err = unix.Unmount(at, 0); err != unix.EBUSY {
				break
			}
			time.Sleep(25 * time.Millisecond)
		}
		assert.NoError(t, err, "unmounting %s", at)
	}
	t.Cleanup(unmount)
	return unmount
}

func mountExFAT(t *testing.T, device, at string) {
	t.Helper()
	tool, err := exec.LookPath("mount.exfat-fuse")
	if err != nil {
		t.Skip("there is no mount.exfat-fuse")
	}
	for range 400 {
		out, err := exec.Command(tool, "-o", "nonempty", device, at).CombinedOutput()
		require.NoError(t, err, string(out))
		if _, err = os.ReadDir(at); err == nil {
			return
		}
		// Whoever has a file open of a mount that was pulled keeps it: the kernel gives the same one again.
		require.NoError(t, unix.Unmount(at, unix.MNT_DETACH))
		time.Sleep(25 * time.Millisecond)
	}
	require.Fail(t, "what was pulled is kept by somebody", device)
}

// Pull takes the program that serves a FUSE mount away, as a card is pulled out of its reader: whoever is in the middle
// of reading fails, and so does everybody after. Then it unmounts what is left.
func Pull(t *testing.T, device, at string) {
	t.Helper()
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	killed := false
	for _, file := range processes {
		text, err := os.ReadFile(file)
		args := strings.Split(string(text), "\x00")
		if err != nil || !strings.HasSuffix(args[0], "mount.exfat-fuse") || !slices.Contains(args, device) {
			continue // or it ended meanwhile
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		require.NoError(t, err)
		require.NoError(t, unix.Kill(pid, unix.SIGKILL))
		killed = true
	}
	require.True(t, killed, "no program serves %s", device)
	require.NoError(t, unix.Unmount(at, unix.MNT_DETACH))
	for range 400 { // until it has let go of the device
		if out, err := exec.Command("fuser", device).CombinedOutput(); err != nil || len(out) == 0 {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

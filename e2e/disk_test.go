package e2e

import (
	"fmt"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

// smallDisk mounts a disk of a few bytes; only root may.
func smallDisk(t *testing.T, dir string, size int) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("mounting a small disk needs root")
	}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%d", size)))
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) })
}

func folderPlan(dir string) string {
	return `yard: Desk
timezone: UTC
destinations:
  disk: {kind: folder, path: ` + dir + `/disk}
devices:
  desk:
    sources: [{folder: in, rule: all}]
rules:
  all:
    take: [photo]
    to: [disk]
    lanes: [{over: wifi}]
`
}

// desk serves a computer with a folder for storage: no network is needed.
func desk(t *testing.T, dir, data string) *service {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir+"/in", 0o755))
	require.NoError(t, os.MkdirAll(dir+"/disk", 0o755))
	require.NoError(t, os.WriteFile(dir+"/plan.yaml", []byte(folderPlan(dir)), 0o644))
	addr := freePort(t)
	s := &service{t: t, url: "http://" + addr, data: data, args: []string{"serve", "-data", data, "-listen", addr,
		"-device", "desk", "-root", dir}}
	s.start()
	t.Cleanup(s.stop)
	s.ok("plan", "apply", dir+"/plan.yaml")
	return s
}

func pictures(t *testing.T, dir, name string, n int) {
	t.Helper()
	for i := range n {
		content, err := standin.JPEG(i, 200, time.Date(2026, 1, 1, 0, i, 0, 0, time.UTC))
		require.NoError(t, err)
		file := fmt.Sprintf("%s/in/%s-%03d.jpg", dir, name, i)
		require.NoError(t, os.WriteFile(file, append(content, name...), 0o644))
		past := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(file, past, past))
	}
}

func TestTheDataDirectoryIsFull(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	smallDisk(t, dir+"/data", 16<<20)
	s := desk(t, dir, dir+"/data/yard")
	pictures(t, dir, "first", 3)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 3 })
	filler, err := os.Create(dir + "/data/filler")
	require.NoError(t, err)
	for err == nil {
		_, err = filler.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, filler.Close())
	pictures(t, dir, "second", 120)
	y := s.until("it says so", func(y wire.Yard) bool { return y.Devices[0].Problem != "" })
	assert.Contains(t, y.Devices[0].Problem, "Yard Tide cannot keep its records")
	assert.Contains(t, y.Devices[0].Problem, "Make room on the disk of the data directory")
	require.NoError(t, os.Remove(dir+"/data/filler"))
	y = s.until("it goes on by itself", func(y wire.Yard) bool { return total(y, queue.Safe) == 123 })
	assert.Empty(t, y.Devices[0].Problem)
	assert.Len(t, stored(t, dir+"/disk"), 123)
}

func TestTheDataDirectoryIsReadOnly(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	smallDisk(t, dir+"/data", 4<<20)
	s := desk(t, dir, dir+"/data/yard")
	s.stop()
	require.NoError(t, syscall.Mount("", dir+"/data", "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	_, errOut, code := runWith(t, os.Environ(), s.args...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "read-only file system")
	assert.NotContains(t, errOut, "panic")
}

func TestTheStorageDiskIsFull(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	smallDisk(t, dir+"/disk", 60<<10)
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "a", 30)
	y := s.until("held", func(y wire.Yard) bool {
		return len(y.Devices[0].Holds) > 0 && y.Devices[0].Holds[0].You && len(y.Devices[0].Sends) == 0
	})
	assert.Regexp(t, `^disk(: The disk is full| has room for .* more; the smallest of these is)`,
		y.Devices[0].Holds[0].Says)
	assert.Zero(t, total(y, queue.Stuck))
	want := map[string]bool{}
	for sum := range stored(t, dir+"/in") {
		want[sum] = true
	}
	for sum, file := range stored(t, dir+"/disk") {
		assert.True(t, want[sum], "half a file: %s", file)
	}
	require.NoError(t, syscall.Mount("", dir+"/disk", "", syscall.MS_REMOUNT, "size=10485760"))
	s.ok("retry")
	s.until("all safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 30 })
	assert.Len(t, stored(t, dir+"/disk"), 30)
}

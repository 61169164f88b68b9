package scan_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/scan"
)

// beginSlowly scans a folder that is walked again only after an hour: whatever
// is seen before, the system told.
func beginSlowly(t *testing.T, root string, o scan.Options) *book {
	t.Helper()
	b := &book{files: map[string]scan.File{}, found: map[string]int{}}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	o.Quiet, o.Poll, o.Again = quiet, time.Hour, time.Hour
	go func() { done <- scan.Run(ctx, root, b, o) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-done) })
	return b
}

func TestAnUnmountIsSeenAtOnceAndMakesNothingGone(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	for _, at := range []string{".", "card"} {
		t.Run("at "+at, func(t *testing.T) {
			root := t.TempDir()
			disk := filepath.Join(root, at)
			old(t, disk+"/underneath/other.jpg", "what shows when the disk is away")
			mount := func() { require.NoError(t, syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=1000000")) }
			unmount := func() { require.NoError(t, syscall.Unmount(disk, syscall.MNT_DETACH)) }
			mount()
			old(t, disk+"/a.jpg", "a")
			old(t, disk+"/2026/b.jpg", "b")
			keep := t.TempDir() // a bind mount keeps the disk's content
			require.NoError(t, syscall.Mount(disk, keep, "", syscall.MS_BIND, ""))
			t.Cleanup(func() { assert.NoError(t, syscall.Unmount(keep, syscall.MNT_DETACH)) })
			b := beginSlowly(t, root, scan.Options{})
			has := func(n int) func() bool { return func() bool { return len(b.names()) == n } }
			require.Eventually(t, has(2), time.Minute, 5*time.Millisecond)

			unmount()
			require.Eventually(t, func() bool { return len(b.says()) > 0 }, time.Minute, 5*time.Millisecond,
				"an unmount is told")
			assert.Contains(t, b.says(), "on another disk than before, and nothing that was found is there")
			assert.Len(t, b.names(), 2, "and makes nothing gone, nor finds what lies underneath")

			require.NoError(t, syscall.Mount(keep, disk, "", syscall.MS_BIND, ""))
			t.Cleanup(func() { assert.NoError(t, syscall.Unmount(disk, syscall.MNT_DETACH)) })
			require.Eventually(t, func() bool { return b.says() == "" }, time.Minute, 5*time.Millisecond,
				"nor its coming back")
			old(t, disk+"/c.jpg", "c")
			require.Eventually(t, has(3), time.Minute, 5*time.Millisecond, "it is watched again")
			assert.Equal(t, 1, b.times(filepath.Join(at, "a.jpg")), "what was known is not looked at again")
		})
	}
}

func TestPlacesAreNeverTakenUp(t *testing.T) {
	root := t.TempDir()
	old(t, root+"/a.jpg", "a")
	old(t, root+"/marked/.marker", "id")
	old(t, root+"/marked/2026/copy.jpg", "a")
	old(t, root+"/named/copy.jpg", "a")
	old(t, root+"/named/deep/copy.jpg", "a")
	require.NoError(t, os.Symlink(root+"/named", root+"/link"))
	named, err := os.Stat(root + "/link")
	require.NoError(t, err)
	o := scan.Options{Marker: ".marker", Place: func(info fs.FileInfo) bool { return os.SameFile(info, named) }}
	b := beginSlowly(t, root, o)
	require.Eventually(t, func() bool { return len(b.names()) > 0 && len(b.says()) > 0 }, 5*time.Second,
		5*time.Millisecond)
	assert.Equal(t, []string{"a.jpg"}, b.names())
	for _, inside := range []string{"/marked", "/marked/2026", "/named/deep", "/named", "/link/deep"} {
		in := beginSlowly(t, root+inside, o)
		require.Eventually(t, func() bool { return len(in.says()) > 0 }, time.Minute, 5*time.Millisecond, inside)
		assert.Contains(t, in.says(), "its own copies would be copied again and again", inside)
		assert.Empty(t, in.names(), inside)
	}
	old(t, root+"/later/copy.jpg", "z")
	require.Eventually(t, func() bool { return len(b.names()) == 2 }, time.Minute, 5*time.Millisecond)
	old(t, root+"/later/.marker", "id")
	require.Eventually(t, func() bool { return len(b.names()) == 1 }, time.Minute, 5*time.Millisecond,
		"a folder that becomes a place is left")
}

func TestAFileWrittenOverWithItsTimePutBackIsSeen(t *testing.T) {
	root := t.TempDir()
	file := root + "/a.jpg"
	old(t, file, "before")
	info, err := os.Stat(file)
	require.NoError(t, err)
	b := beginSlowly(t, root, scan.Options{})
	require.Eventually(t, func() bool { return b.times("a.jpg") == 1 }, time.Minute, 5*time.Millisecond)
	require.NoError(t, os.WriteFile(file, []byte("after."), 0o644))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	require.Eventually(t, func() bool { return b.times("a.jpg") == 2 }, time.Minute, 5*time.Millisecond)
}

func TestWhatIsNoFileIsNotWaitedFor(t *testing.T) {
	pipe := t.TempDir() + "/pipe"
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, name := range []string{pipe, filepath.Dir(pipe), "/dev/zero"} {
		_, err := scan.Open(name)
		var not scan.NotRegular
		assert.ErrorAs(t, err, &not, name)
	}
	_, err := scan.Open(pipe + "none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

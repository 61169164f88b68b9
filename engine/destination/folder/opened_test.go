package folder_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/folder"
)

// working runs a Put beside the test, whose last byte comes when the test ends it: the driver holds
// the folder open until then.
func working(t *testing.T, d destination.Driver) (end func() error) {
	t.Helper()
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() { done <- d.Put(context.Background(), destinationtest.Temp(99), r, 0, 2) }()
	_, err := w.Write([]byte("a"))
	require.NoError(t, err)
	return func() error {
		_, err := w.Write([]byte("b"))
		require.NoError(t, err)
		return <-done
	}
}

// While a call works in the folder, what is exchanged is seen by each call that begins after.
func TestCallsThatOverlapSeeWhatIsExchanged(t *testing.T) {
	const id = "aaaaaaaaaaaaaaaa"
	marker := func(t *testing.T, root, id string) {
		require.NoError(t, os.WriteFile(root+"/"+destination.MarkerName, []byte(id+"\n"), 0o644))
	}
	for name, c := range map[string]struct {
		exchange func(t *testing.T, root, outside string)
		cause    queue.Cause
	}{
		"the folder, for another place": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Rename(root, root+".away"))
			require.NoError(t, os.MkdirAll(root+"/2026/03", 0o755))
			marker(t, root, "bbbbbbbbbbbbbbbb")
		}, queue.Elsewhere},
		"the folder, for an empty one": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Rename(root, root+".away"))
			require.NoError(t, os.Mkdir(root, 0o755))
		}, queue.Elsewhere},
		"the folder, for nothing": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Rename(root, root+".away"))
		}, queue.Misplaced},
		"the marker, written over": {func(t *testing.T, root, _ string) { marker(t, root, "bbbbbbbbbbbbbbbb") }, queue.Elsewhere},
		"the marker, removed": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Remove(root+"/"+destination.MarkerName))
		}, queue.Elsewhere},
		"a folder below, for a link": {func(t *testing.T, root, outside string) {
			require.NoError(t, os.Rename(root+"/2026/03", root+"/2026/old"))
			require.NoError(t, os.Symlink(outside, root+"/2026/03"))
		}, queue.Refused},
		"a folder above it, for a link": {func(t *testing.T, root, outside string) {
			require.NoError(t, os.MkdirAll(outside+"/03", 0o755))
			require.NoError(t, os.Rename(root+"/2026", root+"/old"))
			require.NoError(t, os.Symlink(outside, root+"/2026"))
		}, queue.Refused},
		"a folder below, for a file": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Rename(root+"/2026/03", root+"/2026/old"))
			require.NoError(t, os.WriteFile(root+"/2026/03", []byte("x"), 0o644))
		}, queue.Refused},
		"a folder below, for another": {func(t *testing.T, root, _ string) {
			require.NoError(t, os.Rename(root+"/2026/03", root+"/2026/old"))
			require.NoError(t, os.Mkdir(root+"/2026/03", 0o755))
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			root, outside := t.TempDir()+"/place", t.TempDir()
			require.NoError(t, os.Mkdir(root, 0o755))
			marker(t, root, id)
			d := destination.AnchorTo(folder.New(root), destination.Anchor{ID: id})
			put := func(n int64, to string) error {
				if err := d.Put(t.Context(), destinationtest.Temp(n), strings.NewReader("tide"), 0, 4); err != nil {
					return err
				}
				return d.Publish(t.Context(), destinationtest.Temp(n), to)
			}
			end := working(t, d)
			require.NoError(t, put(1, "2026/03/a.jpg"))
			c.exchange(t, root, outside)
			err := put(2, "2026/03/b.jpg")
			if c.cause == "" {
				require.NoError(t, err)
				assert.FileExists(t, root+"/2026/03/b.jpg", "it lies under its own name")
			} else {
				require.Error(t, err)
				assert.Equal(t, c.cause, destination.CauseOf(err), "%v", err)
			}
			require.NoError(t, end(), "the call that was at work ends where it began")
			entries, err := filepath.Glob(outside + "/*/*")
			require.NoError(t, err)
			assert.Empty(t, entries, "nothing was written through the link")
			assert.NoFileExists(t, outside+"/b.jpg")
		})
	}
}

// Of many folders that calls use beside one another, no handle is left once none works.
func TestNoHandleIsLeft(t *testing.T) {
	handles := func() int {
		open, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(open)
	}
	if _, err := os.Stat("/proc/self/fd"); err != nil {
		t.Skip("this system has no /proc/self/fd")
	}
	d := folder.New(t.TempDir())
	before := handles()
	end := working(t, d)
	var all errgroup.Group
	for worker := range int64(8) {
		all.Go(func() error {
			for i := worker * 100; i < worker*100+60; i++ {
				temp, to := destinationtest.Temp(i), fmt.Sprintf("2026/%s/%d.jpg", strings.Repeat("a", int(i%60)+1), i)
				if err := d.Put(t.Context(), temp, strings.NewReader("tide"), 0, 4); err != nil {
					return err
				}
				if err := d.Publish(t.Context(), temp, to); err != nil {
					return err
				}
				if n, err := d.Size(t.Context(), to); err != nil || n != 4 {
					return fmt.Errorf("%s has %d bytes: %w", to, n, err)
				}
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	require.NoError(t, end())
	assert.Equal(t, before, handles())
	there, err := filepath.Glob(d.Root + "/2026/*/*.jpg")
	require.NoError(t, err)
	assert.Len(t, there, 480)
}

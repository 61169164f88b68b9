package folder_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/folder"
)

// planted are links and other things that somebody puts where a driver writes.
var planted = map[string]func(t *testing.T, at, target string){
	"a link":      func(t *testing.T, at, target string) { require.NoError(t, os.Symlink(target, at)) },
	"a hard link": func(t *testing.T, at, target string) { require.NoError(t, os.Link(target, at)) },
	"a pipe":      func(t *testing.T, at, _ string) { require.NoError(t, syscall.Mkfifo(at, 0o666)) },
	"a link to nothing": func(t *testing.T, at, target string) {
		require.NoError(t, os.Symlink(filepath.Join(filepath.Dir(target), "made by it"), at))
	},
}

func TestNothingIsWrittenOrReadThroughALink(t *testing.T) {
	for what, plant := range planted {
		t.Run(what, func(t *testing.T) {
			outside := t.TempDir()
			target := filepath.Join(outside, "precious")
			require.NoError(t, os.WriteFile(target, []byte("precious"), 0o644))
			d := folder.New(t.TempDir())
			require.NoError(t, os.Mkdir(filepath.Join(d.Root, destination.TempDir), 0o755))
			temp := destinationtest.Temp(1)
			at := filepath.Join(d.Root, temp)

			plant(t, at, target)
			require.NoError(t, d.Put(t.Context(), temp, strings.NewReader("tide"), 0, 4),
				"what was planted is put aside, and the file is new")
			require.NoError(t, os.Remove(at))

			plant(t, at, target)
			within(t, func() {
				err := d.Put(t.Context(), temp, strings.NewReader("e"), 3, 4)
				assert.Error(t, err, "it is not gone on in")
				_, err = d.Open(t.Context(), temp)
				if what != "a hard link" { // which is a file like any other, to read
					assert.Error(t, err)
					assert.Error(t, d.Publish(t.Context(), temp, "2026/a.jpg"), "it is not put in place")
					assert.NoFileExists(t, filepath.Join(d.Root, "2026/a.jpg"))
				}
			})
			content, err := os.ReadFile(target)
			require.NoError(t, err)
			assert.Equal(t, "precious", string(content))
			entries, err := os.ReadDir(outside)
			require.NoError(t, err)
			assert.Len(t, entries, 1, "nothing was made there")
		})
	}
}

func within(t *testing.T, do func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		require.Fail(t, "it waits for what is no file")
	}
}

func TestNoFolderOnTheWayIsALink(t *testing.T) {
	for _, link := range []string{"2026", "2026/03", destination.TempDir} {
		t.Run(link, func(t *testing.T) {
			outside := t.TempDir()
			require.NoError(t, os.MkdirAll(filepath.Join(outside, "03"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(outside, "03/there.jpg"), []byte("x"), 0o644))
			d := folder.New(t.TempDir())
			at := filepath.Join(d.Root, link)
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.Symlink(outside, at))
			temp := destinationtest.Temp(1)
			err := d.Put(t.Context(), temp, strings.NewReader("tide"), 0, 4)
			if link != destination.TempDir {
				require.NoError(t, err)
				err = d.Publish(t.Context(), temp, "2026/03/a.jpg")
				_, serr := d.Size(t.Context(), "2026/03/there.jpg")
				assert.Equal(t, queue.Refused, destination.CauseOf(serr), "%v", serr)
				_, oerr := d.Open(t.Context(), "2026/03/there.jpg")
				assert.Equal(t, queue.Refused, destination.CauseOf(oerr), "%v", oerr)
				_, lerr := d.List(t.Context(), link)
				assert.Error(t, lerr)
			}
			require.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
			assert.ErrorContains(t, err, "is a link")
			assert.NoFileExists(t, filepath.Join(outside, "a.jpg"))
			assert.NoFileExists(t, filepath.Join(outside, "03/a.jpg"))
		})
	}
	d := folder.New(t.TempDir() + "/link")
	real := t.TempDir()
	require.NoError(t, os.Symlink(real, d.Root))
	require.NoError(t, d.Put(t.Context(), destinationtest.Temp(1), strings.NewReader("tide"), 0, 4))
	require.NoError(t, d.Publish(t.Context(), destinationtest.Temp(1), "a.jpg"),
		"the folder itself may be named through one")
	r, err := d.Open(t.Context(), "a.jpg")
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, "tide", string(content))
}

func TestTemporaryNamesCannotBeGuessed(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		name := destination.NewTemp("phone-01ab")
		require.NoError(t, destination.CheckTemp(name))
		require.Regexp(t, `^\.yardtide/phone-01ab-[0-9a-f]{32}\.part$`, name)
		require.False(t, seen[name])
		seen[name] = true
	}
}

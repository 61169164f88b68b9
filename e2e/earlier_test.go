package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/wire"
)

// testdata/earlier has a computer's data, its folder and its place as each earlier version of the
// records left them when it was killed: three pictures safe, a fourth in the middle of its send.
// Whoever changes the records adds one of the version before.
const earlierRoot = "/tmp/earlier" // where they ran

func TestWhatEarlierVersionsLeftIsTakenOver(t *testing.T) {
	left, err := filepath.Glob("testdata/earlier/*.tar.gz")
	require.NoError(t, err)
	require.Len(t, left, 10)
	for _, file := range left {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".tar.gz"), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			unpacks(t, file, dir)
			before := sums(t, filepath.Join(dir, "shed"))
			require.Len(t, before, 3)
			addr := freePort(t)
			s := &service{t: t, url: "http://" + addr, data: filepath.Join(dir, "data"),
				args: []string{"serve", "-data", filepath.Join(dir, "data"), "-listen", addr, "-device", "desk", "-root",
					filepath.Join(dir, "desk")}}
			s.start()
			t.Cleanup(s.stop)
			s.until("what was safe is safe", safe("desk", 3))
			for picture := range before {
				why := s.ok("why", filepath.Base(picture))
				assert.Equal(t, 2, strings.Count(why, "Read back whole."), "it was proven again at the place's new address:\n%s",
					why)
			}
			assert.Equal(t, before, sums(t, filepath.Join(dir, "shed")), "nothing is sent twice, and nothing is lost")
			assert.NotContains(t, s.log.String(), "level=ERROR")
			y, err := s.client().Status(t.Context())
			require.NoError(t, err)
			assert.Empty(t, named(y, "desk").Problem)

			// It goes on as any other.
			writes(t, dir, "desk/Pictures", "rudder.txt")
			s.ok("plan", "show")
			s.until("the yard is at rest", func(y wire.Yard) bool { return named(y, "desk").States[queue.Waiting].N == 0 })
		})
	}
}

// unpacks unpacks what an earlier version left, as if it had run in a folder.
func unpacks(t *testing.T, file, dir string) {
	t.Helper()
	packed, err := os.Open(file)
	require.NoError(t, err)
	defer packed.Close()
	unpacked, err := gzip.NewReader(packed)
	require.NoError(t, err)
	for entries := tar.NewReader(unpacked); ; {
		h, err := entries.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		to := filepath.Join(dir, filepath.FromSlash(h.Name))
		if h.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(to, h.FileInfo().Mode()))
			continue
		}
		content, err := io.ReadAll(entries)
		require.NoError(t, err)
		if strings.HasSuffix(h.Name, ".yaml") {
			content = bytes.ReplaceAll(content, []byte(earlierRoot), []byte(dir))
		}
		require.NoError(t, os.WriteFile(to, content, h.FileInfo().Mode()))
		require.NoError(t, os.Chtimes(to, h.ModTime, h.ModTime))
	}
}

// sums are the hashes of the pictures below a folder, by their paths.
func sums(t *testing.T, dir string) map[string][32]byte {
	t.Helper()
	is := map[string][32]byte{}
	require.NoError(t, fs.WalkDir(os.DirFS(dir), ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(path) != ".jpg" {
			return err
		}
		content, err := os.ReadFile(filepath.Join(dir, path))
		is[path] = sha256.Sum256(content)
		return err
	}))
	return is
}

package device_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
)

func TestOfAClosedLibraryOnlyOriginalsAreTaken(t *testing.T) {
	t.Parallel()
	y := setup(t, home)
	y.follow("- folder: DCIM", "- folder: DCIM\n        originals-only: [Old boats.boatcase]")
	library := filepath.Join(y.dir, "phone/DCIM/Old boats.boatcase")
	require.NoError(t, standin.Library(y.dir+"/made", 1, 14, 400))
	require.NoError(t, os.Rename(y.dir+"/made", library))
	y.picture("beside.jpg", 40)
	before := tree(t, library)
	// 13 originals, one that is there only smaller (the larger one is taken), and the picture beside.
	y.until("the originals safe", counts(queue.Safe, 13+1+1))
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, before, tree(t, library), "nothing is written in it")
	names := func() (list []string) {
		for _, c := range copiesIn(t, y.records, queue.Safe) {
			list = append(list, filepath.ToSlash(filepath.Join(c.Dir, c.Name)))
		}
		return list
	}
	for _, name := range names() {
		assert.True(t, strings.Contains(name, "/originals/") || strings.Contains(name, "BOAT0014") || name == "beside.jpg", name)
	}
	it, there, err := y.records.Catalogue.Here(t.Context(), "DCIM", "Old boats.boatcase/views/2023-01", "BOAT0001_view.jpg")
	require.NoError(t, err)
	require.True(t, there)
	assert.Equal(t, "Old boats.boatcase/originals/2023-01/BOAT0001.jpg", it.MadeFrom)

	// A new original goes as it comes, its view does not.
	taken := time.Date(2024, 2, 2, 9, 0, 0, 0, time.UTC)
	for i, name := range []string{"originals/2024-02/BOAT0077.jpg", "views/2024-02/BOAT0077_view.jpg"} {
		content, err := standin.JPEG(77, 400/(i+1), taken)
		require.NoError(t, err)
		y.file("Old boats.boatcase/"+name, content)
	}
	y.until("the new one, too", counts(queue.Safe, 13+1+1+1))
	assert.Contains(t, names(), "Old boats.boatcase/originals/2024-02/BOAT0077.jpg")

	// Where an original is removed, what is left of it is taken: there is no larger one any more.
	require.NoError(t, os.Remove(filepath.Join(library, "originals/2023-02/BOAT0002.jpg")))
	y.until("its largest version", func(d wire.Device) bool {
		return bytes.Contains([]byte(strings.Join(names(), "\n")), []byte("views/2023-02/BOAT0002_view.jpg"))
	})

	// Without the key all of it goes.
	y.follow("", "")
	y.until("everything", func(d wire.Device) bool { return len(names()) > 45 })
}

// tree are the files of a folder with what can be told of them without reading.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			files[path] = info.ModTime().String() + info.Mode().String()
		}
		return err
	}))
	return files
}

package volume_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/volume"
	"yardtide/engine/volume/volumetest"
)

// below are the volumes that are mounted below a folder.
func below(dir string) (list []volume.Volume) {
	return slices.DeleteFunc(volume.Mounted{}.List(), func(v volume.Volume) bool { return filepath.Dir(v.Root) != dir })
}

// A volume is told by its own identity wherever it is mounted, within two seconds, and another at the same place is
// another.
func TestVolumesAreToldByTheirOwnIdentity(t *testing.T) {
	if !volumetest.Alone(t) {
		return
	}
	for _, kind := range volumetest.Kinds {
		t.Run(kind, func(t *testing.T) {
			one, other, dir := volumetest.Formatted(t, kind), volumetest.Formatted(t, kind), t.TempDir()
			ids := map[string]string{}
			for name, device := range map[string]string{"one": one, "other": other} {
				unmount := volumetest.Mounted(t, device, kind, dir+"/slot")
				assert.Empty(t, below(dir), "a disk without a camera's folders is none")
				require.NoError(t, os.MkdirAll(dir+"/slot/dcim/100BOATS", 0o755))
				list := below(dir)
				require.Len(t, list, 1)
				ids[name] = list[0].ID
				assert.Equal(t, "slot", list[0].Label)
				unmount()
			}
			assert.NotEqual(t, ids["one"], ids["other"])
			ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
			defer stop()
			woke := make(chan struct{})
			go func() { volume.Mounted{}.Changed(ctx); close(woke) }()
			time.Sleep(100 * time.Millisecond)
			volumetest.Mounted(t, one, kind, dir+"/a place with blanks")
			select {
			case <-woke:
			case <-ctx.Done():
				assert.Fail(t, "nothing told of the mount")
			}
			list := below(dir)
			require.Len(t, list, 1)
			assert.Equal(t, ids["one"], list[0].ID)
			assert.Equal(t, dir+"/a place with blanks", list[0].Root)
		})
	}
}

func TestTheCamerasFolderIsRecognised(t *testing.T) {
	for name, c := range map[string]struct {
		files []string
		is    bool
	}{
		"as the rule has it":      {[]string{"DCIM/100BOATS/"}, true},
		"in another case":         {[]string{"Dcim/101_pana/x.jpg"}, true},
		"a phone's":               {[]string{"DCIM/Camera/IMG_1.jpg"}, true},
		"a phone's without media": {[]string{"DCIM/.thumbnails/", "DCIM/notes/a.txt"}, false},
		"empty":                   {[]string{"DCIM/"}, false},
		"a file":                  {[]string{"DCIM"}, false},
		"none":                    {[]string{"Pictures/100BOATS/a.jpg"}, false},
		"deeper":                  {[]string{"backup/DCIM/100BOATS/a.jpg"}, false},
	} {
		root := t.TempDir()
		for _, f := range c.files {
			at := filepath.Join(root, f)
			if f[len(f)-1] == '/' {
				require.NoError(t, os.MkdirAll(at, 0o755))
				continue
			}
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.WriteFile(at, []byte("x"), 0o644))
		}
		assert.Equal(t, c.is, volume.Camera(root) != "", name)
	}
}

func TestWhatIsWrittenOfVolumesIsBounded(t *testing.T) {
	file := filepath.Join(t.TempDir(), "conditions.json")
	for text, n := range map[string]int{
		`{"volumes": [{"id": "4F3A-11C2", "root": "/x"}]}`:                              1,
		`{"volumes": [{"id": "any thing", "root": "/x"}, {"id": "../x"}, {"id": "a"}]}`: 0,
		`{"volumes": [{"id": "4F3A-11C2"}, {"id": "4F3A-11C2", "root": "/y"}]}`:         0, // who knows which is which
		`not JSON`: 0, `{"volumes": 3}`: 0, `{}`: 0,
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		assert.Len(t, volume.Written{Name: file}.List(), n, text)
	}
	assert.Empty(t, volume.Written{Name: file + "none"}.List())
}

package volume_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yardtide/engine/volume"
)

// formatted makes a file system of a kind in a file, mounted nowhere; the test is skipped where this machine cannot.
func formatted(t *testing.T, kind string) (device string) {
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
	device = string(loop[:len(loop)-1])
	t.Cleanup(func() { assert.NoError(t, exec.Command("losetup", "-d", device).Run()) })
	return device
}

func mounted(t *testing.T, device, kind, at string) (unmount func()) {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, unix.Mount(device, at, kind, 0, ""))
	is := true
	unmount = func() {
		if is {
			assert.NoError(t, unix.Unmount(at, 0))
			is = false
		}
	}
	t.Cleanup(unmount)
	return unmount
}

// below are the volumes that are mounted below a folder.
func below(dir string) (list []volume.Volume) {
	return slices.DeleteFunc(volume.Mounted{}.List(), func(v volume.Volume) bool { return filepath.Dir(v.Root) != dir })
}

// A volume is told by its own identity wherever it is mounted, within two seconds, and another at the same place is
// another.
func TestVolumesAreToldByTheirOwnIdentity(t *testing.T) {
	for _, kind := range []string{"ext4", "xfs", "btrfs"} {
		t.Run(kind, func(t *testing.T) {
			one, other, dir := formatted(t, kind), formatted(t, kind), t.TempDir()
			ids := map[string]string{}
			for name, device := range map[string]string{"one": one, "other": other} {
				unmount := mounted(t, device, kind, dir+"/slot")
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
			mounted(t, one, kind, dir+"/a place with blanks")
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

package stray_test

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/stray"
)

func mount(t *testing.T, what, at, kind string, flags uintptr) {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o755))
	if err := syscall.Mount(what, at, kind, flags, ""); err != nil {
		t.Skipf("this user may not mount: %s", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(at, syscall.MNT_DETACH)) })
}

// Another disk is told and not looked into, unless a source lies there; a folder that is there twice counts once,
// and one that leads to itself ends.
func TestMountsAreToldAndCountOnce(t *testing.T) {
	root := t.TempDir()
	write(t, root, "Pictures/a.jpg", "Pictures/deep/b.jpg")
	mount(t, "card", root+"/card", "tmpfs", 0)
	write(t, root, "card/DCIM/c.jpg")
	mount(t, root+"/Pictures", root+"/zagain", "", syscall.MS_BIND)
	mount(t, root, root+"/Pictures/deep/loop", "", syscall.MS_BIND)
	look := func(sources ...string) (stray.Found, map[string]string) {
		found, err := stray.Look(t.Context(), stray.Options{Root: root, Sources: sources})
		require.NoError(t, err)
		unseen := map[string]string{}
		for _, u := range found.Unseen {
			unseen[u.Path] = u.Why
		}
		return found, unseen
	}
	found, unseen := look()
	assert.EqualValues(t, 2, found.Outside.N)
	assert.Equal(t, map[string]string{"card": "another disk is there", "zagain": "it is here a second time",
		"Pictures/deep/loop": "it is here a second time"}, unseen)
	found, unseen = look(root + "/card/DCIM")
	assert.EqualValues(t, 1, found.Inside.N)
	assert.EqualValues(t, 2, found.Outside.N)
	assert.NotContains(t, unseen, "card")
}

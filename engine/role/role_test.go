package role_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/engine/role"
)

func TestARoleIsWhateverTheDeviceCallsIt(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", home+"/.config")
	for _, dir := range []string{"/.config", "/Bilder", "/DCIM", "/Music"} {
		require.NoError(t, os.MkdirAll(home+dir, 0o755))
	}
	require.NoError(t, os.WriteFile(home+"/.config/user-dirs.dirs",
		[]byte("XDG_PICTURES_DIR=\"$HOME/Bilder\"\nXDG_DESKTOP_DIR=\"$HOME/\"\n"), 0o644))
	xdg.Reload()
	t.Cleanup(xdg.Reload)
	assert.Equal(t, home+"/Bilder", role.Folder(home, "PICTURES"))
	assert.Equal(t, home+"/Bilder/Boats", role.Folder(home, "PICTURES/Boats"))
	assert.Equal(t, home+"/DCIM/100ABCDE", role.Folder(home, "CAMERA/100ABCDE"))
	assert.Equal(t, home+"/Pictures", role.Folder(home, "Pictures"), "a name is a name")
	assert.Equal(t, home+"/PICTURESQUE", role.Folder(home, "PICTURESQUE"))
	assert.Equal(t, "/srv/PICTURES", role.Folder(home, "/srv/PICTURES"))
	assert.Equal(t, []role.Usual{{"CAMERA", home + "/DCIM"}, {"PICTURES", home + "/Bilder"}, {"MUSIC", home + "/Music"}},
		role.Of(home), "the home folder itself is no role")

	phone := t.TempDir() // a root that is nobody's home
	require.NoError(t, os.MkdirAll(filepath.Join(phone, "Movies"), 0o755))
	assert.Equal(t, phone+"/Movies", role.Folder(phone, "VIDEOS"))
	assert.Equal(t, phone+"/Pictures", role.Folder(phone, "PICTURES"), "where it would be")
	assert.Equal(t, []role.Usual{{"VIDEOS", phone + "/Movies"}}, role.Of(phone))
}

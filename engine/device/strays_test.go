package device_test

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/standin"
	"yardtide/wire"
)

// outside puts pictures on the device, outside its source.
func (y *yard) outside(folder string, n int) {
	y.t.Helper()
	for i := range n {
		content, err := standin.JPEG(300+i, 64, time.Date(2026, 3, 1, 10, i, 0, 0, time.UTC))
		require.NoError(y.t, err)
		require.NoError(y.t, os.MkdirAll(y.dir+"/phone/"+folder, 0o755))
		require.NoError(y.t, os.WriteFile(fmt.Sprintf("%s/phone/%s/%d.jpg", y.dir, folder, i), content, 0o644))
	}
}

func appeared(folders ...string) func(wire.Device) bool {
	return func(d wire.Device) bool {
		if d.Strays == nil || len(d.Strays.New) != len(folders) {
			return false
		}
		names := map[string]bool{}
		for _, f := range d.Strays.New {
			names[f.Folder] = true
		}
		for _, f := range folders {
			if !names[f] {
				return false
			}
		}
		return true
	}
}

func TestAFolderThatAppearsIsAskedAboutOnce(t *testing.T) {
	t.Parallel()
	y := setup(t, none)
	y.outside("Bluetooth", 3)
	y.until("what was there is not new", func(d wire.Device) bool { return d.Strays != nil && d.Strays.N == 3 && len(d.Strays.New) == 0 })
	y.outside("Kites", 2)
	y.until("a new one is", appeared("Kites"))
	assert.Positive(t, y.status().Strays.New[0].N)
	y.outside("Bluetooth/deeper", 2)
	y.outside("Kites/more", 1)
	y.outside("Flags", 1)
	y.until("another, too; what lies in a known one is not", appeared("Kites", "Flags"))
	// It stays asked about over a restart, until somebody decides.
	y.stop()
	y.start()
	y.until("still", appeared("Kites", "Flags"))
	y.follow("    sources:", "    let-be: [Kites]\n    sources:")
	y.until("one is decided", appeared("Flags"))
	y.follow("    sources:", "    new-folders: leave\n    let-be: [Kites]\n    sources:")
	y.until("none is asked about", appeared())
	y.outside("Oars", 1)
	y.until("nor are later ones", func(d wire.Device) bool { return d.Strays.N == 3+2+1+1 && len(d.Strays.New) == 0 })
}

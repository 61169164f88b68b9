package device_test

import (
	"path/filepath"
	"testing"
	"time"

	"yardtide/engine/volume/volumetest"
)

// The same on other file systems, which give files other identities, and mount after mount of them. The device is
// stopped meanwhile, and a file is edited then, or it runs on, and sees the folder empty for a while. On exFAT a file that
// is edited with its time put back while nobody looks is as it was, by all that such a file system tells
// (docs/sources.md): there an edit changes the time.
func TestFilesThatMoveAreKnownAgainOnOtherFileSystems(t *testing.T) {
	t.Parallel()
	for _, kind := range volumetest.Kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			for seed := range histories() {
				device := volumetest.Formatted(t, kind)
				y := setup(t, home)
				folder := filepath.Join(y.dir, "phone/DCIM")
				y.stop()
				unmount := volumetest.Mounted(t, device, kind, folder)
				y.start()
				stopped := false
				movedAbout(t, y, uint64(seed), kind != "exfat", func(edit func()) {
					if stopped = !stopped; !stopped {
						unmount()
						time.Sleep(300 * time.Millisecond) // it sees that nothing is there
						unmount = volumetest.Mounted(t, device, kind, folder)
						return
					}
					y.stop()
					edit()
					unmount()
					unmount = volumetest.Mounted(t, device, kind, folder)
					y.start()
				})
				y.stop()
				unmount()
			}
		})
	}
}

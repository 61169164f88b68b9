package volume

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Mounted lists what is mounted on this machine.
type Mounted struct{}

// Changed implements Lister.
func (Mounted) Changed(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(4 * beat):
	}
}

// volumes is where macOS mounts what comes and goes.
const volumes = "/Volumes"

// List implements Lister. A volume is told by the number that its file system has, its name and its size.
func (Mounted) List() (list []Volume) {
	entries, err := os.ReadDir(volumes)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		root := filepath.Join(volumes, e.Name())
		var fs unix.Statfs_t
		if unix.Statfs(root, &fs) == nil && Camera(root) != "" {
			list = append(list, Volume{ID: fmt.Sprintf("%s-%x", idOf(e.Name()), fs.Blocks*uint64(fs.Bsize)), Label: e.Name(), Root: root})
		}
	}
	return sound(list)
}

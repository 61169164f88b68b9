package volume

import (
	"context"
	"fmt"
	"time"

	"golang.org/x/sys/windows"
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

// List implements Lister: the drives that can be taken out, by the serial of their volume.
func (Mounted) List() (list []Volume) {
	mask, err := windows.GetLogicalDrives()
	if err != nil {
		return nil
	}
	for i := range 26 {
		if mask&(1<<i) == 0 {
			continue
		}
		root := string(rune('A'+i)) + `:\`
		path, err := windows.UTF16PtrFromString(root)
		if err != nil || windows.GetDriveType(path) != windows.DRIVE_REMOVABLE || Camera(root) == "" {
			continue
		}
		var serial uint32
		name := make([]uint16, 261)
		if windows.GetVolumeInformation(path, &name[0], uint32(len(name)), &serial, nil, nil, nil, 0) == nil {
			list = append(list, Volume{ID: fmt.Sprintf("%04X-%04X", serial>>16, serial&0xFFFF), Label: windows.UTF16ToString(name),
				Root: root})
		}
	}
	return sound(list)
}

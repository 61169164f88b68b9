package inbox

import (
	"errors"

	"golang.org/x/sys/windows"
)

// DiskFree tells how many bytes a program of ours may still write to the disk of a folder, -1 where nobody knows.
func DiskFree(dir string) int64 {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return -1
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(name, &free, nil, nil); err != nil {
		return -1
	}
	return int64(free)
}

// notAFolder tells that a step of a path is a file.
func notAFolder(err error) bool { return errors.Is(err, windows.ERROR_PATH_NOT_FOUND) }

// isFull tells that a disk, or what may be used of it, is full.
func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

//go:build unix

package inbox

import (
	"errors"
	"syscall"

	"golang.org/x/sys/unix"
)

// DiskFree tells how many bytes a program of ours may still write to the disk of a folder, -1 where nobody knows.
func DiskFree(dir string) int64 {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return -1
	}
	return int64(s.Bavail) * int64(s.Bsize) //nolint:unconvert // of other widths on other systems
}

// notAFolder tells that a step of a path is a file.
func notAFolder(err error) bool { return errors.Is(err, syscall.ENOTDIR) }

// isFull tells that a disk, or what may be used of it, is full.
func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}

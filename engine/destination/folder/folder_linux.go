package folder

import (
	"context"

	"golang.org/x/sys/unix"

	"yardtide/engine/destination"
)

// Space implements destination.Spacer with statvfs: free is what this user may
// still write.
func (d Driver) Space(context.Context) (destination.Space, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(d.Root, &s); err != nil {
		return destination.Space{Free: -1, Used: -1}, failure("asking the disk for its space", err)
	}
	size := int64(s.Bsize)
	return destination.Space{Free: int64(s.Bavail) * size, Used: int64(s.Blocks-s.Bfree) * size}, nil
}

func renameNoReplace(from, to string) error {
	return unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
}

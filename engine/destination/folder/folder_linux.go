package folder

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"yardtide/engine/destination"
)

// Space implements destination.Spacer with statvfs: free is what this user may
// still write.
func (d Driver) Space(ctx context.Context) (destination.Space, error) {
	return bounded(ctx, d, func(*watch) (destination.Space, error) {
		var s unix.Statfs_t
		if err := unix.Statfs(d.Root, &s); err != nil {
			return destination.Space{Free: -1, Used: -1}, failure("asking the disk for its space", err)
		}
		size := int64(s.Bsize)
		return destination.Space{Free: int64(s.Bavail) * size, Used: int64(s.Blocks-s.Bfree) * size}, nil
	})
}

// link gives a file a second name; from and to are paths in the folders in and into.
func (o *opened) link(in *below, from string, into *below, to string) error {
	return again(func() error {
		return unix.Linkat(int(in.file.Fd()), path.Base(from), int(into.file.Fd()), path.Base(to), 0)
	})
}

func (o *opened) renameNoReplace(in *below, from string, into *below, to string) error {
	return again(func() error {
		return unix.Renameat2(int(in.file.Fd()), path.Base(from), int(into.file.Fd()), path.Base(to), unix.RENAME_NOREPLACE)
	})
}

// again makes a system call until no signal cuts it.
func again(call func() error) error {
	for {
		if err := call(); !errors.Is(err, unix.EINTR) {
			return err
		}
	}
}

// names is how many names a file has.
func names(info fs.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Nlink)
	}
	return 1
}

// inode is a file's device and number, as text.
func inode(info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return strconv.FormatUint(uint64(st.Dev), 10) + ":" + strconv.FormatUint(st.Ino, 10)
	}
	return ""
}

// changed is when a file's record was last written: a copy has its own.
func changed(info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return strconv.FormatInt(int64(st.Ctim.Sec), 10)
	}
	return ""
}

package scan

import (
	"io/fs"
	"syscall"
)

func system(info fs.FileInfo) (inode, ctime int64) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int64(st.Ino), st.Ctim.Nano()
	}
	return 0, 0
}

// device is the number of the file system that a file lies on.
func device(info fs.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Dev)
	}
	return 0
}

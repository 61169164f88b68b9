//go:build unix

package scan

import (
	"io/fs"
	"syscall"
)

func inode(info fs.FileInfo) int64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int64(st.Ino)
	}
	return 0
}

package library

import "golang.org/x/sys/unix"

// shownAsFile tells whether the Finder shows a folder as one file: bit 0x20 of byte 8 of its FinderInfo
// (kHasBundle, Finder.h).
func shownAsFile(dir string) bool {
	info := make([]byte, 32)
	n, err := unix.Getxattr(dir, "com.apple.FinderInfo", info)
	return err == nil && n > 8 && info[8]&0x20 != 0
}

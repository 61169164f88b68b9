//go:build !linux

package scan

import (
	"io/fs"
	"time"
)

// Neither is asked of this system yet: a file that is written over at the same
// length with its time put back is not told from the one before.
func system(fs.FileInfo) (inode, ctime int64) { return 0, 0 }

// Identity is a file's disk and number there, and how many names the file has; 0 names where the system
// does not tell.
func Identity(fs.FileInfo) (id [2]uint64, names uint64) { return id, 0 }

// Born is when a file was made; this system is not asked yet.
func Born(string) (at time.Time, ok bool) { return at, false }

// Unborn tells whether the file system of a file does not tell when files were made; this system is not asked yet.
func Unborn(string) bool { return false }

func mountsBelow(string) string { return "" }

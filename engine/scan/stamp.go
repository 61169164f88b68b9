package scan

import "io/fs"

// Stamp tells one state of a file from another without reading it. A file that
// is written over at the same length with its time put back still has another
// CTime: no program can set that one.
type Stamp struct {
	Size  int64
	MTime int64 // nanoseconds since 1970
	Inode int64 // 0 where the system has none
	CTime int64 // of the last change of any sort, nanoseconds since 1970; 0 where the system has none
}

// StampOf is the stamp of a file that was looked at.
func StampOf(info fs.FileInfo) Stamp {
	inode, ctime := system(info)
	return Stamp{info.Size(), info.ModTime().UnixNano(), inode, ctime}
}

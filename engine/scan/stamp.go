package scan

import (
	"io/fs"
	"math"
	"time"
)

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
	return Stamp{info.Size(), nanoseconds(info.ModTime()), inode, ctime}
}

// nanoseconds are those since 1970, as far as 64 bits tell them: a time beyond the years 1678 to
// 2262 is the first or the last of them.
func nanoseconds(t time.Time) int64 {
	switch first, last := time.Unix(0, math.MinInt64), time.Unix(0, math.MaxInt64); {
	case t.Before(first):
		return math.MinInt64
	case t.After(last):
		return math.MaxInt64
	}
	return t.UnixNano()
}

// Disk is the number of the disk that a file lies on, 0 where the system does not tell.
func Disk(info fs.FileInfo) uint64 {
	id, _ := Identity(info)
	return id[0]
}

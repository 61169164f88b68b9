package scan

import (
	"io/fs"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func system(info fs.FileInfo) (inode, ctime int64) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int64(st.Ino), st.Ctim.Nano()
	}
	return 0, 0
}

// Identity is a file's disk and number there, and how many names the file has; 0 names where the system
// does not tell.
func Identity(info fs.FileInfo) (id [2]uint64, names uint64) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return [2]uint64{uint64(st.Dev), st.Ino}, uint64(st.Nlink)
	}
	return id, 0
}

// Born is when a file was made where it is: a name that it was given later leaves that as it was (statx(2)). ok is false
// where the file system does not tell.
func Born(path string) (at time.Time, ok bool) {
	st, told, err := birth(path)
	if err != nil || !told {
		return time.Time{}, false
	}
	return time.Unix(st.Sec, int64(st.Nsec)), true
}

// birth is when a file was made; told is false where the file system does not tell.
func birth(path string) (at unix.StatxTimestamp, told bool, err error) {
	var st unix.Statx_t
	err = unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME, &st)
	return st.Btime, st.Mask&unix.STATX_BTIME != 0, err
}

// Unborn tells whether the file system of a file does not tell when files were made: such a one, as on cards, gives
// files other numbers at each mount.
func Unborn(path string) bool {
	_, told, err := birth(path)
	return err == nil && !told
}

// inTable writes a path as the mount table does (proc(5)).
var inTable = strings.NewReplacer(" ", `\040`, "\t", `\011`, "\n", `\012`, `\`, `\134`)

// mountsBelow tells what is mounted at a folder or below it, to be compared with
// what was.
func mountsBelow(root string) string {
	table, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return "" // the disks themselves are looked at
	}
	root = inTable.Replace(root)
	var below strings.Builder
	for line := range strings.Lines(string(table)) {
		if fields := strings.Fields(line); len(fields) > 4 && (fields[4] == root || strings.HasPrefix(fields[4], root+"/")) {
			below.WriteString(line)
		}
	}
	return below.String()
}

package makeroom

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// isOpen tells whether a program has a file open: a lease for writing is given where nobody else has (fcntl(2),
// F_SETLEASE). Where the system cannot tell, nobody has.
func isOpen(root *os.Root, name string) bool {
	f, err := root.Open(filepath.FromSlash(name))
	if err != nil {
		return false
	}
	defer f.Close() // ends the lease, too
	_, err = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_WRLCK)
	return errors.Is(err, unix.EAGAIN)
}

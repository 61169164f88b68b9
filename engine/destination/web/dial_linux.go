package web

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// notSent is how many bytes the system may hold back unsent.
const notSent = 128 << 10

// keepUnsentShort makes writes wait while much is unsent, so that what is
// counted has really left, and little goes out after a gate shuts.
func keepUnsentShort(_, _ string, c syscall.RawConn) error {
	var err error
	if cerr := c.Control(func(fd uintptr) {
		err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, notSent)
	}); cerr != nil {
		return cerr
	}
	return err
}

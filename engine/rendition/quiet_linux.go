package rendition

import (
	"runtime"

	"golang.org/x/sys/unix"
)

// patience is how far what makes pictures stands behind other programs, on the scale of nice:
// not at its end, as a thread that gets no time at all would keep the whole process waiting
// when memory is collected.
const patience = 10

// quietly has the goroutine that calls it stand behind other programs until it ends; its
// thread, whose priority never rises again, ends with it.
func quietly() {
	runtime.LockOSThread()
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), patience) // without it it only is less polite
}

package work

import (
	"runtime"

	"golang.org/x/sys/unix"
)

// patience is how far what works quietly stands behind other programs, on the scale of nice:
// not at its end, as a thread that gets no time at all would keep the whole process waiting
// when memory is collected.
const patience = 10

// Quietly has the goroutine that calls it stand behind other programs until it ends; its
// thread, whose priority never rises again, ends with it.
func Quietly() {
	runtime.LockOSThread()
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), patience) // without it it only is less polite
}

// Idly is Quietly for what mostly reads disks: they serve it when nobody else asks (ioprio_set(2), class idle).
func Idly() {
	Quietly()
	const ofThread, idle = 1, 3 << 13
	_, _, _ = unix.Syscall(unix.SYS_IOPRIO_SET, ofThread, 0, idle) // without it it only is less polite
}

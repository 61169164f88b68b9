package work

import (
	"runtime"

	"golang.org/x/sys/windows"
)

var setThreadPriority = windows.NewLazySystemDLL("kernel32.dll").NewProc("SetThreadPriority")

// Quietly has the goroutine that calls it stand behind other programs until it ends; its
// thread ends with it.
func Quietly() {
	const belowNormal = -1
	runtime.LockOSThread()
	_, _, _ = setThreadPriority.Call(uintptr(windows.CurrentThread()),
		uintptr(belowNormal&0xffffffff)) // without it it only is less polite
}

// Idly is Quietly for what mostly reads disks.
func Idly() { Quietly() }

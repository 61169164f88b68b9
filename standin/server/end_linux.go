package server

import "syscall"

// endsWithUs has the system end a server when this process is killed.
func endsWithUs() *syscall.SysProcAttr { return &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }

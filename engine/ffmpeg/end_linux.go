package ffmpeg

import (
	"os/exec"
	"syscall"
)

func endWithUs(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }

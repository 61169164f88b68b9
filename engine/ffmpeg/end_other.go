//go:build !linux

package ffmpeg

import "os/exec"

// endWithUs does nothing here: this system has no such means.
func endWithUs(*exec.Cmd) {}

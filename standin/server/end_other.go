//go:build !linux

package server

import "syscall"

func endsWithUs() *syscall.SysProcAttr { return nil }

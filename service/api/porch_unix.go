//go:build unix

package api

import (
	"errors"
	"syscall"
)

// isShort tells whether the system is short of something that connections need.
func isShort(err error) bool {
	return errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) || errors.Is(err, syscall.ENOBUFS) ||
		errors.Is(err, syscall.ENOMEM) || errors.Is(err, syscall.ECONNABORTED)
}

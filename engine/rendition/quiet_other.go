//go:build !linux && !windows

package rendition

// quietly does nothing here: this system has no priority of threads that it would be good to
// set.
func quietly() {}

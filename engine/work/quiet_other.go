//go:build !linux && !windows

package work

// Quietly does nothing here: this system has no priority of threads that it would be good to
// set.
func Quietly() {}

// Idly is Quietly for what mostly reads disks.
func Idly() { Quietly() }

//go:build !darwin

package library

// shownAsFile is never so where the system has no such mark.
func shownAsFile(string) bool { return false }

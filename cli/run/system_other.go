//go:build !android

package run

// prepareSystem sets what the system does not tell: here it tells.
func prepareSystem() {}

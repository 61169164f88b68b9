//go:build !android

package host

// prepareSystem sets what the system does not tell: here it tells.
func prepareSystem() {}

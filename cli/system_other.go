//go:build !android

package cli

// prepareSystem sets what the system does not tell: here it tells.
func prepareSystem() {}

//go:build !windows

package awake

func windowsHere() System { return nil } // it is not Windows

//go:build !linux

package sensor

// routes tells of nothing here.
type routes struct{ signals chan struct{} }

func (*routes) open()  {}
func (*routes) close() {}

func defaultLink() string { return "" }

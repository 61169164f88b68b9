//go:build !windows

package sensor

import "runtime"

// System is the sensor of this machine.
func System() Sensor {
	switch runtime.GOOS {
	case "android":
		return Android{}
	case "darwin":
		return Mac{}
	}
	return Linux{}
}

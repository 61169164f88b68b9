package sensor

// System is the sensor of this machine.
func System() Sensor { return Windows{} }

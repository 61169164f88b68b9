package device

// Land notes that bytes landed at a destination, as the end of a send does.
func Land(f *Fleet, name string, bytes int64) {
	f.take(name, bytes, 0)
	f.give(name, bytes, true)
}

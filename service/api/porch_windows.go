package api

// isShort tells whether the system is short of something that connections need; this system
// does not tell.
func isShort(error) bool { return false }

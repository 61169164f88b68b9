package work

// Quiet has something done behind other programs, by a goroutine and a thread of its own, and waits for it.
func Quiet(do func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		Quietly()
		do()
	}()
	<-done
}

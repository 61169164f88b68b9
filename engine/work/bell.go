// Package work is how work beside the rest is begun, bounded, owned, waited for and woken. What is
// done is the business of whoever begins it.
package work

// Bell wakes one goroutine. Rings that come before the goroutine listens count once: it looks at
// everything anyway. Make it with NewBell.
type Bell chan struct{}

// NewBell makes a bell that was not rung.
func NewBell() Bell { return make(Bell, 1) }

// Ring wakes who listens, now or when it does next. It never blocks.
func (b Bell) Ring() {
	select {
	case b <- struct{}{}:
	default:
	}
}

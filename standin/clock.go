package standin

import (
	"sync"
	"time"
)

// Clock is the time of day that simulated devices live by. It can be stopped, stepped,
// set and sped up; the real one goes on beside it. The zero value stands at midnight.
type Clock struct {
	mu    sync.Mutex
	at    time.Duration // since midnight, when it was last set
	speed int           // times as fast as the real one; 0 while it stands
	since time.Time
}

// MostSpeed is how fast it can go: a day in a minute.
const MostSpeed = 1440

// Now is the time since midnight, and how many times as fast as the real one it goes.
func (c *Clock) Now() (at time.Duration, speed int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now(), c.speed
}

func (c *Clock) now() time.Duration {
	return (c.at + time.Since(c.since)*time.Duration(c.speed)) % (24 * time.Hour)
}

// Set puts it at a time of day and lets it go on so many times as fast as the real one,
// or not at all with 0.
func (c *Clock) Set(at time.Duration, speed int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at, c.speed, c.since = at%(24*time.Hour), min(max(0, speed), MostSpeed), time.Now()
}

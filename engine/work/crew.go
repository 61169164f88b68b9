package work

import (
	"sync"
	"time"
)

// Crew does work beside whoever begins it: work of one name once at a time, and no more at once
// than it has hands. The zero value has a hand for all that comes. Its methods are safe for
// concurrent use.
type Crew struct {
	Hands int    // how much is done at once, 0 for all that is begun
	Line  int    // how much may wait for a free hand
	Freed func() // is called when a name is free again; it must not block

	mu    sync.Mutex
	names map[any]bool // of what is done, or waits
	hands chan struct{}
	over  bool
	all   sync.WaitGroup
}

// Begin begins work of a name. It is false when work of that name is being done already, when no
// hand and no place in the line is free, and after End.
func (c *Crew) Begin(name any, do func()) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over || c.names[name] || c.full() {
		return false
	}
	if c.names == nil {
		c.names = map[any]bool{}
		if c.Hands > 0 {
			c.hands = make(chan struct{}, c.Hands)
		}
	}
	c.names[name] = true
	c.all.Go(func() {
		defer c.free(name)
		if c.hands != nil {
			c.hands <- struct{}{}
			defer func() { <-c.hands }()
		}
		do()
	})
	return true
}

func (c *Crew) full() bool { return c.Hands > 0 && len(c.names) >= c.Hands+c.Line }

func (c *Crew) free(name any) {
	c.mu.Lock()
	delete(c.names, name)
	c.mu.Unlock()
	if c.Freed != nil {
		c.Freed()
	}
}

// Does tells whether work of a name is being done, or waits for a hand.
func (c *Crew) Does(name any) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.names[name]
}

// Free tells whether more may begin.
func (c *Crew) Free() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.over && !c.full()
}

// Shut lets nothing more begin.
func (c *Crew) Shut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.over = true
}

// End lets nothing more begin and waits until all work has ended, but no longer than most. It is
// false when some goes on.
func (c *Crew) End(most time.Duration) bool {
	c.Shut()
	ended := make(chan struct{})
	go func() { c.all.Wait(); close(ended) }()
	limit := time.NewTimer(most)
	defer limit.Stop()
	select {
	case <-ended:
		return true
	case <-limit.C:
		return false
	}
}

// Forever is how long End waits for work that ends by itself.
const Forever = time.Duration(1<<63 - 1)

package work_test

import (
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"yardtide/engine/work"
)

func TestWorkOfOneNameIsDoneOnceAtATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var c work.Crew
		ends := make(chan struct{})
		assert.True(t, c.Begin("a", func() { <-ends }))
		assert.False(t, c.Begin("a", func() { t.Error("done twice") }))
		assert.True(t, c.Begin("b", func() {}), "another name")
		synctest.Wait()
		assert.True(t, c.Does("a"))
		assert.False(t, c.Does("b"), "it has ended")
		close(ends)
		synctest.Wait()
		again := false
		assert.True(t, c.Begin("a", func() { again = true }), "once it has ended")
		assert.True(t, c.End(work.Forever))
		assert.True(t, again)
	})
}

func TestNoMoreIsDoneThanThereAreHandsAndTheLineIsBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := work.Crew{Hands: 2, Line: 3}
		var now, most, done atomic.Int64
		began := 0
		for i := range 10 {
			if c.Begin(i, func() {
				most.Store(max(most.Load(), now.Add(1)))
				time.Sleep(time.Second)
				now.Add(-1)
				done.Add(1)
			}) {
				began++
			}
		}
		assert.Equal(t, 5, began, "two at work and three in line")
		assert.False(t, c.Free())
		assert.True(t, c.End(work.Forever))
		assert.Equal(t, int64(2), most.Load())
		assert.Equal(t, int64(5), done.Load(), "who waits in line is done, too")
	})
}

func TestTheNameIsFreeWhenTheOwnerHearsOfIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var c work.Crew
		heard := 0
		c = work.Crew{Hands: 1, Freed: func() {
			heard++
			assert.False(t, c.Does("a"))
			assert.True(t, c.Free())
		}}
		c.Begin("a", func() { time.Sleep(time.Second) })
		assert.False(t, c.Free())
		synctest.Wait()
		time.Sleep(2 * time.Second)
		synctest.Wait()
		assert.Equal(t, 1, heard)
	})
}

func TestWhatDoesNotEndIsLeftBehindAndNothingMoreBegins(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var c work.Crew
		ends := make(chan struct{})
		c.Begin("hangs", func() { <-ends })
		began := time.Now()
		assert.False(t, c.End(3*time.Second))
		assert.Equal(t, 3*time.Second, time.Since(began))
		assert.False(t, c.Begin("more", func() {}))
		close(ends)
		assert.True(t, c.End(work.Forever))
	})
}

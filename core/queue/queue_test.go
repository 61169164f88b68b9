package queue_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/queue"
)

func TestACopyIsSafeOnlyThroughAProof(t *testing.T) {
	for _, from := range queue.States {
		err := queue.Step(from, queue.Safe)
		if from == queue.Proving {
			assert.NoError(t, err)
			continue
		}
		var step queue.StepError
		require.ErrorAs(t, err, &step, "%s", from)
		assert.Equal(t, queue.StepError{From: from, To: queue.Safe}, step)
	}
}

func TestEveryStateCanBeReachedAndLeft(t *testing.T) {
	reached := map[queue.State]bool{queue.Waiting: true}
	for range queue.States {
		for _, from := range queue.States {
			for _, to := range queue.States {
				if reached[from] && queue.Step(from, to) == nil {
					reached[to] = true
				}
			}
		}
	}
	for _, s := range queue.States {
		assert.True(t, reached[s], "%s", s)
	}
	for _, s := range queue.States {
		after := queue.Resume(s)
		assert.NotContains(t, []queue.State{queue.Preparing, queue.Sending}, after, "nothing is half done after a start")
	}
}

func TestWhatMendsItselfWaitsAndWhatDoesNotSaysWhatToDo(t *testing.T) {
	causes := []queue.Cause{queue.Unreachable, queue.Busy, queue.Full, queue.SignIn, queue.Identity, queue.Misplaced,
		queue.Refused, queue.Different,
		queue.Changed, queue.Gone, queue.Unreadable, queue.Shut, queue.Bug, "something new"}
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(causes).Draw(t, "cause")
		o := queue.Judge(c, rapid.IntRange(1, 50).Draw(t, "tries"), rapid.Float64Range(0, 0.999).Draw(t, "r"), 0)
		require.Equal(t, o.You, o.Do != "", "%s: who needs a person says what to do", c)
		require.Equal(t, o.To == queue.Stuck, o.You && !o.Destination, "%s: only what needs a person is stuck", c)
		require.NoError(t, queue.Step(queue.Sending, o.To))
		if o.To == queue.Waiting && c != queue.Shut {
			require.Positive(t, o.Wait, "%s is not hammered", c)
		}
	})
	assert.Equal(t, queue.Waiting, queue.Judge(queue.Busy, 7, 0, 0).To)
	assert.Equal(t, queue.Stuck, queue.Judge(queue.Busy, 8, 0, 0).To)
	assert.Equal(t, queue.Waiting, queue.Judge(queue.Unreachable, 500, 0, 0).To,
		"a storage that is away is waited for, for ever")
	assert.Equal(t, time.Hour, queue.Judge(queue.Busy, 1, 0.5, time.Hour).Wait, "what the storage asks for is given")
}

func TestWaitsGrowAndAreJittered(t *testing.T) {
	assert.Equal(t, 2*time.Second, queue.Wait(1, 0.5))
	assert.Equal(t, 8*time.Second, queue.Wait(3, 0.5))
	assert.Equal(t, 15*time.Minute, queue.Wait(1000, 0.5))
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(-1, 100).Draw(t, "tries")
		r := rapid.Float64Range(0, 0.999).Draw(t, "r")
		require.GreaterOrEqual(t, queue.Wait(n+1, 0.5), queue.Wait(n, 0.5))
		require.InEpsilon(t, float64(queue.Wait(n, 0.5)), float64(queue.Wait(n, r)), 0.2501)
	})
}

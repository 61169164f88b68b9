package forecast_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/forecast"
)

func TestATotalIsTheRatioOfTheSample(t *testing.T) {
	r, ok := forecast.Total(1000, 10, []forecast.Sample{{100, 20}, {100, 20}, {200, 40}})
	require.True(t, ok)
	assert.Equal(t, forecast.Range{Low: 200, Likely: 200, High: 200}, r, "where all are alike there is no doubt")
	r, ok = forecast.Total(300, 2, []forecast.Sample{{100, 100}, {200, 10}})
	require.True(t, ok)
	assert.Equal(t, forecast.Range{Low: 110, Likely: 110, High: 110}, r, "all of it was looked at")
	r, ok = forecast.Total(1000, 10, []forecast.Sample{{100, 20}})
	require.True(t, ok)
	assert.Equal(t, forecast.Range{Low: 0, Likely: 200, High: 1000}, r, "one says little")
	for name, s := range map[string][]forecast.Sample{"none": nil, "empty files": {{0, 0}}} {
		_, ok := forecast.Total(1000, 10, s)
		assert.False(t, ok, name)
	}
	_, ok = forecast.Total(0, 0, []forecast.Sample{{1, 1}})
	assert.False(t, ok)
}

// Of drawn households, what all of it came to lies in the range mostly: an eighth of
// these stand out, so that it is 17 of 20 and not 19.
func TestTheRangeHoldsMostly(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	held, rounds := 0, 2000
	for range rounds {
		n := 200 + random.IntN(2000)
		var all, came int64
		files := make([]forecast.Sample, n)
		for i := range files {
			before := int64(500_000 + random.IntN(6_000_000))
			ratio := 0.1 + 0.3*random.Float64()
			if random.IntN(8) == 0 {
				ratio = 1 // as shot
			}
			files[i] = forecast.Sample{Before: before, After: int64(float64(before) * ratio)}
			all, came = all+before, came+files[i].After
		}
		random.Shuffle(n, func(i, j int) { files[i], files[j] = files[j], files[i] })
		r, ok := forecast.Total(all, int64(n), files[:24])
		require.True(t, ok)
		require.True(t, r.Low <= r.Likely && r.Likely <= r.High)
		if came >= r.Low && came <= r.High {
			held++
		}
	}
	assert.Greater(t, float64(held)/float64(rounds), 0.85)
}

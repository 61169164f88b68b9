// Package forecast tells what is to come from what is known: so far, what all of
// something will take, by a sample of it.
package forecast

import "math"

// Sample is one of those that were looked at: its bytes, and what came of them.
type Sample struct{ Before, After int64 }

// Range is where a total lies: likely so, and mostly between low and high (19 times of 20
// where what was looked at is spread evenly, less often where a few stand out).
type Range struct {
	Low    int64 `json:"low"`
	Likely int64 `json:"likely"`
	High   int64 `json:"high"`
}

// Plus adds what another total comes to.
func (r Range) Plus(o Range) Range { return Range{r.Low + o.Low, r.Likely + o.Likely, r.High + o.High} }

// Total tells what comes of all, which are so many bytes and of which n were looked at, by
// the ratio of the samples (W. G. Cochran, Sampling Techniques, 1977, 6.4). Nothing is said
// without a sample: ok is false.
func Total(all, count int64, samples []Sample) (r Range, ok bool) {
	var before, after float64
	for _, s := range samples {
		before, after = before+float64(s.Before), after+float64(s.After)
	}
	if before == 0 || all <= 0 {
		return r, false
	}
	ratio := after / before
	r.Likely = int64(math.Round(float64(all) * ratio))
	n := float64(len(samples))
	if int64(len(samples)) >= count {
		return Range{r.Likely, r.Likely, r.Likely}, true
	}
	if len(samples) < 2 { // it may be anything up to as it is
		return Range{0, r.Likely, max(r.Likely, all)}, true
	}
	spread := 0.0
	for _, s := range samples {
		d := float64(s.After) - ratio*float64(s.Before)
		spread += d * d
	}
	mean := before / n
	unseen := 1 - n/float64(count)
	off := math.Sqrt(unseen*spread/(n-1)/n) / mean * float64(all)
	// Few samples say less of how they spread: Student's t, 0.975, about.
	off *= 1.96 + 2.4/(n-1) + 2.5/((n-1)*(n-1))
	r.Low, r.High = max(0, r.Likely-int64(off)), r.Likely+int64(math.Ceil(off))
	return r, true
}

package fleet_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/engine/destination"
	"yardtide/engine/fleet"
)

// Whoever asks, sends or lands, and in whatever order: what devices here take and what
// those elsewhere were given never comes to more than there is room for.
func TestNobodyIsGivenRoomThatAnotherHas(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var f fleet.Fleet
		free, keep := rapid.Int64Range(0, 1000).Draw(rt, "free"), rapid.Int64Range(0, 200).Draw(rt, "keep")
		f.SetSpace("shed", destination.Space{Free: free, Used: -1}, 0)
		type device struct{ left, underway, unsaid int64 }
		away := map[string]*device{"deck-phone": {}, "tablet": {}, "laptop": {}}
		var here, landed int64
		rt.Repeat(map[string]func(*rapid.T){
			"a device here begins": func(rt *rapid.T) {
				if n := rapid.Int64Range(1, 300).Draw(rt, "bytes"); f.Take("shed", n, keep) {
					here += n
				}
			},
			"and lands": func(rt *rapid.T) { f.Give("shed", here, true); landed += here; here = 0 },
			"one elsewhere asks": func(rt *rapid.T) {
				name := rapid.SampledFrom([]string{"deck-phone", "tablet", "laptop"}).Draw(rt, "who")
				d := away[name]
				d.left = f.Part(name, "shed", keep, d.underway, rapid.Int64Range(0, 600).Draw(rt, "wants"), d.unsaid)
				d.unsaid = 0
			},
			"one elsewhere sends": func(rt *rapid.T) {
				d := away[rapid.SampledFrom([]string{"deck-phone", "tablet", "laptop"}).Draw(rt, "who")]
				n := rapid.Int64Range(0, 300).Draw(rt, "bytes")
				if n <= d.left {
					d.left, d.underway = d.left-n, d.underway+n
				}
			},
			"and lands there": func(rt *rapid.T) {
				d := away[rapid.SampledFrom([]string{"deck-phone", "tablet", "laptop"}).Draw(rt, "who")]
				landed, d.unsaid, d.underway = landed+d.underway, d.unsaid+d.underway, 0
			},
			"one leaves": func(rt *rapid.T) {
				name := rapid.SampledFrom([]string{"deck-phone", "tablet", "laptop"}).Draw(rt, "who")
				if d := away[name]; d.underway == 0 && d.unsaid == 0 {
					f.Leave(name)
					away[name] = &device{}
				}
			},
			"": func(rt *rapid.T) {
				all := here + landed
				for _, d := range away {
					all += d.underway + d.left
				}
				require.LessOrEqual(rt, all, max(0, free-keep))
			},
		})
	})
}

// A storage that does not tell how much room it has is full for nobody.
func TestRoomThatNobodyKnowsIsGivenToAll(t *testing.T) {
	var f fleet.Fleet
	for range 3 {
		for _, name := range []string{"deck-phone", "tablet"} {
			require.EqualValues(t, -1, f.Part(name, "locker", 100, 0, 50, 0))
			require.EqualValues(t, -1, f.Part(name, "locker", 100, 20, 50, 10))
		}
		require.EqualValues(t, -1, f.Left("locker", 100))
		require.True(t, f.Take("locker", 1000, 100))
	}
	f.SetSpace("locker", destination.Space{Free: 0, Used: -1}, f.Landed("locker"))
	require.Zero(t, f.Part("tablet", "locker", 0, 0, 50, 0), "and one that tells it is full is")
}

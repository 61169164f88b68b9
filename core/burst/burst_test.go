package burst_test

import (
	"image"
	"image/color"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"yardtide/core/burst"
	"yardtide/core/likeness"
)

func at(ms int) time.Time { return time.UnixMilli(int64(ms)) }

func ids(runs [][]burst.Shot) (list [][]int64) {
	for _, run := range runs {
		var one []int64
		for _, s := range run {
			one = append(one, s.ID)
		}
		list = append(list, one)
	}
	return list
}

func TestShotsInARowOfOneCameraAreARun(t *testing.T) {
	shots := []burst.Shot{{5, "a", at(900)}, {1, "a", at(0)}, {2, "b", at(100)}, {3, "a", at(300)}, {4, "a", at(600)},
		{6, "a", at(9000)}, {7, "b", at(200)}, {8, "b", at(250)}}
	assert.Equal(t, [][]int64{{1, 3, 4, 5}}, ids(burst.Runs(shots)),
		"three are no burst, and what comes later is not of it")
	assert.Empty(t, burst.Runs(nil))
}

func picture(shift, turn int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, 320, 240))
	for y := range 240 {
		for x := range 320 {
			v := uint8((x+shift)*255/340 ^ y/3)
			if turn == 1 {
				v = 255 - v
			}
			img.Set(x, y, color.RGBA{v, v / 2, 40, 255})
		}
	}
	return img
}

func TestWhatDoesNotLookAlikePartsARun(t *testing.T) {
	like, moved, other := likeness.CoarseOf(picture(0, 0)), likeness.CoarseOf(picture(3, 0)), likeness.CoarseOf(picture(0, 1))
	assert.LessOrEqual(t, like.Apart(moved), 10)
	assert.Greater(t, like.Apart(other), 10)
	run := make([]burst.Shot, 10)
	look := map[int64]likeness.Coarse{}
	for i := range run {
		run[i] = burst.Shot{ID: int64(i), At: at(i)}
		look[int64(i)] = like
	}
	look[5] = other
	assert.Equal(t, [][]int64{{0, 1, 2, 3, 4}, {6, 7, 8, 9}}, ids(burst.Split(run, look)))
	delete(look, 2)
	assert.Equal(t, [][]int64{{6, 7, 8, 9}}, ids(burst.Split(run, look)), "what cannot be seen is like nothing")
}

// Whatever is shot, every burst is of one camera, in order, long enough and not too long, and
// no shot is in two.
func TestBurstsAreWhatTheySay(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		n := 0
		shots := rapid.SliceOfN(rapid.Custom(func(rt *rapid.T) burst.Shot {
			n++
			return burst.Shot{ID: int64(n), Camera: rapid.SampledFrom([]string{"", "a", "b"}).Draw(rt, "camera"),
				At: at(rapid.IntRange(0, 60_000).Draw(rt, "at"))}
		}), 0, 300).Draw(rt, "shots")
		seen := map[int64]bool{}
		for _, run := range burst.Runs(shots) {
			assert.GreaterOrEqual(rt, len(run), burst.Least)
			assert.LessOrEqual(rt, len(run), burst.Most)
			for i, s := range run {
				assert.False(rt, seen[s.ID])
				seen[s.ID] = true
				if i > 0 {
					apart := s.At.Sub(run[i-1].At)
					assert.True(rt, s.Camera == run[0].Camera && apart >= 0 && apart <= burst.MostApart)
				}
			}
		}
	})
}

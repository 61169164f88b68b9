package cachedir_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/engine/cachedir"
)

// TestTheOldestGoUntilTheRestIsWithinTheBound draws folders, and sees that no file went that is
// newer than one that is left.
func TestTheOldestGoUntilTheRestIsWithinTheBound(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		sizes, now := rapid.SliceOfN(rapid.IntRange(0, 3000), 0, 12).Draw(rt, "sizes"), time.Now()
		ages := rapid.Permutation(makeRange(len(sizes))).Draw(rt, "ages")
		stays := rapid.IntRange(-1, len(sizes)-1).Draw(rt, "stays")
		sum := int64(0)
		for i, size := range sizes {
			file := filepath.Join(dir, fmt.Sprint(i))
			require.NoError(rt, os.WriteFile(file, make([]byte, size), 0o600))
			require.NoError(rt, os.Chtimes(file, now, now.Add(-time.Duration(ages[i])*time.Minute)))
			if i != stays {
				sum += int64(size) + cachedir.PerFile
			}
		}
		require.NoError(rt, os.Mkdir(filepath.Join(dir, "a folder"), 0o700))
		most := int64(rapid.IntRange(0, 20_000).Draw(rt, "most"))
		to := most * int64(rapid.IntRange(0, 10).Draw(rt, "tenths")) / 10
		left, err := cachedir.Trim(dir, most, to, func(name string) bool { return name == fmt.Sprint(stays) })
		require.NoError(rt, err)
		there, oldest, youngest := int64(0), -1, len(sizes)
		for i, size := range sizes {
			_, err := os.Stat(filepath.Join(dir, fmt.Sprint(i)))
			switch {
			case i == stays:
				require.NoError(rt, err, "what stays went")
			case err == nil:
				there, oldest = there+int64(size)+cachedir.PerFile, max(oldest, ages[i])
			default:
				require.ErrorIs(rt, err, os.ErrNotExist)
				youngest = min(youngest, ages[i])
			}
		}
		assert.Equal(rt, there, left)
		assert.Less(rt, oldest, youngest, "one went that is newer than one that is left")
		if sum <= most {
			assert.Equal(rt, sum, left, "nothing had to go")
		} else {
			assert.LessOrEqual(rt, left, to)
		}
		assert.DirExists(t, filepath.Join(dir, "a folder"))
	})
	_, err := cachedir.Trim(filepath.Join(t.TempDir(), "none"), 1, 1, nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func makeRange(n int) []int {
	list := make([]int, n)
	for i := range list {
		list[i] = i
	}
	return list
}

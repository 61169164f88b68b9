package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFiguresStandBesideTheirBounds(t *testing.T) {
	var out strings.Builder
	failed, err := write(&out, strings.NewReader(`goos: linux
BenchmarkIdle-2   1   9 ns/op   0.04899 %core<=0.05   97.4 MiB
BenchmarkSmall/to-a-folder-2   1   9 ns/op   2.6 safe/rival<=1.5
PASS
`))
	require.NoError(t, err)
	assert.False(t, failed)
	assert.Equal(t, `what               figure   unit        bound
Idle               0.04899  %core       0.05   kept
                   97.4     MiB
Small/to-a-folder  2.6      safe/rival  1.5    missed
`, trimmed(out.String()))
	failed, err = write(&out, strings.NewReader("--- FAIL: BenchmarkIdle\nFAIL\n"))
	require.NoError(t, err)
	assert.True(t, failed)
	for _, odd := range []string{"BenchmarkIdle-2 1 nine ns/op", "BenchmarkIdle-2 1 9 s<=many"} {
		_, err = write(&out, strings.NewReader(odd+"\n"))
		assert.Error(t, err, odd)
	}
}

// trimmed is a table without the spaces at the ends of its lines.
func trimmed(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n")
}

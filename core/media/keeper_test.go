package media_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"yardtide/core/media"
)

// What is within the bounds once stays as it is: whoever is told of it takes nothing else.
func TestWhatTheKeeperSaysIsBoundedOnce(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []string{"a b"}, media.Keeper{Sets: []string{"a \x01 b"}}.Sound().Sets)
	rapid.Check(t, func(t *rapid.T) {
		said := media.Keeper{Note: rapid.String().Draw(t, "note"), Sets: rapid.SliceOfN(rapid.StringOf(rapid.SampledFrom([]rune{'a', ' ', '\t', '\r',
			'\n', 1, 0xFFFE, 'ü', 0x2028})), 0, 60).Draw(t, "sets")}.Sound()
		assert.Equal(t, said, said.Sound())
	})
}

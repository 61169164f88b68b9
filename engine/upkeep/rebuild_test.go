package upkeep_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yardtide/engine/upkeep"
)

func FuzzReadIndex(f *testing.F) {
	f.Add(`{"path":"2026/a.jpg","size":1,"sha256":"` + strings.Repeat("0", 64) + `"}` + "\n")
	for _, text := range []string{"", "\n", "{}", `{"path":"../x","size":1}`, "null\n[]\n1", "\x00"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		entries, err := upkeep.ReadIndex(strings.NewReader(text))
		require.NoError(t, err)
		for _, e := range entries {
			require.NotEmpty(t, e.Path)
			require.NotContains(t, "/"+e.Path+"/", "/../")
			require.Positive(t, e.Size)
		}
	})
}

package folder_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/folder"
)

func TestAFolderThatIsNotThereIsNotMade(t *testing.T) {
	root := t.TempDir() + "/unmounted"
	err := folder.New(root).Put(t.Context(), destinationtest.Temp(1), strings.NewReader("x"), 0, 1)
	assert.Equal(t, queue.Misplaced, destination.CauseOf(err), "%v", err)
	assert.NoDirExists(t, root)
}

func TestAFileWhereAFolderIsNeeded(t *testing.T) {
	d := folder.New(t.TempDir())
	require.NoError(t, os.WriteFile(d.Root+"/2026", []byte("in the way"), 0o600))
	temp := destinationtest.Temp(1)
	require.NoError(t, d.Put(t.Context(), temp, strings.NewReader("x"), 0, 1))
	err := d.Publish(t.Context(), temp, "2026/03/a.jpg")
	assert.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
	content, err := os.ReadFile(d.Root + "/2026")
	require.NoError(t, err)
	assert.Equal(t, "in the way", string(content))
}

func TestACounterThatSomebodyWroteOver(t *testing.T) {
	d := folder.New(t.TempDir())
	const at = "records/desk/last-put"
	n, err := d.Count(t.Context(), at)
	require.NoError(t, err)
	assert.Zero(t, n, "nothing was put there")
	require.NoError(t, d.SetCount(t.Context(), at, 7))
	n, err = d.Count(t.Context(), at)
	require.NoError(t, err)
	assert.EqualValues(t, 7, n)
	for _, text := range []string{"", "\x00\x00", "seven", "-7", "9223372036854775807", "-9223372036854775808",
		"99999999999999999999", strings.Repeat("9", 1<<16), "7.0", "0x7"} {
		require.NoError(t, os.WriteFile(d.Root+"/"+at, []byte(text), 0o600))
		n, err := d.Count(t.Context(), at)
		require.NoError(t, err, "%.20q", text)
		assert.Zero(t, n, "%.20q is no number of what was put there: the place counts as an older copy", text)
		require.NoError(t, d.SetCount(t.Context(), at, 8), "%.20q is replaced", text)
	}
	require.NoError(t, os.Remove(d.Root+"/"+at))
	require.NoError(t, os.Mkdir(d.Root+"/"+at, 0o700))
	_, err = d.Count(t.Context(), at)
	assert.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
	require.Error(t, d.SetCount(t.Context(), at, 9))
}

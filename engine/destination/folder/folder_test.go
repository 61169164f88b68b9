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
	err := folder.Driver{Root: root}.Put(t.Context(), destinationtest.Temp(1), strings.NewReader("x"), 0, 1)
	assert.Equal(t, queue.Misplaced, destination.CauseOf(err), "%v", err)
	assert.NoDirExists(t, root)
}

func TestAFileWhereAFolderIsNeeded(t *testing.T) {
	d := folder.Driver{Root: t.TempDir()}
	require.NoError(t, os.WriteFile(d.Root+"/2026", []byte("in the way"), 0o600))
	temp := destinationtest.Temp(1)
	require.NoError(t, d.Put(t.Context(), temp, strings.NewReader("x"), 0, 1))
	err := d.Publish(t.Context(), temp, "2026/03/a.jpg")
	assert.Equal(t, queue.Refused, destination.CauseOf(err), "%v", err)
	content, err := os.ReadFile(d.Root + "/2026")
	require.NoError(t, err)
	assert.Equal(t, "in the way", string(content))
}

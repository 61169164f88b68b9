package look_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/engine/look"
	"yardtide/standin"
)

func TestClosedLibrariesAreOpened(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, standin.Library(dir+"/Old boats.boatcase", 1, 12, 480))
	require.NoError(t, standin.Library(dir+"/deep/Hulls.boatcase", 50, 8, 480))
	photo, err := standin.PNG(90, 64)
	require.NoError(t, err)
	write(t, dir, "beside.png", photo)
	// What is called like a library, or holds a database, and is none.
	write(t, dir, "Trip.2024/x.png", photo)
	write(t, dir, "Accounts/money.db", []byte("SQLite format 3\x00"))
	write(t, dir, "Accounts/bill.png", photo)
	write(t, dir, "Talk.slides/Info.plist", []byte("<plist/>"))
	write(t, dir, "Talk.slides/data/notes.txt", []byte("oak\n"))

	sum := at(t, dir, look.Options{})
	require.Len(t, sum.Libraries, 2, "%+v", sum.Libraries)
	boats, hulls := sum.Libraries[1], sum.Libraries[0]
	if boats.Folder != "Old boats.boatcase" {
		boats, hulls = hulls, boats
	}
	assert.Equal(t, "deep/Hulls.boatcase", hulls.Folder)
	assert.EqualValues(t, 11+1, boats.Originals.N, "of one only smaller versions are there: the largest is taken")
	assert.EqualValues(t, 1, boats.Alone.N)
	assert.EqualValues(t, 11+12+12, boats.Smaller.N, "views, small ones, and what lies in a cache")
	assert.EqualValues(t, 2, boats.Rest.N, "the database, and the cache's tag")
	assert.Empty(t, boats.Doubts)
	assert.EqualValues(t, 12+8, sum.Kinds[media.Photo].N, "what would be taken up")
	assert.EqualValues(t, 35+23, sum.LeftOut[look.SmallerLeftOut].N)

	// The plan may take all of it; then it is told, and nothing is left out.
	sum = at(t, dir, look.Options{OriginalsOnly: func(library string) bool { return library != "Old boats.boatcase" }})
	assert.EqualValues(t, 23, sum.LeftOut[look.SmallerLeftOut].N)
	assert.EqualValues(t, 12+35+8, sum.Kinds[media.Photo].N)

	// A library is opened as itself, also where its name has no ending.
	bare := filepath.Join(dir, "boats")
	require.NoError(t, os.Rename(filepath.Join(dir, "Old boats.boatcase"), bare))
	sum = at(t, bare, look.Options{})
	require.Len(t, sum.Libraries, 1)
	assert.Equal(t, ".", sum.Libraries[0].Folder)
	assert.EqualValues(t, 12, sum.Libraries[0].Originals.N)
	// A folder that merely holds a database is none.
	assert.Empty(t, at(t, filepath.Join(dir, "Accounts"), look.Options{}).Libraries)
}

package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/core/words"
)

func TestStraysAreTold(t *testing.T) {
	for _, c := range []struct {
		inside, outside, letBe, folders, unseen int64
		says                                    string
	}{
		{0, 0, 0, 0, 0, "No pictures or clips were seen on desk."},
		{0, 0, 0, 0, 2, "No pictures or clips were seen on desk. 2 folders were not looked into."},
		{1, 0, 0, 0, 0, "All that were seen on desk lie in its sources: 1 picture or clip."},
		{1204, 0, 0, 0, 1, "All that were seen on desk lie in its sources: 1,204 pictures and clips. 1 folder was not looked into."},
		{0, 1, 0, 1, 0, "Of 1 picture or clip that were seen on desk, 0 lie in its sources; 1 lies in no source, in 1 folder."},
		{3, 4, 5, 2, 0, "Of 12 pictures and clips that were seen on desk, 3 lie in its sources; 4 lie in no source, in 2 folders; " +
			"5 lie where the plan lets them be."},
		{3, 0, 5, 0, 0, "Of 8 pictures and clips that were seen on desk, 3 lie in its sources; 5 lie where the plan lets them be."},
	} {
		assert.Equal(t, c.says, words.Strays("desk", c.inside, c.outside, c.letBe, c.folders, c.unseen))
	}
	assert.Empty(t, words.StraysInShort(0, 0, 0))
	assert.Equal(t, "1 picture or clip lies in no folder of the plan, in 1 folder.", words.StraysInShort(1, 1, 0))
	assert.Equal(t, "22 pictures and clips lie in no folder of the plan, in 4 folders.", words.StraysInShort(22, 4, 0))
	assert.Equal(t, "Smaller versions are taken, too, of 1 closed library.", words.StraysInShort(0, 0, 1))
}

func TestAClosedLibraryIsToldInASentence(t *testing.T) {
	of := words.LibraryFigures{Name: "Old boats.boatcase", Originals: 11204, Smaller: 22410, Alone: 31, Rest: 2,
		Bytes: 48_000_000_000, Only: true}
	assert.Equal(t, "Old boats.boatcase is a closed library: 11,204 originals, 48 GB; 22,410 smaller versions of them are left "+
		"out; 31 pictures are here only in a smaller version and are taken; 2 files are no pictures or clips.", words.Library(of))
	of.Only, of.Alone, of.Rest = false, 0, 0
	assert.Contains(t, words.Library(of), "22,410 smaller versions of them are taken, too.")
	of.Smaller = 0
	assert.Contains(t, words.Library(of), "no smaller version of one was found.")
	says, todo := words.LibraryDoubt(1, "scaled")
	assert.Equal(t, "1 picture in scaled may be smaller versions of others, or pictures of their own: it is taken.", says)
	assert.NotEmpty(t, todo)
}

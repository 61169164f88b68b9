package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/core/words"
)

func TestFoldersAreCalledAsPeopleCallThem(t *testing.T) {
	for folder, name := range map[string]string{"PICTURES": "Pictures", "DOWNLOAD/Boats": "Downloads/Boats", "Pictures": "Pictures",
		"/srv/PICTURES": "/srv/PICTURES", "PICTURESQUE": "PICTURESQUE", "volume:4F3A-11C2": "the card 4F3A-11C2",
		"volume:4F3A-11C2/DCIM": "the card 4F3A-11C2/DCIM", ".": ".", "": ""} {
		assert.Equal(t, name, words.Folder(folder), folder)
	}
}

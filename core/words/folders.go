package words

import (
	"strings"

	"yardtide/core/onvolume"
)

// roles are the words that stand for folders in a plan, as people call these.
var roles = map[string]string{"PICTURES": "Pictures", "VIDEOS": "Videos", "DOCUMENTS": "Documents", "DESKTOP": "Desktop",
	"DOWNLOAD": "Downloads", "MUSIC": "Music", "CAMERA": "Camera"}

// Folder is a source's folder as people call it: Pictures/Boats for PICTURES/Boats, and a card by its identity.
func Folder(folder string) string {
	if id, below, is := onvolume.Of(folder); is {
		return strings.TrimSuffix("the card "+id+"/"+below, "/")
	}
	first, rest, below := strings.Cut(folder, "/")
	name, is := roles[first]
	switch {
	case !is:
		return folder
	case below:
		return name + "/" + rest
	}
	return name
}

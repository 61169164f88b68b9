package words

import (
	"fmt"
	"strings"
)

// Strays tells how many pictures and clips of a device no source takes up, and what the figures do not know.
func Strays(device string, inside, outside, letBe, folders, unseen int64) string {
	says := fmt.Sprintf("Of %s that were seen on %s, %s in its sources", shots(inside+outside+letBe), device, lie(inside))
	switch {
	case inside+outside+letBe == 0:
		says = "No pictures or clips were seen on " + device
	case outside+letBe == 0:
		says = fmt.Sprintf("All that were seen on %s lie in its sources: %s", device, shots(inside))
	}
	if outside > 0 {
		says += fmt.Sprintf("; %s in no source, in %s", lie(outside), counted(folders, "folder", "folders"))
	}
	if letBe > 0 {
		says += fmt.Sprintf("; %s where the plan lets them be", lie(letBe))
	}
	if says += "."; unseen > 0 {
		says += " " + counted(unseen, "folder was", "folders were") + " not looked into."
	}
	return says
}

// StraysInShort tells of strays, and of closed libraries that are taken whole, in a line; "" of none.
func StraysInShort(n, folders, libraries int64) string {
	var says []string
	if n > 0 {
		says = append(says, fmt.Sprintf("%s in no folder of the plan, in %s.",
			counted(n, "picture or clip lies", "pictures and clips lie"), counted(folders, "folder", "folders")))
	}
	if libraries > 0 {
		says = append(says, fmt.Sprintf("Smaller versions are taken, too, of %s.",
			counted(libraries, "closed library", "closed libraries")))
	}
	return strings.Join(says, " ")
}

func shots(n int64) string { return counted(n, "picture or clip", "pictures and clips") }

func lie(n int64) string { return counted(n, "lies", "lie") }

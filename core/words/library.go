package words

import "fmt"

// LibraryFigures are those of a closed library, in files and bytes.
type LibraryFigures struct {
	Name                            string
	Originals, Smaller, Alone, Rest int64
	Bytes                           int64 // of the originals
	Only                            bool  // only they are taken
}

// Library tells of a closed library what is taken of it, and what is left out: "Old boats.boatcase is a closed library:
// 11,204 originals, 48 GB; 22,410 smaller versions of them and 12 other files are left out; 31 pictures are here only
// in a smaller version and are taken."
func Library(f LibraryFigures) string {
	says := fmt.Sprintf("%s is a closed library: %s, %s", f.Name, counted(f.Originals, "original", "originals"),
		Bytes(f.Bytes))
	switch {
	case f.Smaller == 0:
		says += "; no smaller version of one was found"
	case f.Only:
		says += "; " + counted(f.Smaller, "smaller version of them is left out", "smaller versions of them are left out")
	default:
		says += "; " + counted(f.Smaller, "smaller version of them is taken, too", "smaller versions of them are taken, too")
	}
	if f.Alone > 0 {
		says += "; " + counted(f.Alone, "picture is here only in a smaller version and is taken",
			"pictures are here only in a smaller version and are taken")
	}
	if f.Rest > 0 {
		says += "; " + counted(f.Rest, "file is no picture or clip", "files are no pictures or clips")
	}
	return says + "."
}

// LibraryTaken tells that a source takes more than the originals of a closed library.
func LibraryTaken(name, source string) string {
	return fmt.Sprintf("%s in %s is a closed library, and its smaller versions of pictures are taken, too.", name, source)
}

// LibraryDoubt asks about pictures of a library of which it is unclear whether they are smaller versions.
func LibraryDoubt(n int64, folder string) (says, todo string) {
	return fmt.Sprintf("%s in %s may be smaller versions of others, or pictures of their own: %s taken.",
			counted(n, "picture", "pictures"), folder, map[bool]string{true: "it is", false: "they are"}[n == 1]),
		"Leave the folder out if you know that they are not needed."
}

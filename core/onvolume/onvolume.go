// Package onvolume knows how a volume that comes and goes (a card, a camera, a phone on a cable) stands in a plan: by its
// own identity, and as the beginning of a source's folder.
package onvolume

import "strings"

// Any stands for every volume without an answer of its own.
const Any = "any"

// begins is how the folder of a source begins that lies on a volume; its identity follows.
const begins = "volume:"

// Folder is the folder of a source that is a whole volume.
func Folder(id string) string { return begins + id }

// Of is the volume that a source's folder lies on, and the folder below it; ok is false for one that lies on none.
func Of(folder string) (id, below string, ok bool) {
	rest, ok := strings.CutPrefix(folder, begins)
	if !ok {
		return "", "", false
	}
	id, below, _ = strings.Cut(rest, "/")
	return id, below, true
}

package scan

import (
	"iter"
	"path"
)

// folders are those that were walked. The folders in one are found without looking at all.
type folders struct {
	disk  map[string]uint64          // of each
	below map[string]map[string]bool // those in each
}

func newFolders() folders {
	return folders{map[string]uint64{}, map[string]map[string]bool{}}
}

func (f folders) add(dir string, disk uint64) {
	f.disk[dir] = disk
	if dir == "." {
		return
	}
	above := path.Dir(dir)
	if f.below[above] == nil {
		f.below[above] = map[string]bool{}
	}
	f.below[above][dir] = true
}

func (f folders) remove(dir string) {
	delete(f.disk, dir)
	above := path.Dir(dir)
	if delete(f.below[above], dir); len(f.below[above]) == 0 {
		delete(f.below, above)
	}
}

// tree are a folder and all below it. A folder may be removed as it comes.
func (f folders) tree(top string) iter.Seq[string] {
	return func(yield func(string) bool) { f.each(top, yield) }
}

func (f folders) each(top string, yield func(string) bool) bool {
	for sub := range f.below[top] {
		if !f.each(sub, yield) {
			return false
		}
	}
	_, walked := f.disk[top]
	return !walked || yield(top)
}

// Package cachedir keeps a folder of files that can be made again within a bound. It makes none,
// and does not know what is in them.
package cachedir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// PerFile is what a file counts beside its content, in bytes, so that empty ones count.
const PerFile = 512

// Trim removes the files of a folder that were wanted longest ago, by the time of their last
// change, when they are more than most bytes: until at most to are left. Those of which stays is
// true are not counted and not removed; nil is none. It tells how many bytes are left. What is gone
// meanwhile is no error.
func Trim(dir string, most, to int64, stays func(name string) bool) (left int64, err error) {
	type kept struct {
		name string
		size int64
		at   time.Time
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return 0, fmt.Errorf("listing a cache: %w", err)
	}
	var all []kept
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || stays != nil && stays(e.Name()) {
			continue
		}
		one := kept{e.Name(), info.Size() + PerFile, info.ModTime()}
		all, left = append(all, one), left+one.size
	}
	if left <= most {
		return left, nil
	}
	slices.SortFunc(all, func(a, b kept) int { return a.at.Compare(b.at) })
	for _, one := range all {
		if left <= to {
			break
		}
		if err := os.Remove(filepath.Join(dir, one.name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return left, fmt.Errorf("removing the oldest of a cache: %w", err)
		}
		left -= one.size
	}
	return left, nil
}

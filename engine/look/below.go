package look

import (
	"cmp"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/engine/scan"
)

// Below is a folder in another, with the pictures and clips in it and below, by their names.
type Below struct {
	Name  string
	Whole bool // all of it was counted
	More  bool // folders lie in it
	N     int64
	Bytes int64
}

// Listing is what lies in a folder, told quickly, for who goes from folder to folder.
type Listing struct {
	Folders []Below // by name
	N       int64   // pictures and clips in the folder itself
	Bytes   int64
}

// Unreadable tells why a folder cannot be read.
type Unreadable struct{ Dir, Why string }

func (e Unreadable) Error() string { return e.Dir + " cannot be read: " + e.Why }

// mostBelow is how many folders of one are listed.
const mostBelow = 1000

// List lists the folders in one, hidden ones left out, and counts what is in each as far as that can be done in
// some time; what is not counted whole says so. No file is opened and no link is followed. The error may be
// Unreadable.
func List(ctx context.Context, dir string, within time.Duration) (Listing, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return Listing{}, Unreadable{dir, scan.Reason(err)}
	}
	var l Listing
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if e.IsDir() && len(l.Folders) < mostBelow {
			l.Folders = append(l.Folders, Below{Name: e.Name()})
		} else if n := bytesOf(e); n >= 0 {
			l.N, l.Bytes = l.N+1, l.Bytes+n
		}
	}
	slices.SortFunc(l.Folders, func(a, b Below) int {
		return cmp.Or(cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), cmp.Compare(a.Name, b.Name))
	})
	end := time.Now().Add(within)
	for i := range l.Folders {
		// Each has a share of the time that is left: one that is huge does not take it all.
		share := time.Until(end) / time.Duration(len(l.Folders)-i)
		if err := count(ctx, filepath.Join(dir, l.Folders[i].Name), time.Now().Add(share), &l.Folders[i]); err != nil {
			return l, err
		}
	}
	return l, nil
}

// count counts what is in a folder and below, until a time. What cannot be read counts as empty: who opens it is
// told why.
func count(ctx context.Context, top string, until time.Time, into *Below) error {
	into.Whole = true
	return filepath.WalkDir(top, func(at string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err != nil:
			into.Whole = into.Whole && e != nil && at != top
			return nil
		case at == top:
			return nil
		case e.IsDir() && strings.HasPrefix(e.Name(), "."):
			return filepath.SkipDir
		case e.IsDir():
			into.More = into.More || filepath.Dir(at) == top
			if time.Now().After(until) {
				into.Whole = false
				return filepath.SkipAll
			}
		case strings.HasPrefix(e.Name(), "."):
		default:
			if n := bytesOf(e); n >= 0 {
				into.N, into.Bytes = into.N+1, into.Bytes+n
			}
		}
		return nil
	})
}

// bytesOf is the size of a file that is a picture or a clip by its name, -1 of every other.
func bytesOf(e fs.DirEntry) int64 {
	if _, is := media.OfName(e.Name()); !is || !e.Type().IsRegular() {
		return -1
	}
	info, err := e.Info()
	if err != nil {
		return -1 // it went meanwhile
	}
	return info.Size()
}

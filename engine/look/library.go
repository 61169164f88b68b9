package look

import (
	"context"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"yardtide/core/library"
	"yardtide/core/media"
	read "yardtide/engine/library"
	"yardtide/engine/scan"
)

// This file finds closed libraries in a folder that is looked at, and tells their originals from smaller versions.

// Library is a closed library that was found.
type Library struct {
	Folder    string // below the one that is looked at, "." for itself
	Originals Amount // pictures and clips that are no smaller versions
	Smaller   Amount // that are there larger, or lie in a cache
	Alone     Amount // of the originals: only a smaller version is there
	Rest      Amount // what is no picture or clip
	Doubts    []library.Doubt
	Only      bool // only its originals would be taken
}

// shelf is what was found in a closed library so far.
type shelf struct {
	folder string
	files  []read.File
	is     []entry // of each
	rest   Amount
	caches []string // below the library
	guess  bool     // nothing but a database says that it is one: not with another library in it
}

// mayHold tells whether a folder in the library may be a library of its own.
func (in *shelf) mayHold() bool { return in == nil || in.guess }

// closed is the closed library that a folder is, nil for one that is none.
func (l *looker) closed(dir string) *shelf {
	local := filepath.Join(l.root, filepath.FromSlash(dir))
	is := read.Closed(local)
	if !is && (dir != "." || !read.Kept(local)) {
		return nil
	}
	in := &shelf{folder: dir, guess: !is}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.libraries = slices.DeleteFunc(l.libraries, func(other *shelf) bool { return other.guess })
	l.libraries = append(l.libraries, in)
	return in
}

// below is a path below the library.
func (in *shelf) below(file string) string {
	if in.folder == "." {
		return file
	}
	return strings.TrimPrefix(file, in.folder+"/")
}

// tagged notes that a file is the tag of a cache, if it is. Nothing is noted in no library.
func (in *shelf) tagged(local, file string) {
	if in != nil && path.Base(file) == media.CacheTag && scan.Tagged(local) {
		in.caches = append(in.caches, path.Dir(in.below(file)))
	}
}

// add notes a file that was read. The caller has the lock.
func (in *shelf) add(e entry, facts media.Facts, w, h int) {
	if !slices.Contains(media.Versions, facts.Kind) && facts.Kind != media.Raw {
		in.rest.add(e.size)
		return
	}
	f := read.File{File: library.File{Path: in.below(e.path), Kind: facts.Kind, Bytes: e.size, W: w, H: h,
		Camera: facts.Camera, Seconds: facts.Seconds}, ContentType: facts.ContentType}
	if facts.TakenFrom != media.FromFile {
		f.AtMS = facts.TakenAt.UnixMilli()
	}
	in.files, in.is = append(in.files, f), append(in.is, e)
}

// leastVersions is the share of files that are smaller versions from which a folder without any other sign is a
// library.
const leastVersions = 0.2

// sort tells the libraries that were found apart, and counts their smaller versions as left out where only originals
// would be taken.
func (l *looker) sort(ctx context.Context) error {
	for _, in := range l.libraries {
		told, err := read.Sort(ctx, read.Options{Root: filepath.Join(l.root, filepath.FromSlash(in.folder)),
			Workers: l.Workers, Rest: l.Rest}, in.files, in.caches)
		if err != nil {
			return err
		}
		one := Library{Folder: in.folder, Rest: in.rest, Doubts: told.Doubts,
			Only: l.OriginalsOnly == nil || l.OriginalsOnly(in.folder)}
		for i, v := range told.Verdicts {
			switch bytes := in.files[i].Bytes; {
			case v.Smaller():
				one.Smaller.add(bytes)
			case v.Alone:
				one.Alone.add(bytes)
				fallthrough
			default:
				one.Originals.add(bytes)
			}
		}
		if len(in.files) == 0 || in.guess &&
			float64(one.Smaller.N) < leastVersions*float64(len(in.files)) {
			continue
		}
		l.mu.Lock()
		l.sum.Libraries = append(l.sum.Libraries, one)
		for i, v := range told.Verdicts {
			if e := in.is[i]; one.Only && v.Smaller() && e.is.why == "" {
				l.put(e.is, e.size, (*Amount).take)
				e.is.why = SmallerLeftOut
				l.put(e.is, e.size, (*Amount).add)
			}
		}
		l.mu.Unlock()
	}
	return nil
}

// SmallerLeftOut is why smaller versions are left out.
const SmallerLeftOut = "Smaller versions of pictures that are there larger."

package show

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/face"
	"yardtide/engine/look"
	"yardtide/engine/probe"
	"yardtide/engine/role"
	"yardtide/engine/source"
	"yardtide/wire"
)

// This file tells what is in folders of the device, before they are taken up or as
// they are.

// Usual lists the folders in which people mostly keep their things, as far as the
// device has them.
func (s *Show) Usual() []wire.UsualFolder {
	list := []wire.UsualFolder{}
	for _, u := range role.Of(s.Root) {
		list = append(list, wire.UsualFolder{Folder: u.Source, Path: u.Path, Source: s.sourceAround(u.Path)})
	}
	return list
}

// sourceAround is the source of the plan that a folder is, or lies in; "" for none.
func (s *Show) sourceAround(path string) string {
	for _, of := range s.Plan().Devices[s.Device].Sources {
		if plan.Inside(filepath.ToSlash(path), filepath.ToSlash(s.Folder(of.Folder))) {
			return of.Folder
		}
	}
	return ""
}

// mostFolders is how many folders of a folder are told, and reasons to leave out.
const mostFolders = 60

// Look looks at a folder, and tells what it found so far now and then. set is what
// would be taken up of it; with nil what the plan says. The error is a sentence.
func (s *Show) Look(ctx context.Context, folder string, set *plan.Source, tell func(wire.Look)) error {
	p := s.Plan()
	path := s.Folder(folder)
	l := wire.Look{Device: s.Device, Folder: folder, Path: path, Source: s.sourceAround(path)}
	below := "" // the folder below the source whose scope counts
	one := plan.Source{}
	switch {
	case set != nil:
		one = *set
	case l.Source != "":
		for _, of := range p.Devices[s.Device].Sources {
			if of.Folder == l.Source {
				one = of
			}
		}
		if rel, err := filepath.Rel(s.Folder(l.Source), path); err == nil && rel != "." {
			below = filepath.ToSlash(rel) + "/"
		}
	}
	if l.Source != "" {
		if err := s.safeBelow(ctx, &l, path); err != nil {
			return err
		}
	}
	chooser := p.Chooser(one, p.Zone(s.Device))
	place := s.Places(p)
	_, err := look.At(ctx, path, look.Options{
		Zone: p.Zone(s.Device),
		Choose: func(f plan.File) string {
			f.Path = below + f.Path
			if len(one.Rules) == 0 {
				return chooser.LeavesOut(f)
			}
			_, why := chooser.Choose(f)
			return why
		},
		Rest: s.rest,
		OriginalsOnly: func(library string) bool {
			return set == nil && l.Source == "" || slices.ContainsFunc(one.OriginalsOnly,
				func(in string) bool { return plan.Inside(below+library, in) })
		},
		Place: func(dir string, info os.FileInfo) bool {
			_, err := os.Lstat(filepath.Join(dir, destination.MarkerName))
			return err == nil || place(info)
		},
	}, func(sum look.Totals) {
		one := l
		fill(&one, sum)
		tell(one)
	})
	return err
}

// lookRest is how long a look waits before each file while something is sent: a file
// takes it a tenth of that.
const lookRest = 500 * time.Microsecond

// rest lets what is sent go before what is only looked at.
func (s *Show) rest() time.Duration {
	if s.Sending() {
		return lookRest
	}
	return 0
}

// safeBelow tells what of a folder is proven at which place.
func (s *Show) safeBelow(ctx context.Context, l *wire.Look, path string) error {
	rel, err := filepath.Rel(s.Folder(l.Source), path)
	if err != nil {
		return nil // it is not known what lies where
	}
	safe, err := s.Records.Catalogue.SafeBelow(ctx, l.Source, filepath.ToSlash(rel))
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(safe)) {
		l.SafeAt = append(l.SafeAt, wire.LookPlace{Destination: name, Amount: wire.Amount(safe[name])})
	}
	return nil
}

// pictured are pictures and clips as they are told.
func pictured(some []look.Picture) []wire.LookPicture {
	list := []wire.LookPicture{}
	for _, p := range some {
		list = append(list, wire.LookPicture{Path: p.Path, Kind: p.Kind, TakenAt: p.TakenAt, TakenFrom: string(p.TakenFrom)})
	}
	return list
}

// fill writes a sum as it is told.
func fill(l *wire.Look, s look.Totals) {
	l.All, l.Unreadable, l.ByContent = wire.Amount(s.All), s.Unreadable, s.Known
	l.Kinds, l.Years, l.Folders, l.LeftOut, l.Unread = []wire.LookKind{}, []wire.LookYear{}, []wire.LookFolder{},
		[]wire.LookLeft{}, []wire.Problem{}
	l.Pictures, l.Clips = pictured(s.Pictures), pictured(s.Clips)
	for _, k := range media.Kinds {
		if a, some := s.Kinds[k]; some {
			l.Kinds = append(l.Kinds, wire.LookKind{Kind: k, Amount: wire.Amount(a)})
			l.Takes = l.Takes.Plus(a.N, a.Bytes)
		}
	}
	for _, y := range slices.Sorted(maps.Keys(s.Years)) {
		l.Years = append(l.Years, wire.LookYear{Year: y, Amount: wire.Amount(s.Years[y])})
	}
	for name, a := range s.Folders {
		l.Folders = append(l.Folders, wire.LookFolder{Name: name, Amount: wire.Amount(a)})
	}
	slices.SortFunc(l.Folders, func(a, b wire.LookFolder) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name))
	})
	l.Folders = l.Folders[:min(len(l.Folders), mostFolders)]
	for why, a := range s.LeftOut {
		l.LeftOut = append(l.LeftOut, wire.LookLeft{Why: why, Amount: wire.Amount(a)})
	}
	slices.SortFunc(l.LeftOut, func(a, b wire.LookLeft) int {
		return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Why, b.Why))
	})
	l.LeftOut = l.LeftOut[:min(len(l.LeftOut), mostFolders)]
	fillLibraries(l, s)
	for _, p := range s.Unread {
		l.Unread = append(l.Unread, wire.Problem(p))
	}
	if l.SafeAt == nil {
		l.SafeAt = []wire.LookPlace{}
	}
}

// fillLibraries writes the closed libraries of a sum as they are told.
func fillLibraries(l *wire.Look, s look.Totals) {
	l.Libraries = []wire.LookLibrary{}
	for _, b := range s.Libraries {
		name := b.Folder
		if name == "." {
			name = filepath.Base(l.Path)
		}
		one := wire.LookLibrary{Folder: b.Folder, Originals: wire.Amount(b.Originals), Smaller: wire.Amount(b.Smaller),
			Alone: wire.Amount(b.Alone), Rest: wire.Amount(b.Rest), Only: b.Only, Doubts: []wire.Problem{}}
		one.Says = words.Library(words.LibraryFigures{Name: name, Originals: b.Originals.N, Smaller: b.Smaller.N,
			Alone: b.Alone.N, Rest: b.Rest.N, Bytes: b.Originals.Bytes, Only: b.Only})
		for _, d := range b.Doubts[:min(len(b.Doubts), mostFolders)] {
			folder := path.Join(b.Folder, d.Folder)
			says, todo := words.LibraryDoubt(int64(d.N), folder)
			one.Doubts = append(one.Doubts, wire.Problem{Path: folder, Says: says, Todo: todo})
		}
		l.Libraries = append(l.Libraries, one)
	}
	slices.SortFunc(l.Libraries, func(a, b wire.LookLibrary) int { return cmp.Compare(a.Folder, b.Folder) })
	l.Libraries = l.Libraries[:min(len(l.Libraries), mostFolders)]
}

// PictureAt is a small picture of a file in a folder that was looked at, as JPEG. The
// errors are those of Face.
func (s *Show) PictureAt(ctx context.Context, path string) ([]byte, error) {
	info, err := os.Lstat(path)
	if err != nil || !info.Mode().IsRegular() {
		return nil, face.ErrAway
	}
	if s.Faces == nil {
		return nil, face.ErrNone
	}
	stamp := sha256.Sum256(fmt.Appendf(nil, "%s %d %d", path, info.Size(), info.ModTime().UnixNano()))
	return s.Faces.Of(ctx, "look-"+hex.EncodeToString(stamp[:12]), media.Photo, func(ctx context.Context) ([]byte, error) {
		ctx, cancel := context.WithTimeoutCause(ctx, faceTime, face.ErrAway)
		defer cancel()
		f, err := source.Open(ctx, path)
		if err != nil {
			return nil, face.ErrAway
		}
		defer f.Close()
		file := io.NewSectionReader(f, 0, info.Size())
		facts, err := probe.Read(file, info.Size(), time.Time{}, time.UTC)
		if err != nil {
			return nil, face.ErrAway
		}
		return face.Picture(ctx, file, facts.ContentType, info.Size())
	})
}

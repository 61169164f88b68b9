// Package card reads what is on a volume that comes and goes (a memory card, a camera), and copies what is new on it
// into a folder. It writes nothing on the volume, moves nothing and removes nothing.
//
// A copy counts only when the file in the folder was read again and has the bytes that were read of the card.
package card

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/media"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/source"
)

// File is a picture, a clip or a sidecar on a card.
type File struct {
	Path     string // below the volume, with slashes
	Size     int64
	Modified time.Time
	Kind     media.Kind // by its name
	Look     string     // of its edges; "" where nothing was compared
	Known    bool       // its content lies in the device's folders already
}

// Survey is what is on a card.
type Survey struct {
	Files    []File // by their paths
	Pictures int64  // photos, raw files and graphics
	Clips    int64
	Bytes    int64
	Known    int64 // pictures and clips that lie in the device's folders already
	Safe     int64 // those that are proven at a place, whether they lie there still or not
	Unread   int64 // folders and files that cannot be read
}

// Known tells what a device has of some contents, of those of which it has something.
type Known func(ctx context.Context, of []records.Content) (map[records.Content]records.Held, error)

// sidecars are the endings of files that belong to a picture or clip of their name.
var sidecars = []string{".xmp", ".aae", ".thm", ".srt"}

// List lists what is on a card, and reads none of it.
func List(ctx context.Context, root string) (Survey, error) { return Look(ctx, root, nil) }

// Same tells whether the same files are on a card, by their names, sizes and times.
func (s Survey) Same(o Survey) bool {
	return slices.EqualFunc(s.Files, o.Files, func(a, b File) bool {
		return a.Path == b.Path && a.Size == b.Size && a.Modified.Equal(b.Modified)
	})
}

// readers is how many files are read at the same time: each mostly waits for the card.
const readers = 4

// Look surveys a card. What cannot be read is counted; without known nothing is compared. The error is that of known, or
// of the context.
func Look(ctx context.Context, root string, known Known) (s Survey, err error) {
	files, unread, err := list(ctx, root)
	if err != nil {
		return s, err
	}
	s.Unread = unread
	contents, bad := make([]records.Content, len(files)), make([]bool, len(files))
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(readers)
	for i := range files {
		if known == nil {
			break
		}
		g.Go(func() error {
			f := files[i]
			look, err := lookOf(within, filepath.Join(root, filepath.FromSlash(f.Path)), f.Size)
			contents[i], bad[i] = records.Content{Size: f.Size, Look: look}, err != nil
			return context.Cause(within)
		})
	}
	if err := g.Wait(); err != nil {
		return s, err
	}
	held := map[records.Content]records.Held{}
	if known != nil {
		if held, err = known(ctx, contents); err != nil {
			return s, err
		}
	}
	for i, f := range files {
		if bad[i] {
			s.Unread++
			continue
		}
		is := held[contents[i]]
		f.Look, f.Known = contents[i].Look, is.Here
		s.add(f, is.Safe)
	}
	return s, nil
}

// list lists the pictures, clips and sidecars of a card by their paths, and counts what cannot be read.
func list(ctx context.Context, root string) (files []File, unread int64, err error) {
	err = filepath.WalkDir(root, func(at string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err != nil:
			unread++
			return nil
		case at != root && strings.HasPrefix(e.Name(), "."):
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		case !e.Type().IsRegular():
			return nil
		}
		kind, is := media.OfName(e.Name())
		if !is && !slices.Contains(sidecars, strings.ToLower(path.Ext(e.Name()))) {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			unread++
			return nil
		}
		below, err := filepath.Rel(root, at)
		if err != nil {
			return fmt.Errorf("finding %s below %s: %w", at, root, err)
		}
		files = append(files, File{Path: filepath.ToSlash(below), Size: info.Size(), Modified: info.ModTime(), Kind: kind})
		return nil
	})
	return files, unread, err
}

func (s *Survey) add(f File, safe bool) {
	s.Files, s.Bytes = append(s.Files, f), s.Bytes+f.Size
	switch {
	case f.Kind == "":
		return
	case f.Kind == media.Video:
		s.Clips++
	default:
		s.Pictures++
	}
	if f.Known {
		s.Known++
	}
	if safe {
		s.Safe++
	}
}

func lookOf(ctx context.Context, at string, size int64) (string, error) {
	f, err := source.Open(ctx, at)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return probe.Look(f, size)
}

// ErrDiffers tells that what was written is not what was read: the card, the disk or the cable fails.
var ErrDiffers = errors.New("what was written differs from what is on the card")

// owner begins the temporary names of what is copied.
const owner = "card"

// Copy copies a file of a card into a folder, below a folder of its day, unless its content is there: under its own
// name, or, where something else has that, with a number behind it. It returns where the content lies, below the
// folder. Nothing that is there is written over, and nothing stands under a final name before it is whole and was read
// again.
func Copy(ctx context.Context, root string, f File, into folder.Driver, zone *time.Location) (at string, err error) {
	in, err := source.Open(ctx, filepath.Join(root, filepath.FromSlash(f.Path)))
	if err != nil {
		return "", fmt.Errorf("opening %s: %w", f.Path, err)
	}
	defer in.Close()
	day := f.Modified
	if f.Kind != "" {
		facts, err := probe.Read(io.NewSectionReader(in, 0, f.Size), f.Size, f.Modified, zone)
		if err != nil {
			return "", fmt.Errorf("reading %s: %w", f.Path, err)
		}
		day = facts.TakenAt
	}
	temp := destination.NewTemp(owner)
	defer func() {
		if err != nil && ctx.Err() == nil {
			err = errors.Join(err, into.Remove(ctx, temp))
		}
	}()
	h := sha256.New()
	ctx = destination.WithRights(ctx, 0o644)
	if err := into.Put(ctx, temp, io.TeeReader(io.NewSectionReader(in, 0, f.Size), h), 0, f.Size); err != nil {
		return "", fmt.Errorf("copying %s: %w", f.Path, err)
	}
	if err := into.SetTime(ctx, temp, f.Modified); err != nil {
		return "", fmt.Errorf("copying %s: %w", f.Path, err)
	}
	sum := [32]byte(h.Sum(nil))
	again, err := hashOf(ctx, into, temp)
	if err == nil && again != sum {
		err = ErrDiffers
	}
	if err != nil {
		return "", fmt.Errorf("reading what was written of %s again: %w", f.Path, err)
	}
	stamp, err := in.Stamp()
	if err != nil || stamp.Size != f.Size || !time.Unix(0, stamp.MTime).Equal(f.Modified) {
		return "", fmt.Errorf("%s changed while it was read", f.Path)
	}
	return publish(ctx, into, temp, path.Join(day.Format(time.DateOnly), path.Base(f.Path)), sum)
}

// mostNames is how many names are tried for one file.
const mostNames = 1000

// publish gives a file its name. A name whose file has the same content is taken for it.
func publish(ctx context.Context, into folder.Driver, temp, name string, sum [32]byte) (string, error) {
	ext := path.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	for n := 1; n <= mostNames; n++ {
		if n > 1 {
			name = fmt.Sprintf("%s-%d%s", stem, n, ext)
		}
		err := into.Publish(ctx, temp, name)
		switch {
		case err == nil:
			return name, nil
		case !errors.Is(err, destination.ErrExists):
			return "", fmt.Errorf("naming %s: %w", name, err)
		}
		switch there, err := hashOf(ctx, into, name); {
		case ctx.Err() != nil:
			return "", context.Cause(ctx)
		case err == nil && there == sum:
			return name, into.Remove(ctx, temp)
		}
	}
	return "", fmt.Errorf("%d files are called like %s", mostNames, name)
}

func hashOf(ctx context.Context, in folder.Driver, name string) (sum [32]byte, err error) {
	f, err := in.Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.CopyBuffer(h, f, make([]byte, source.Buffer)); err != nil {
		return sum, fmt.Errorf("reading %s: %w", name, err)
	}
	return [32]byte(h.Sum(nil)), nil
}

// Clear removes what a copy left that was cut off: files of ours on their way. The folder is made where it is missing.
func Clear(into string) error {
	if err := os.MkdirAll(into, 0o755); err != nil {
		return fmt.Errorf("making the folder for what is on cards: %w", err)
	}
	in := filepath.Join(into, destination.TempDir)
	list, err := os.ReadDir(in)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking for what was left in %s: %w", into, err)
	}
	for _, e := range list {
		if !strings.HasPrefix(e.Name(), owner+"-") {
			continue
		}
		if err := os.Remove(filepath.Join(in, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing what was left: %w", err)
		}
	}
	_ = os.Remove(in) // not while it holds something of somebody else's
	return nil
}

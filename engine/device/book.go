package device

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"mime"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/source"
)

// book keeps what the scan of one source finds.
type book struct {
	d      *Device
	source plan.Source
	plan   *plan.Plan
	by     plan.Chooser
	zone   *time.Location
}

var _ scan.Book = book{}

func (b book) Dir(ctx context.Context, dir string) (map[string]scan.Stamp, error) {
	list, err := b.d.Records.Catalogue.Dir(ctx, b.source.Folder, dir)
	return byFolder(list)[dir], err
}

func (b book) From(ctx context.Context, dir string) (map[string]map[string]scan.Stamp, error) {
	list, err := b.d.Records.Catalogue.Stamps(ctx, b.source.Folder, dir)
	if err != nil {
		return nil, err
	}
	known := byFolder(list)
	if len(list) < records.MostStamps {
		return known, nil
	}
	last := list[len(list)-1].Dir
	delete(known, last) // there may be more of it
	if last == dir {
		known[dir], err = b.Dir(ctx, dir)
	}
	return known, err
}

// byFolder are stamps by their folders and names.
func byFolder(list []records.Stamp) map[string]map[string]scan.Stamp {
	known := map[string]map[string]scan.Stamp{}
	for _, s := range list {
		if known[s.Dir] == nil {
			known[s.Dir] = map[string]scan.Stamp{}
		}
		known[s.Dir][s.Name] = scan.Stamp{Size: s.Size, MTime: s.MTime, Inode: s.Inode, CTime: s.CTime}
	}
	return known
}

func (b book) Dirs(ctx context.Context) ([]string, error) {
	return b.d.Records.Catalogue.Dirs(ctx, b.source.Folder)
}

func (b book) Gone(ctx context.Context, dir string, names []string) error {
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return b.d.rooms.isBack(b.source.Folder, path.Join(dir, name)) })
	if len(names) == 0 {
		return nil
	}
	err := b.d.Records.Catalogue.Gone(ctx, b.source.Folder, dir, names, b.plan, time.Now())
	b.d.originals.found(b.source, time.Now())
	b.d.changed()
	return err
}

func (b book) Scanned(problems []scan.Problem) { b.d.sources.walked(b.source.Folder, problems) }

// probed is what was read of a file; ok is false for one that is gone.
type probed struct {
	item records.Item
	ok   bool
}

// probers is how many files are read at the same time: each mostly waits for its disk.
const probers = 4

// probeAll reads files, a few at the same time.
func (b book) probeAll(ctx context.Context, files []scan.File) ([]probed, error) {
	read := make([]probed, len(files))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(probers)
	for i, f := range files {
		g.Go(func() (err error) {
			read[i].item, read[i].ok, err = b.probe(ctx, f)
			return err
		})
	}
	return read, g.Wait()
}

// Found probes files and takes them in.
func (b book) Found(ctx context.Context, files []scan.File) error {
	files, err := b.withoutSmaller(ctx, files)
	if err != nil || len(files) == 0 {
		return err
	}
	read, err := b.probeAll(ctx, files)
	if ctx.Err() != nil {
		return nil
	}
	if err != nil {
		return err
	}
	var items []records.Item
	for i, f := range files {
		var old records.Item
		had := f.Known
		if had {
			if old, had, err = b.d.Records.Catalogue.Here(ctx, b.source.Folder, f.Dir, f.Name); err != nil {
				return err
			}
		}
		it := read[i].item
		if !read[i].ok {
			continue // gone in between: the next look tells
		}
		same := had && old.Size == it.Size && old.Problem == it.Problem
		// else it was found before that was kept
		if same && (old.CTime != 0 || old.MTime != f.MTime || old.Inode != f.Inode) {
			if same, err = b.same(ctx, old, it, f); err != nil {
				return err
			}
		}
		if same {
			old.MTime, old.Inode, old.CTime = f.MTime, f.Inode, f.CTime
			if err := b.d.Records.Catalogue.Touch(ctx, old); err != nil {
				return err
			}
			continue
		}
		it.FoundMS = time.Now().UnixMilli()
		it.Rule, _ = b.by.Choose(it.Found())
		items = append(items, it)
	}
	if items, err = b.returned(ctx, items); err != nil {
		return err
	}
	if len(items) == 0 {
		return nil
	}
	if err := b.known(ctx, items); err != nil {
		return err
	}
	if err := b.d.Records.Catalogue.Admit(ctx, items, b.plan, time.Now()); err != nil {
		return err
	}
	b.d.originals.found(b.source, time.Now())
	b.d.marks.found()
	b.d.changed()
	return nil
}

// withoutSmaller takes out the smaller ones that stay where something went to make room: they are nothing new.
func (b book) withoutSmaller(ctx context.Context, files []scan.File) ([]scan.File, error) {
	paths := make([]string, len(files))
	for i, f := range files {
		paths[i] = f.Path()
	}
	sizes, err := b.d.Records.Rooms.Smaller(ctx, b.source.Folder, paths)
	if err != nil || len(sizes) == 0 {
		return files, err
	}
	return slices.DeleteFunc(slices.Clone(files), func(f scan.File) bool {
		size, stays := sizes[f.Path()]
		return stays && size == f.Size
	}), nil
}

// returned takes out what was here before, went, and is back with the content that it had: nothing of it is to be sent.
func (b book) returned(ctx context.Context, items []records.Item) (left []records.Item, err error) {
	if len(items) == 0 {
		return nil, nil
	}
	before, err := b.d.Records.Catalogue.Returned(ctx, items)
	if err != nil || len(before) == 0 {
		return items, err
	}
	var back []records.Item
	for i, it := range items {
		old, was := before[i]
		if was && old.Rule == it.Rule && old.Kind == it.Kind {
			sum, err := sumOf(ctx, filepath.Join(b.d.Folder(it.Source), filepath.FromSlash(it.Path())))
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			if err == nil && sum == old.SHA256 {
				old.MTime, old.Inode, old.CTime = it.MTime, it.Inode, it.CTime
				back = append(back, old)
				continue
			}
		}
		left = append(left, it)
	}
	if len(back) > 0 {
		if err := b.d.Records.Catalogue.Return(ctx, back, b.plan, time.Now()); err != nil {
			return nil, err
		}
		b.d.changed()
	}
	return left, nil
}

// known tells items whose files were found under another name before, here or in another source, and were moved or
// renamed since, what their content is: the number of the file on its disk, its time, its size and its edges are those
// of that one, it was made before that one was found, and that one is no longer under its name. The content of any
// other is read to be known.
func (b book) known(ctx context.Context, items []records.Item) error {
	before, err := b.d.Records.Queue.Renamed(ctx, items)
	if err != nil || len(before) == 0 {
		return err
	}
	for i, it := range items {
		for _, old := range before {
			if it.Problem == "" && old.Size == it.Size && old.Look == it.Look && old.Inode == it.Inode && old.MTime == it.MTime &&
				b.moved(old, it) {
				items[i].SHA256 = old.SHA256
				break
			}
		}
	}
	return nil
}

// moved tells whether the file of an item is the one of an earlier item with its number, under another name.
func (b book) moved(old, it records.Item) bool {
	if old.Source == it.Source && old.Path() == it.Path() {
		return false
	}
	born, told := scan.Born(filepath.Join(b.d.Folder(it.Source), filepath.FromSlash(it.Path())))
	if !told || born.UnixMilli() > old.FoundMS {
		return false // the number was given to another file
	}
	now, err := os.Lstat(filepath.Join(b.d.Folder(old.Source), filepath.FromSlash(old.Path())))
	return err != nil || scan.StampOf(now).Inode != it.Inode // else it has two names
}

// same tells whether a file whose number or times changed still has the content that was proven. Without a proof there is
// nothing to compare with: it is new. Where the file system does not tell when a file was made, as on cards, numbers are
// given anew at each mount: there the time, the size and the edges tell.
func (b book) same(ctx context.Context, old, it records.Item, f scan.File) (bool, error) {
	if old.MTime == f.MTime && old.Look == it.Look && old.Inode != f.Inode {
		if scan.Unborn(b.path(f)) {
			return true, nil
		}
	}
	if old.SHA256 == "" {
		return false, nil
	}
	sum, err := sumOf(ctx, b.path(f))
	if err != nil {
		return false, context.Cause(ctx)
	}
	return sum == old.SHA256, nil
}

// sumOf is the SHA-256 of a file's content.
func sumOf(ctx context.Context, path string) (string, error) {
	file, err := source.Open(ctx, path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	h := sha256.New()
	if _, err := io.CopyBuffer(h, file, make([]byte, source.Buffer)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (b book) path(f scan.File) string {
	return filepath.Join(b.d.Folder(b.source.Folder), filepath.FromSlash(f.Path()))
}

// probe makes an item of a file. A file that cannot be read, or is empty, is
// an item with a problem, of the kind that its name says: it must not get lost without
// a word.
func (b book) probe(ctx context.Context, f scan.File) (it records.Item, ok bool, err error) {
	it = records.Item{Source: b.source.Folder, Dir: f.Dir, Name: f.Name, Size: f.Size, MTime: f.MTime, Inode: f.Inode,
		CTime: f.CTime}
	modified := f.Modified
	facts := media.Facts{TakenAt: modified.In(b.zone), TakenFrom: media.FromFile}
	problem := ""
	if f.Size == 0 {
		problem = "The file is empty: it has 0 bytes."
	} else {
		read, look, err := b.read(ctx, f, modified)
		it.Look = look
		var other scan.NotRegular
		switch {
		case context.Cause(ctx) != nil:
			return it, false, context.Cause(ctx)
		case errors.Is(err, fs.ErrNotExist), errors.As(err, &other):
			return it, false, nil
		case err != nil && (scan.Left(err) || b.d.sources.away(b.source.Folder)): // what was read on the way of a card that is pulled
			return it, false, nil
		case err != nil:
			problem = "The file cannot be read: " + scan.Reason(err) + "."
		default:
			facts = read
		}
	}
	if problem != "" {
		byName := mime.TypeByExtension(path.Ext(f.Name))
		facts.ContentType, facts.Kind, it.Problem = byName, cmp.Or(media.KindOf(byName, false), media.Other), problem
	}
	_, it.TakenZone = facts.TakenAt.Zone()
	it.ContentType, it.Kind, it.TakenMS, it.TakenFrom, it.Seconds, it.Camera, it.Pair = facts.ContentType, facts.Kind,
		facts.TakenAt.UnixMilli(), facts.TakenFrom, facts.Seconds, facts.Camera, facts.Pair
	return it, true, nil
}

// read probes a file and takes its look.
func (b book) read(ctx context.Context, f scan.File, modified time.Time) (facts media.Facts, look string, err error) {
	file, err := source.Open(ctx, b.path(f))
	if err != nil {
		return media.Facts{}, "", err
	}
	defer file.Close()
	facts, err = probe.Read(io.NewSectionReader(file, 0, f.Size), f.Size, modified, b.zone)
	if err != nil {
		return media.Facts{}, "", err
	}
	look, err = probe.Look(file, f.Size)
	return facts, look, err
}

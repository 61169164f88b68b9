package inbox

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
)

// Standing is how a file that was handed over stands, as its owner is told.
type Standing struct {
	Safe bool // every copy that the plan asks for is proven
	// AsShot are the places that have it as shot, Smaller those that have only a smaller form.
	AsShot, Smaller []string
	// May is that it may be removed where it came from: it is safe, and one place at least has it as shot. Settled is
	// that nothing is still to be made of it either.
	May, Settled bool
	Says         string // why it is not safe
}

// StandingOf judges an item.
func StandingOf(it wire.Item) Standing {
	s := Standing{Safe: it.State == string(queue.Safe), Settled: true}
	for _, c := range it.Copies {
		if c.State != string(queue.Safe) && c.State != string(queue.Skipped) {
			s.Settled = false
		}
		if c.Shelf != plan.Main || c.Part != "" || c.State != string(queue.Safe) {
			continue
		}
		if c.Reduced {
			s.Smaller = append(s.Smaller, c.Destination)
		} else {
			s.AsShot = append(s.AsShot, c.Destination)
		}
	}
	s.May = s.Safe && len(s.AsShot) > 0
	s.Settled = s.Settled && s.May
	if !s.Safe {
		s.Says = it.Says
	}
	return s
}

// freeStep is how many files are read at a time, mostJudged how many are judged in one call: the next goes on there.
const (
	freeStep   = 200
	mostJudged = 1000
)

// Free moves what is safe into the holding place, and removes what lay there long enough. One call looks at some of the
// inbox, and the next goes on there. It returns at the first error that is not one file's own. One goroutine calls it.
func (b *Inbox) Free(ctx context.Context, now time.Time) error {
	err := b.Uploads.expire(now)
	for judged := 0; judged < mostJudged; judged += freeStep {
		list, lerr := b.Records.Handed.ToFree(ctx, b.freed, freeStep)
		if lerr != nil {
			return errors.Join(err, lerr)
		}
		stand, jerr := b.Judge(ctx, pathsOf(list))
		if jerr != nil {
			return errors.Join(err, jerr)
		}
		for i, h := range list {
			b.freed = h.ID
			if stand[i].Settled {
				err = errors.Join(err, b.hold(ctx, h, now))
			}
			if ctx.Err() != nil {
				return err
			}
		}
		if len(list) < freeStep {
			b.freed = 0
			break
		}
	}
	return errors.Join(err, b.removeHeld(ctx, now))
}

// pathsOf are the ways and paths of what was handed over, as Judge asks for them.
func pathsOf(list []records.HandedOver) [][2]string {
	paths := make([][2]string, len(list))
	for i, h := range list {
		paths[i] = [2]string{h.Way, h.Path}
	}
	return paths
}

// judge tells how one file stands now.
func (b *Inbox) judge(ctx context.Context, h records.HandedOver) (Standing, error) {
	all, err := b.Judge(ctx, pathsOf([]records.HandedOver{h}))
	if err != nil {
		return Standing{}, err
	}
	return all[0], nil
}

// hold moves a file into the holding place, if it is the one that was handed over.
func (b *Inbox) hold(ctx context.Context, h records.HandedOver, now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	from := in(Way(h.Way), h.Path)
	info, err := b.root.Lstat(from)
	if err != nil || !info.Mode().IsRegular() || info.Size() != h.Size || info.ModTime().UnixNano() != h.MTime {
		return nil //nolint:nilerr // another file is there, or none: it is not removed
	}
	as := naming.Safe(newID()[:8] + "-" + path.Base(h.Path)) // a name that was used anew may be there still
	if err := b.Records.Handed.Hold(ctx, h.ID, as, now); err != nil {
		return err
	}
	if err := b.root.Rename(from, filepath.Join(heldFolder, as)); err != nil {
		return errors.Join(fmt.Errorf("moving %s of %s into the holding place: %w", h.Path, b.Phone, err),
			b.Records.Handed.Unhold(ctx, h.ID))
	}
	b.removeEmpty(path.Dir(path.Join(h.Way, h.Path)))
	b.Tell()
	return nil
}

// removeEmpty removes folders that hold nothing more, up to the way's own.
func (b *Inbox) removeEmpty(dir string) {
	for strings.Contains(dir, "/") {
		if b.root.Remove(filepath.FromSlash(dir)) != nil { // it holds something
			return
		}
		dir = path.Dir(dir)
	}
}

// removeHeld removes what lay in the holding place long enough and is safe still; what no longer is goes back.
func (b *Inbox) removeHeld(ctx context.Context, now time.Time) error {
	list, err := b.Records.Handed.ToRemove(ctx, now.Add(-b.HeldFor()), freeStep)
	if err != nil {
		return err
	}
	for _, h := range list {
		s, jerr := b.judge(ctx, h) // at the moment of removal, each by itself
		if jerr != nil {
			return errors.Join(err, jerr)
		}
		if s.May {
			jerr = b.removeOne(ctx, h, now)
		} else {
			_, jerr = b.takeBack(ctx, h)
		}
		err = errors.Join(err, jerr)
	}
	return err
}

func (b *Inbox) removeOne(ctx context.Context, h records.HandedOver, now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	err := b.root.Remove(filepath.Join(heldFolder, h.Held))
	if gone(err) != nil {
		return fmt.Errorf("removing %s of %s from the holding place: %w", h.Path, b.Phone, err)
	}
	if err == nil {
		b.Room.freed(b.Phone, h.Size)
	}
	b.Tell()
	return b.Records.Handed.Removed(ctx, h.ID, now)
}

// takeBack puts a file from the holding place into the inbox again. It stays where it is, and took is false, while
// something else has its name, or that of a folder that it lay in.
func (b *Inbox) takeBack(ctx context.Context, h records.HandedOver) (took bool, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	to := in(Way(h.Way), h.Path)
	if _, err := b.root.Lstat(to); err == nil {
		return false, nil
	}
	err = b.root.MkdirAll(filepath.Dir(to), 0o700)
	if errors.Is(err, fs.ErrExist) || notAFolder(err) {
		return false, nil
	}
	if err == nil {
		err = b.root.Rename(filepath.Join(heldFolder, h.Held), to)
	}
	if err != nil {
		return false, fmt.Errorf("taking %s of %s back: %w", h.Path, b.Phone, err)
	}
	return true, errors.Join(b.syncFolders(to), b.Records.Handed.Unhold(ctx, h.ID))
}

// everHeld is after everything that came into a holding place, whatever the clock said then.
var everHeld = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// TakeBack puts everything that lies in the holding place into the inbox again. It returns how much.
func (b *Inbox) TakeBack(ctx context.Context) (n int, err error) {
	list, err := b.Records.Handed.ToRemove(ctx, everHeld, 100_000)
	for _, h := range list {
		took, berr := b.takeBack(ctx, h)
		if berr != nil {
			return n, errors.Join(err, berr)
		}
		if took {
			n++
		}
	}
	return n, err
}

// mend sees to what a kill left between two steps, and counts what lies here.
func (b *Inbox) mend(ctx context.Context) error {
	if err := b.Uploads.open(time.Now()); err != nil {
		return err
	}
	held, err := b.Records.Handed.ToRemove(ctx, everHeld, 1_000_000)
	if err != nil {
		return err
	}
	named := map[string]bool{}
	for _, h := range held {
		named[h.Held] = true
		_, there := b.root.Lstat(filepath.Join(heldFolder, h.Held))
		if _, here := b.root.Lstat(in(Way(h.Way), h.Path)); there != nil && here == nil { // killed before it was moved
			if err := b.Records.Handed.Unhold(ctx, h.ID); err != nil {
				return err
			}
		}
	}
	if err := b.countHeld(named); err != nil {
		return err
	}
	for _, way := range Ways {
		if err := b.noteFiles(ctx, way); err != nil {
			return err
		}
	}
	return nil
}

// noteFiles notes the files of a way that are on disk and not on record: a kill came between the two.
func (b *Inbox) noteFiles(ctx context.Context, way Way) error {
	return fs.WalkDir(b.root.FS(), string(way), func(file string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return fmt.Errorf("looking into the inbox of %s: %w", b.Phone, err)
		}
		name := strings.TrimPrefix(file, string(way)+"/")
		h, err := b.noted(ctx, way, name)
		if err != nil {
			return err
		}
		b.Room.holds(b.Phone, info.Size())
		if h.ID != 0 && h.Here() {
			return nil
		}
		f, err := b.root.Open(filepath.FromSlash(file))
		if err != nil {
			return fmt.Errorf("reading the inbox of %s: %w", b.Phone, err)
		}
		sum, err := sumOf(ctx, f)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		return b.Records.Handed.Add(ctx, records.HandedOver{Way: string(way), Path: name, Size: info.Size(),
			MTime: info.ModTime().UnixNano(), SHA256: sum, AtMS: time.Now().UnixMilli()})
	})
}

// countHeld counts what lies in the holding place. What no row names, as its name was used anew, goes back into the
// inbox, and is judged there like anything else.
func (b *Inbox) countHeld(named map[string]bool) error {
	entries, err := os.ReadDir(filepath.Join(b.Dir, heldFolder))
	if err != nil {
		return fmt.Errorf("looking into the holding place of %s: %w", b.Phone, err)
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			return fmt.Errorf("looking into the holding place of %s: %w", b.Phone, err)
		}
		if named[e.Name()] {
			b.Room.holds(b.Phone, info.Size())
			continue
		}
		if err := b.root.Rename(filepath.Join(heldFolder, e.Name()), in(ByWebDAV, e.Name())); err != nil {
			return fmt.Errorf("taking %s of %s back: %w", e.Name(), b.Phone, err)
		}
	}
	return nil
}

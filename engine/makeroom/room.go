// Package makeroom makes room on a device: what is proven elsewhere as asked is proven again at that moment, moved into a
// holding place, and after some days proven once more and removed. What may go is judged by core/room.
package makeroom

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/room"
	"yardtide/engine/bringback"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/work"
)

// Options make a Maker. All are needed.
type Options struct {
	Device  string
	Records *records.Records
	// Folder is where a source lies, Away tells that it is not there: nothing of it is touched.
	Folder func(source string) string
	Away   func(source string) bool
	// Stays tells of sources from which nothing is removed.
	Stays func(source string) bool
	// Asked lists the destinations that the plan asks for, of a file.
	Asked func(it records.Item) []string
	// Place is the identity of the place that a destination's name stands for, "" where what was proven there does not
	// count now.
	Place func(destination string) string
	// Prove takes the proof of a copy at this moment and tells its way. The error is ErrUnproven where the proof does not
	// hold; any other tells that it could not be taken.
	Prove func(ctx context.Context, c records.Copy, metered bool) (way string, err error)
	// Small makes a smaller picture of an item, and tells how names of it end.
	Small func(ctx context.Context, it records.Item) (content []byte, ext string, err error)
	// Gone notes files that went from a folder of a source.
	Gone func(ctx context.Context, source, dir string, names []string) error
	// Back notes items that are where they lay, with the stamps of their files.
	Back    func(ctx context.Context, items []records.Item) error
	Changed func()
	Log     *slog.Logger
}

// ErrUnproven tells that what was proven at a place is not there as it was.
var ErrUnproven = errors.New("it is no longer proven")

// Stays is why an item stays on its device.
type Stays struct{ Says string }

func (e Stays) Error() string { return e.Says }

// Maker makes room on one device. Its methods are safe for concurrent use.
type Maker struct {
	Options

	mu   sync.Mutex // held while files move
	step func()     // is called between steps on disk and on record, for tests that kill it there; nil for nobody
}

func (m *Maker) between() {
	if m.step != nil {
		m.step()
	}
}

// New makes one.
func New(o Options) *Maker { return &Maker{Options: o} }

// item is an item with its files that are on the device, the main one first, and the copies of them.
type item struct {
	files  []records.Item
	copies []records.Copy
}

func (i item) main() records.Item { return i.files[0] }

// read reads an item with its files; gone tells to read those that are gone, too.
func (m *Maker) read(ctx context.Context, main int64, files []int64) (i item, err error) {
	of, err := m.Records.Catalogue.CopiesOf(ctx, []int64{main})
	if err != nil {
		return i, err
	}
	if files == nil {
		if files, err = m.Records.Catalogue.FilesOf(ctx, main); err != nil {
			return i, err
		}
	}
	if i.files, err = m.Records.Catalogue.ItemsOf(ctx, files); err != nil {
		return i, err
	}
	here := map[int64]bool{}
	for _, f := range i.files {
		here[f.ID] = true
	}
	for _, c := range of[main] {
		if here[c.Item] && c.Shelf == plan.Main && c.State != queue.Skipped {
			i.copies = append(i.copies, c)
		}
	}
	return i, nil
}

// judge tells by the records whether an item may go.
func (m *Maker) judge(i item, places int) error {
	if len(i.files) == 0 {
		return Stays{Says: "It is not on the device."}
	}
	var ids []int64
	for _, f := range i.files {
		ids = append(ids, f.ID)
	}
	var copies []room.Standing
	for _, c := range i.copies {
		place := m.Place(c.Destination)
		copies = append(copies, room.Standing{File: c.Item, Destination: c.Destination, Place: place,
			Safe: c.State == queue.Safe && place != "" && c.Remote != "" && c.SHA256 != "", AsShot: !c.Reduced})
	}
	main := i.main()
	r := room.Judge(ids, copies, func(file int64) []string {
		if file != main.ID {
			return nil // a part goes where its main file does, as far as the rule takes it along
		}
		return m.Asked(main)
	}, places)
	if r == "" {
		return nil
	}
	return Stays{says(r, places)}
}

// says is why an item stays, as a sentence.
func says(r room.Reason, places int) string {
	switch r {
	case room.NotSafe:
		return "A copy of it is not safe."
	case room.FewPlaces:
		return fmt.Sprintf("It is proven at fewer than %d places.", places)
	case room.NotAsShot:
		return "No place has all of it as shot."
	}
	return "It stays: " + string(r) + "."
}

// prove takes the proofs of all copies of an item at this moment, by its files.
func (m *Maker) prove(ctx context.Context, i item, metered bool) (map[int64][]records.ClearedBy, error) {
	of := map[int64][]records.ClearedBy{}
	for _, c := range i.copies {
		place := m.Place(c.Destination)
		way, err := m.Prove(ctx, c, metered)
		switch {
		case errors.Is(err, ErrUnproven):
			return nil, Stays{fmt.Sprintf("What lies at %s is no longer what was proven.", c.Destination)}
		case err != nil:
			return nil, fmt.Errorf("proving it at %s: %w", c.Destination, err)
		case place == "" || m.Place(c.Destination) != place:
			return nil, Stays{fmt.Sprintf("%s came to stand for another place.", c.Destination)}
		}
		of[c.Item] = append(of[c.Item], records.ClearedBy{Destination: c.Destination, Place: place, Path: c.Remote, Way: way,
			AtMS: time.Now().UnixMilli(), AsShot: !c.Reduced})
	}
	return of, nil
}

// sameBytes tells whether a hash is that of every copy of a file that goes as shot.
func sameBytes(i item, file int64, sum string) bool {
	for _, c := range i.copies {
		if c.Item == file && !c.Reduced && c.SHA256 != sum {
			return false
		}
	}
	return true
}

// Clear moves an item into the holding place, if it may go. The error is Stays where it stays.
func (m *Maker) Clear(ctx context.Context, id int64, t Terms, now time.Time) (bytes int64, err error) {
	i, err := m.read(ctx, id, nil)
	if err != nil {
		return 0, err
	}
	if err := m.judge(i, t.Places); err != nil {
		return 0, err
	}
	main := i.main()
	if m.Stays(main.Source) {
		return 0, Stays{"Nothing is removed from where it lies."}
	}
	if m.Away(main.Source) {
		return 0, Stays{Says: "Its folder is not there."}
	}
	root, err := os.OpenRoot(m.Folder(main.Source))
	if err != nil {
		return 0, fmt.Errorf("opening the source: %w", err)
	}
	defer root.Close()
	sums := map[int64]string{}
	for _, f := range i.files {
		sum, err := sumOf(ctx, root, f.Path(), &f)
		if err != nil {
			return 0, err
		}
		if sums[f.ID] = sum; !sameBytes(i, f.ID, sum) {
			return 0, Stays{Says: "The file is not what was sent: it is looked at again."}
		}
	}
	var small smaller
	if t.Small {
		if small.content, small.ext, err = m.Small(ctx, main); err != nil {
			return 0, Stays{Says: "No smaller one can be made of it: " + err.Error() + "."}
		}
	}
	proofs, err := m.prove(ctx, i, t.Metered)
	if err != nil {
		return 0, err
	}
	rows, err := m.rows(i, t, sums, proofs, now)
	if err != nil {
		return 0, err
	}
	return main.AllBytes, m.hold(ctx, root, i, rows, small, now)
}

// smaller is the smaller one that stays.
type smaller struct {
	content []byte
	ext     string
}

// rows are the files of an item as the records keep them when they go.
func (m *Maker) rows(i item, t Terms, sums map[int64]string, proofs map[int64][]records.ClearedBy, now time.Time) ([]records.Cleared, error) {
	rows := make([]records.Cleared, len(i.files))
	for n, f := range i.files {
		text, err := textOf(f.Path(), proofs[f.ID])
		if err != nil {
			return nil, err
		}
		rows[n] = records.Cleared{Item: f.ID, Main: i.main().ID, Source: f.Source, Path: f.Path(), Size: f.Size, MTime: f.MTime,
			SHA256: sums[f.ID], HeldMS: now.UnixMilli(), UntilMS: now.Add(t.Held).UnixMilli(), Places: t.Places, Proofs: text}
	}
	return rows, nil
}

// textOf are the proofs of a file as its row has them.
func textOf(path string, proofs []records.ClearedBy) (string, error) {
	text, err := json.Marshal(proofs)
	if err != nil {
		return "", fmt.Errorf("writing the proofs of %s: %w", path, err)
	}
	return string(text), nil
}

// folderOf is the holding place of a day, below a source.
func folderOf(now time.Time) string { return scan.HeldFolder + "/" + now.UTC().Format(time.DateOnly) }

// hold moves the files of an item into the holding place. Until all are there, what went wrong puts them back.
func (m *Maker) hold(ctx context.Context, root *os.Root, i item, rows []records.Cleared, small smaller, now time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	ctx = context.WithoutCancel(ctx) // short, and never left in between
	dir := folderOf(now)
	names, err := free(root, rows, func(r records.Cleared) string { return dir + "/" + r.Path })
	if err != nil {
		return err
	}
	for n := range rows {
		rows[n].HeldAs = names[n]
	}
	if small.content != nil {
		rows[0].Small = bringback.Smaller(rows[0].Path, "x"+small.ext)
		rows[0].SmallSize, rows[0].SmallSum = int64(len(small.content)), sumOfBytes(small.content)
		if _, err := root.Lstat(filepath.FromSlash(rows[0].Small)); !errors.Is(err, fs.ErrNotExist) {
			return Stays{Says: "A smaller one has no name beside it: something is called " + path.Base(rows[0].Small) + " already."}
		}
	}
	if err := m.Records.Rooms.Begin(ctx, rows); err != nil {
		return err
	}
	m.between()
	err = m.move(ctx, root, i, rows, small)
	if err != nil {
		return errors.Join(err, m.stay(ctx, root, rows))
	}
	m.between()
	if err := m.Records.Rooms.Hold(ctx, idsOf(rows)); err != nil {
		return err
	}
	m.between()
	return m.gone(ctx, rows)
}

// gone notes that files went from their folders.
func (m *Maker) gone(ctx context.Context, rows []records.Cleared) error {
	by := map[string][]string{}
	for _, r := range rows {
		dir := path.Dir(r.Path)
		by[dir] = append(by[dir], path.Base(r.Path))
	}
	for dir, names := range by {
		if err := m.Gone(ctx, rows[0].Source, dir, names); err != nil {
			return err
		}
	}
	return nil
}

// move puts a smaller one in place and moves the files of an item.
func (m *Maker) move(ctx context.Context, root *os.Root, i item, rows []records.Cleared, small smaller) error {
	if rows[0].Small != "" {
		if err := putSmall(root, rows[0], small.content); err != nil {
			return err
		}
		m.between()
	}
	for n, r := range rows {
		if err := root.MkdirAll(filepath.FromSlash(path.Dir(r.HeldAs)), 0o700); err != nil {
			return fmt.Errorf("making the holding place: %w", err)
		}
		if err := root.Rename(filepath.FromSlash(r.Path), filepath.FromSlash(r.HeldAs)); err != nil {
			if errors.Is(err, syscall.EXDEV) {
				return Stays{Says: "It lies on another disk than its source: there is no holding place for it."}
			}
			return fmt.Errorf("moving %s into the holding place: %w", r.Path, err)
		}
		m.between()
		// Between the look and the move another file may have taken its name.
		info, err := root.Lstat(filepath.FromSlash(r.HeldAs))
		if err != nil {
			return fmt.Errorf("looking at %s: %w", r.HeldAs, err)
		}
		stamp := scan.StampOf(info)
		if f := i.files[n]; stamp.Size == f.Size && stamp.MTime == f.MTime && stamp.Inode == f.Inode && info.Mode().IsRegular() {
			continue
		}
		if sum, err := sumOf(ctx, root, r.HeldAs, nil); err != nil || sum != r.SHA256 {
			return Stays{Says: "The file was changed at that moment: it stays."}
		}
	}
	return nil
}

// putSmall puts a smaller one where an item lay, with its time.
func putSmall(root *os.Root, r records.Cleared, content []byte) error {
	part := scan.HeldFolder + "/" + sumOfBytes([]byte(r.Small))[:16] + ".part"
	err := root.MkdirAll(scan.HeldFolder, 0o700)
	if err == nil {
		err = root.WriteFile(part, content, 0o644)
	}
	if err == nil {
		at := time.Unix(0, r.MTime)
		err = root.Chtimes(part, at, at)
	}
	if err == nil {
		err = bringback.PutInPlace(root, part, r.Small)
	}
	if err != nil {
		return fmt.Errorf("leaving a smaller one as %s: %w", r.Small, err)
	}
	return nil
}

// stay puts what was moved of an item back where it lay, as not all of it could be.
func (m *Maker) stay(ctx context.Context, root *os.Root, rows []records.Cleared) error {
	var left []int64
	var failed error
	for _, r := range rows {
		if _, err := root.Lstat(filepath.FromSlash(r.HeldAs)); err == nil {
			if _, err := putBack(root, r); err != nil {
				failed = errors.Join(failed, err) // it lies in the holding place, and its row says so
				continue
			}
		}
		if err := removeSmall(ctx, root, r); err != nil {
			failed = errors.Join(failed, err)
		}
		left = append(left, r.ID)
	}
	if failed != nil {
		if err := m.Records.Rooms.Hold(ctx, idsOf(rows)); err != nil {
			return errors.Join(failed, err)
		}
		return errors.Join(failed, m.Records.Rooms.TookBack(ctx, left, "It stayed: not all of it could go.", time.Now()))
	}
	return m.Records.Rooms.Stayed(ctx, left)
}

// putBack gives a held file its name again, or one beside where something else has it. It tells which.
func putBack(root *os.Root, r records.Cleared) (string, error) {
	for n := 1; n <= bringback.MostBeside; n++ {
		name := bringback.Beside(r.Path, n)
		err := bringback.PutInPlace(root, filepath.FromSlash(r.HeldAs), name)
		if err == nil {
			return name, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", err
		}
	}
	return "", fmt.Errorf("%s: too many files have its name already", r.Path)
}

// free finds names for all files of an item that nothing has.
func free(root *os.Root, rows []records.Cleared, name func(records.Cleared) string) ([]string, error) {
	for n := 1; n <= bringback.MostBeside; n++ {
		names, taken := make([]string, len(rows)), false
		for i, r := range rows {
			names[i] = bringback.Beside(name(r), n)
			_, err := root.Lstat(filepath.FromSlash(names[i]))
			taken = taken || !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR)
		}
		if !taken {
			return names, nil
		}
	}
	return nil, fmt.Errorf("%s: too many files have its name already", rows[0].Path)
}

// removeSmall removes the smaller one of a file, if it is still the one that was left.
func removeSmall(ctx context.Context, root *os.Root, r records.Cleared) error {
	if r.Small == "" {
		return nil
	}
	info, err := root.Lstat(filepath.FromSlash(r.Small))
	if err != nil || !info.Mode().IsRegular() || info.Size() != r.SmallSize {
		return nil //nolint:nilerr // somebody removed it, or put something else there
	}
	sum, err := sumOf(ctx, root, r.Small, nil)
	if err != nil || sum != r.SmallSum {
		return err
	}
	if err := root.Remove(filepath.FromSlash(r.Small)); err != nil {
		return fmt.Errorf("removing the smaller one of %s: %w", r.Path, err)
	}
	return nil
}

// sumOf is the SHA-256 of a file below a source. Where it is to be an item's, the error is Stays for another.
func sumOf(ctx context.Context, root *os.Root, name string, it *records.Item) (string, error) {
	f, err := root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		if it != nil && errors.Is(err, fs.ErrNotExist) {
			return "", Stays{Says: "It is not on the device."}
		}
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = scan.NotRegular{Path: name}
	}
	if err != nil {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	changed := Stays{Says: "The file changed since it was found: it is looked at again."}
	if stamp := scan.StampOf(info); it != nil && (stamp.Size != it.Size || stamp.MTime != it.MTime || stamp.Inode != it.Inode) {
		return "", changed
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, work.Until(ctx, f)); err != nil {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	if after, err := f.Stat(); err != nil || scan.StampOf(after) != scan.StampOf(info) {
		return "", changed
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func sumOfBytes(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func idsOf(rows []records.Cleared) []int64 {
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	return ids
}

package device

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

	"yardtide/core/media"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/scan"
)

// This file keeps what the keeper says of items: in an open sidecar beside the file, which goes along with it.

// mostSaidOf is of how many items the keeper says something in one order.
const mostSaidOf = 500

// Say changes what the keeper said of items, by their numbers. It returns of how many. What is on the device gets it into
// a sidecar beside, where something may be written there; of all else the records alone have it.
func (o Orders) Say(ctx context.Context, items []int64, change media.KeeperChange) (n int64, err error) {
	if len(items) > mostSaidOf {
		return 0, errors.New("too much is marked at once")
	}
	list, err := o.d.Records.Catalogue.ItemsOf(ctx, items)
	if err != nil {
		return 0, err
	}
	for _, it := range list {
		if it.PartOf != 0 {
			continue
		}
		if err := o.d.say(ctx, it, records.KeeperOf(it.Keeper).With(change)); err != nil {
			return n, fmt.Errorf("%s: %w", it.FullPath(), err)
		}
		n++
	}
	o.d.changed()
	return n, nil
}

// say keeps what the keeper says of an item.
func (d *Device) say(ctx context.Context, it records.Item, k media.Keeper) error {
	if it.GoneMS == 0 && !d.rooms.staysBy(it.Source) && !d.sources.away(it.Source) {
		root, err := os.OpenRoot(d.Folder(it.Source))
		if err != nil {
			return fmt.Errorf("opening the source: %w", err)
		}
		defer root.Close()
		if err := writeSidecar(root, it.Path(), k); err != nil {
			return err
		}
	}
	if it.Marked != records.MarksRead { // they are read once, and then with this
		return d.Records.Catalogue.SetKeeper(ctx, it.ID, k)
	}
	m := it.Marks()
	m.Keeper = k
	return d.Records.Catalogue.SetMarks(ctx, it, m, d.currentPlan(), time.Now())
}

// sidecarsOf are the names that a sidecar of a file may have, in the order in which they are looked for.
func sidecarsOf(name string) []string {
	stem := strings.TrimSuffix(name, path.Ext(name))
	return []string{name + ".xmp", name + ".XMP", stem + ".xmp", stem + ".XMP"}
}

// writeSidecar writes what the keeper said into the sidecar of a file, in one step. Whatever else stands there stays.
func writeSidecar(root *os.Root, name string, k media.Keeper) error {
	at, before := name+".xmp", []byte(nil)
	var stamp scan.Stamp
	for _, beside := range sidecarsOf(name) {
		content, is, err := readRoot(root, beside)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		at, before, stamp = beside, content, is
		break
	}
	if before == nil && k.Nothing() {
		return nil
	}
	text, err := probe.WithKeeper(before, k)
	if err != nil || string(text) == string(before) {
		return err
	}
	part := path.Join(path.Dir(at), ".yardtide-"+path.Base(at)+".part") // hidden, and of a name that no scan takes up
	f, err := root.OpenFile(filepath.FromSlash(part), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return fmt.Errorf("writing the sidecar: %w", err)
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		if info, serr := root.Lstat(filepath.FromSlash(at)); before != nil && (serr != nil || scan.StampOf(info) != stamp) || before == nil && serr == nil {
			err = errors.New("its sidecar was changed at that moment: do it again")
		}
	}
	if err == nil {
		err = root.Rename(filepath.FromSlash(part), filepath.FromSlash(at))
	}
	if err != nil {
		return errors.Join(fmt.Errorf("writing the sidecar: %w", err), root.Remove(filepath.FromSlash(part)))
	}
	return nil
}

// readRoot reads a small regular file below a source, with its stamp.
func readRoot(root *os.Root, name string) ([]byte, scan.Stamp, error) {
	info, err := root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return nil, scan.Stamp{}, err
	}
	if !info.Mode().IsRegular() || info.Size() > mostSidecar {
		return nil, scan.Stamp{}, fmt.Errorf("%s: %w", name, probe.ErrNoSidecar)
	}
	content, err := root.ReadFile(filepath.FromSlash(name))
	if err != nil {
		return nil, scan.Stamp{}, fmt.Errorf("reading the sidecar: %w", err)
	}
	if len(content) == 0 {
		content = []byte{'\n'} // it is there, and says nothing
	}
	return content, scan.StampOf(info), nil
}

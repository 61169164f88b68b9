package device

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/source"
)

// This file reads the marks that people gave items, where a rule picks by them: in the
// file itself, and in the sidecar beside.

// marksAtOnce is how many items' marks are read before the records are asked again.
const marksAtOnce = 64

// readMarks has the marks read that are asked for, beside everything else.
func (d *Device) readMarks(ctx context.Context, sendCtx context.Context) error {
	items, err := d.Records.Catalogue.Unmarked(ctx, 1)
	if err != nil || len(items) == 0 {
		return err
	}
	d.mu.Lock()
	busy := d.reading
	d.reading = true
	d.mu.Unlock()
	if busy {
		return nil
	}
	d.beside.Go(func() {
		err := d.readAllMarks(sendCtx)
		d.mu.Lock()
		d.reading = false
		d.mu.Unlock()
		if err != nil && sendCtx.Err() == nil {
			d.unrecorded("marks could not be kept", err)
		}
		d.changed()
	})
	return nil
}

func (d *Device) readAllMarks(ctx context.Context) error {
	for ctx.Err() == nil {
		items, err := d.Records.Catalogue.Unmarked(ctx, marksAtOnce)
		if err != nil || len(items) == 0 {
			return err
		}
		for _, it := range items {
			m, err := d.marksOf(ctx, it)
			if err != nil && ctx.Err() != nil {
				return nil
			}
			if err != nil { // sending finds the same, and says so
				d.Log.Warn("the marks of an item cannot be read", "device", d.Name, "item", it.ID, "err", err)
			}
			if err := d.Records.Catalogue.SetMarks(ctx, it, m, d.currentPlan(), time.Now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostSidecar bounds what is read of a sidecar.
const mostSidecar = 1 << 20

// marksOf reads an item's marks.
func (d *Device) marksOf(ctx context.Context, it records.Item) (m media.Marks, err error) {
	path := filepath.Join(d.Folder(it.Source), filepath.FromSlash(it.Path()))
	f, err := source.Open(ctx, path)
	if err != nil {
		return m, err
	}
	m, err = probe.Marks(io.NewSectionReader(f, 0, it.Size), it.ContentType)
	f.Close()
	stem := strings.TrimSuffix(path, filepath.Ext(path))
	for _, beside := range []string{path + ".xmp", path + ".XMP", stem + ".xmp", stem + ".XMP"} {
		said, serr := readSidecar(ctx, beside)
		if errors.Is(serr, fs.ErrNotExist) {
			continue
		}
		return probe.Over(m, said), errors.Join(err, serr)
	}
	return m, err
}

func readSidecar(ctx context.Context, path string) (m media.Marks, err error) {
	f, err := source.Open(ctx, path)
	if err != nil {
		return m, err
	}
	defer f.Close()
	packet, err := io.ReadAll(io.LimitReader(f, mostSidecar))
	if err != nil {
		return m, err
	}
	return probe.XMP(packet), nil
}

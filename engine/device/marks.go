package device

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"sync/atomic"
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

// marks reads the marks of a device's items.
type marks struct {
	d *Device

	// news is how often something new was found, asked up to which of these there is nothing more to be asked for.
	news, asked atomic.Int64
}

// found notes that something new was found: there may be more whose marks can be read.
func (m *marks) found() { m.news.Add(1) }

// read has the marks read that are asked for, beside everything else: a source may not answer.
func (m *marks) read(ctx context.Context, sendCtx context.Context) error {
	items, err := m.d.Records.Catalogue.Unmarked(ctx, 1)
	if err != nil || len(items) == 0 && (m.d.isSending() || m.news.Load() == m.asked.Load()) {
		return err
	}
	m.d.beside.Begin("read marks", func() {
		err := m.ask(sendCtx)
		if err == nil {
			err = m.all(sendCtx)
		}
		if err != nil && sendCtx.Err() == nil {
			m.d.mending.broke("marks could not be kept", err)
		}
	})
	return nil
}

// ask has the marks read of some pictures of which no rule asks for them, while nothing is sent: the next round goes on.
func (m *marks) ask(ctx context.Context) error {
	if m.d.isSending() {
		return nil
	}
	news := m.news.Load() // what is found from now on is asked for anew
	var here []string
	for _, s := range m.d.currentPlan().Devices[m.d.Name].Sources {
		if m.isHere(s.Folder) {
			here = append(here, s.Folder)
		}
	}
	n, err := m.d.Records.Catalogue.AskMarks(ctx, here, marksAtOnce)
	if n == 0 {
		m.asked.Store(news)
	}
	return err
}

// isHere tells whether a source can be read.
func (m *marks) isHere(source string) bool {
	return !m.d.sources.walking(source) && !m.d.sources.away(source)
}

func (m *marks) all(ctx context.Context) error {
	for ctx.Err() == nil {
		items, err := m.d.Records.Catalogue.Unmarked(ctx, marksAtOnce)
		if err != nil || len(items) == 0 {
			return err
		}
		for _, it := range items {
			found, err := m.of(ctx, it)
			if err != nil && ctx.Err() != nil {
				return nil
			}
			if err != nil && !m.isHere(it.Source) { // it is asked again once it is
				if err := m.d.Records.Catalogue.LeaveMarks(ctx, it); err != nil {
					return err
				}
				continue
			}
			if err != nil { // sending finds the same, and says so
				m.d.Log.Warn("the marks of an item cannot be read", "device", m.d.Name, "item", it.ID, "err", err)
			}
			if err := m.d.Records.Catalogue.SetMarks(ctx, it, found, m.d.currentPlan(), time.Now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostSidecar bounds what is read of a sidecar.
const mostSidecar = 1 << 20

// of reads an item's marks.
func (m *marks) of(ctx context.Context, it records.Item) (is media.Marks, err error) {
	path := filepath.Join(m.d.Folder(it.Source), filepath.FromSlash(it.Path()))
	f, err := source.Open(ctx, path)
	if err != nil {
		return is, err
	}
	is, err = probe.Marks(io.NewSectionReader(f, 0, it.Size), it.ContentType)
	f.Close()
	before := records.KeeperOf(it.Keeper) // where nothing is written beside, the records alone have it
	for _, beside := range sidecarsOf(path) {
		said, serr := readSidecar(ctx, beside)
		if errors.Is(serr, fs.ErrNotExist) {
			continue
		}
		is = probe.Over(is, said)
		if m.d.rooms.staysBy(it.Source) {
			is.Keeper = before
		}
		return is, errors.Join(err, serr)
	}
	is.Keeper = before
	return is, err
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

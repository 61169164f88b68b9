package link

import (
	"context"
	"errors"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/face"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file asks a device elsewhere to show what only it can show.

// Shows is what a device elsewhere shows.
type Shows struct{ m *Mirror }

// Usual lists the folders in which people mostly keep their things; none while the device
// is silent.
func (s Shows) Usual() []wire.UsualFolder {
	list := []wire.UsualFolder{}
	ctx, cancel := context.WithTimeout(context.Background(), usualTime)
	defer cancel()
	if err := s.m.ask(ctx, "usual", struct{}{}, &list); err != nil {
		s.m.Log.Info("the usual folders are not known", "device", s.m.DeviceName(), "err", err)
	}
	return list
}

// Look looks at a folder of the device.
func (s Shows) Look(ctx context.Context, folder string, set *plan.Source, tell func(wire.Look)) error {
	var l wire.Look
	if err := s.m.ask(ctx, "look", ofFile{Folder: folder, Set: set}, &l); err != nil {
		return err
	}
	tell(l)
	return nil
}

// Browse lists the folders in one.
func (s Shows) Browse(ctx context.Context, folder string) (b planwire.Browsed, err error) {
	return b, s.m.ask(ctx, "browse", ofFile{Folder: folder}, &b)
}

// PictureAt shows a picture of a folder that was looked at.
func (s Shows) PictureAt(ctx context.Context, path string) (picture []byte, err error) {
	err = s.m.ask(ctx, "picture", ofFile{Path: path}, &picture)
	return picture, awayIfSilent(err)
}

// Face is a small picture of an item.
func (s Shows) Face(ctx context.Context, key string) (picture []byte, err error) {
	if _, err := s.m.Records().Catalogue.ByKey(ctx, key); err != nil {
		return nil, err
	}
	err = s.m.ask(ctx, "face", ofFile{Key: key}, &picture)
	return picture, awayIfSilent(err)
}

// CompareForm shows an item as shot and in a form.
func (s Shows) CompareForm(ctx context.Context, key string, r plan.Rendition, x,
	y float64) (c planwire.FormCompared, err error) {
	if _, err := s.m.Records().Catalogue.ByKey(ctx, key); err != nil {
		return c, err
	}
	err = s.m.ask(ctx, "compare", ofForm{Key: key, Form: r, X: x, Y: y}, &c)
	return c, awayIfSilent(err)
}

// FoundBursts shows the bursts among the photos that a rule takes.
func (s Shows) FoundBursts(ctx context.Context, rule string) (f wire.BurstsFound, err error) {
	return f, s.m.ask(ctx, "bursts", ofForm{Rule: rule}, &f)
}

// Strays looks for pictures and clips of the device that no source takes up.
func (s Shows) Strays(ctx context.Context) (found wire.Strays, err error) {
	return found, s.m.ask(ctx, "strays", struct{}{}, &found)
}

// SampleForm tells what a form comes to for a few of a kind.
func (s Shows) SampleForm(ctx context.Context, rule string, kind media.Kind,
	r plan.Rendition, most int) (sample planwire.FormSample, err error) {
	return sample, s.m.ask(ctx, "sample", ofForm{Rule: rule, Kind: kind, Form: r, Most: most}, &sample)
}

// usualTime is how long a device may take to tell its usual folders.
const usualTime = 3 * time.Second

func awayIfSilent(err error) error {
	var silent Silent
	if errors.As(err, &silent) {
		return face.ErrAway
	}
	return err
}

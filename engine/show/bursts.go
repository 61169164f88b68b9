package show

import (
	"bytes"
	"context"
	"fmt"
	"image/jpeg"
	"path/filepath"

	"yardtide/core/burst"
	"yardtide/core/likeness"
	"yardtide/engine/face"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/wire"
)

// mostShown is how many bursts are shown.
const mostShown = 40

// Burst is a burst with its items, in order.
type Burst []records.Item

// Says tells what a burst is made of.
func (b Burst) Says() string {
	return fmt.Sprintf("Made of %d shots in a row, %s to %s.", len(b), b[0].Name, b[len(b)-1].Name)
}

// FindBursts finds those among shots that look alike, at most so many; -1 for all.
func (s *Show) FindBursts(ctx context.Context, shots []burst.Shot, most int) (found []Burst, err error) {
	for _, run := range burst.Runs(shots) {
		looks, items := map[int64]likeness.Coarse{}, map[int64]records.Item{}
		for _, shot := range run {
			it, ok, err := s.Records.Catalogue.Item(ctx, shot.ID)
			if err != nil {
				return nil, err
			}
			if !ok {
				continue
			}
			look, err := s.lookOf(ctx, it)
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			if err == nil { // else it is like no other
				items[shot.ID], looks[shot.ID] = it, look
			}
		}
		for _, part := range burst.Split(run, looks) {
			var b Burst
			for _, shot := range part {
				b = append(b, items[shot.ID])
			}
			if found = append(found, b); len(found) == most {
				return found, nil
			}
		}
	}
	return found, nil
}

// lookOf is how an item looks, by its small picture.
func (s *Show) lookOf(ctx context.Context, it records.Item) (l likeness.Coarse, err error) {
	err = s.WithPicture(ctx, it, func(src rendition.Source) error {
		small, err := face.Picture(ctx, src.F, src.ContentType, src.Size)
		if err != nil {
			return err
		}
		img, err := jpeg.Decode(bytes.NewReader(small))
		if err == nil {
			l = likeness.CoarseOf(img)
		}
		return err
	})
	return l, err
}

// FoundBursts shows the bursts among the photos that a rule takes, before anything is made
// of them.
func (s *Show) FoundBursts(ctx context.Context, rule string) (wire.BurstsFound, error) {
	out := wire.BurstsFound{Device: s.Device, Bursts: []wire.Burst{}}
	ctx, cancel := context.WithTimeoutCause(ctx, compareTime, face.ErrAway)
	defer cancel()
	if _, known := s.Plan().Rules[rule]; !known {
		return out, nil
	}
	shots, _, err := s.Records.Catalogue.Shots(ctx, rule, 0)
	if err != nil {
		return out, err
	}
	found, err := s.FindBursts(ctx, shots, mostShown)
	if err != nil {
		return out, err
	}
	for _, b := range found {
		one := wire.Burst{TakenAt: b[0].TakenAt(), N: int64(len(b)), First: b[0].Name, Last: b[len(b)-1].Name,
			Folder: filepath.ToSlash(filepath.Join(b[0].Source, b[0].Dir)), Key: s.Records.Catalogue.Key(b[0].ID)}
		for _, it := range b {
			one.Bytes += it.Size
		}
		out.Bursts = append(out.Bursts, one)
	}
	out.More = len(found) == mostShown
	return out, nil
}

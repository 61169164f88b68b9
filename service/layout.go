package service

import (
	"context"
	"fmt"
	"path"
	"strings"

	"yardtide/core/media"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// This file shows where items would land by a layout: the keeper's own, and the awkward ones.

// Landings tells where items land at a destination by a layout, with some of the keeper's own. The error is
// a plantext.EditError where the layout cannot be one.
func (s *Trials) Landings(ctx context.Context, a planwire.LayoutAsked) ([]planwire.SetupName, error) {
	if _, there := s.book.PlanOrEmpty().Destinations[a.Destination]; !there {
		return nil, plantext.EditError{Says: fmt.Sprintf("the plan has no destination %q", a.Destination)}
	}
	if err := plan.CheckOwnLayout(a.Layout); err != nil {
		return nil, plantext.EditError{Says: err.Error()}
	}
	own, err := s.samples(ctx, a.Destination)
	return shown(naming.Examples(a.Layout, "", own)), err
}

// samples are some of the items that go to a destination, of every device.
func (s *Trials) samples(ctx context.Context, destination string) (own []naming.Sample, err error) {
	p := s.book.PlanOrEmpty()
	for _, d := range s.devices() {
		items, err := d.Told.Items(ctx, wire.Filter{Destination: destination, Limit: 40})
		if err != nil {
			return nil, err
		}
		ofDevice := 0
		for _, it := range items {
			undated, parted := it.TakenFrom == string(media.FromFile), len(it.Parts) > 0
			if ofDevice++; ofDevice > 2 && !undated && !parted {
				continue
			}
			one := naming.Sample{Item: naming.Item{Name: it.Name, Device: it.Device, Kind: media.Kind(it.Kind),
				TakenAt: it.TakenAt, Camera: it.Camera}, Undated: undated}
			for _, source := range p.Devices[it.Device].Sources {
				if rest, below := strings.CutPrefix(it.Path, source.Folder+"/"); below && len(source.Folder) > len(one.Source) {
					one.Source, one.Folder = source.Folder, path.Dir(rest)
				}
			}
			for _, part := range it.Parts {
				one.Parts = append(one.Parts, part.Name)
			}
			own = append(own, one)
		}
	}
	return own, nil
}

func shown(list []naming.Landing) []planwire.SetupName {
	names := make([]planwire.SetupName, len(list))
	for i, l := range list {
		names[i] = planwire.SetupName(l)
	}
	return names
}

package service

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/wire"
)

// This file shows where items would land by a layout: the keeper's own, and the awkward ones.

// sample is an item of the keeper's.
type sample struct {
	naming.Item
	undated bool
	parts   []string // the names of its further files
}

// mostNames is how many of the keeper's own items a layout is shown with.
const mostNames = 4

// landings tells where items would land by a layout.
func landings(layout, device string, own []sample) (list []wire.SetupName) {
	put := func(what, from, to string) { list = append(list, wire.SetupName{What: what, From: from, To: to}) }
	example := sample{Item: naming.Item{Name: "IMG_2041.jpg", Source: "DCIM", Folder: "Camera", Device: cmp.Or(device, "this-computer"), Kind: media.Photo, TakenAt: time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC)}}
	undated := sample{Item: naming.Item{Name: "scan of the logbook.png", Source: "Pictures", Folder: "Logbook", Device: example.Device, Kind: media.Graphic, TakenAt: time.Now()}}
	shown := 0
	for _, s := range own {
		switch {
		case s.undated:
			undated = s
			continue
		case shown == 0:
			example = s
		}
		if shown++; shown <= mostNames {
			put("", s.Name, naming.Path(layout, s.Item))
		}
	}
	if shown == 0 {
		put("", example.Name, naming.Path(layout, example.Item))
	}
	put("Its header tells no date: the file's own time counts.", undated.Name, naming.Path(layout, undated.Item))
	ending := path.Ext(example.Name)
	burst := example.Item
	burst.Name = strings.TrimSuffix(example.Name, ending) + "_BURST002" + ending
	put("One of a burst, of the same second: it keeps its own name.", burst.Name, naming.Path(layout, burst))
	put("Another picture of the same name is there: it gets a mark of its content.", example.Name, naming.Clash(naming.Path(layout, example.Item), "3fa9c2d1", 1))
	with, part := example.Item, strings.TrimSuffix(example.Name, ending)+".xmp"
	for _, s := range own {
		if len(s.parts) > 0 {
			with, part = s.Item, s.parts[0]
			break
		}
	}
	put("A file that belongs to a picture: both have one name there.", part, naming.Beside(naming.Path(layout, with), with.Name, part))
	return list
}

// Landings tells where items land at a destination by a layout, with some of the keeper's own. The error is
// a plantext.EditError where the layout cannot be one.
func (s *Service) Landings(ctx context.Context, a wire.LayoutAsked) ([]wire.SetupName, error) {
	if _, there := s.Book.PlanOrEmpty().Destinations[a.Destination]; !there {
		return nil, plantext.EditError{Says: fmt.Sprintf("the plan has no destination %q", a.Destination)}
	}
	if err := plan.CheckOwnLayout(a.Layout); err != nil {
		return nil, plantext.EditError{Says: err.Error()}
	}
	own, err := s.samples(ctx, a.Destination)
	return landings(a.Layout, "", own), err
}

// samples are some of the items that go to a destination, of every device.
func (s *Service) samples(ctx context.Context, destination string) (own []sample, err error) {
	p := s.Book.PlanOrEmpty()
	for _, d := range s.Devices() {
		items, err := d.Items(ctx, wire.Filter{Destination: destination, Limit: 40})
		if err != nil {
			return nil, err
		}
		ofDevice := 0
		for _, it := range items {
			undated, parted := it.TakenFrom == string(media.FromFile), len(it.Parts) > 0
			if ofDevice++; ofDevice > 2 && !undated && !parted {
				continue
			}
			one := sample{Item: naming.Item{Name: it.Name, Device: it.Device, Kind: media.Kind(it.Kind), TakenAt: it.TakenAt, Camera: it.Camera}, undated: undated}
			for _, source := range p.Devices[it.Device].Sources {
				if rest, below := strings.CutPrefix(it.Path, source.Folder+"/"); below && len(source.Folder) > len(one.Source) {
					one.Source, one.Folder = source.Folder, path.Dir(rest)
				}
			}
			for _, part := range it.Parts {
				one.parts = append(one.parts, part.Name)
			}
			own = append(own, one)
		}
	}
	return own, nil
}

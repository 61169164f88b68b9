package naming

import (
	"cmp"
	"path"
	"strings"
	"time"

	"yardtide/core/media"
)

// This file shows where items would land by a layout: the keeper's own, and the awkward ones.

// Landing is where an item would land.
type Landing struct {
	What string // what is odd about it, "" for an ordinary one
	From string
	To   string
}

// Sample is an item of the keeper's.
type Sample struct {
	Item
	Undated bool
	Parts   []string // the names of its further files
}

// mostNames is how many of the keeper's own items a layout is shown with.
const mostNames = 4

// Examples tells where items would land by a layout.
func Examples(layout, device string, own []Sample) (list []Landing) {
	put := func(what, from, to string) { list = append(list, Landing{What: what, From: from, To: to}) }
	example := Sample{Item: Item{Name: "IMG_2041.jpg", Source: "DCIM", Folder: "Camera",
		Device: cmp.Or(device, "this-computer"), Kind: media.Photo, TakenAt: time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC)}}
	undated := Sample{Item: Item{Name: "scan of the logbook.png", Source: "Pictures", Folder: "Logbook",
		Device: example.Device, Kind: media.Graphic, TakenAt: time.Now()}}
	shown := 0
	for _, s := range own {
		switch {
		case s.Undated:
			undated = s
			continue
		case shown == 0:
			example = s
		}
		if shown++; shown <= mostNames {
			put("", s.Name, Path(layout, s.Item))
		}
	}
	if shown == 0 {
		put("", example.Name, Path(layout, example.Item))
	}
	put("Its header tells no date: the file's own time counts.", undated.Name, Path(layout, undated.Item))
	ending := path.Ext(example.Name)
	burst := example.Item
	burst.Name = strings.TrimSuffix(example.Name, ending) + "_BURST002" + ending
	put("One of a burst, of the same second: it keeps its own name.", burst.Name, Path(layout, burst))
	put("Another picture of the same name is there: it gets a mark of its content.", example.Name,
		Clash(Path(layout, example.Item), "3fa9c2d1", 1))
	with, part := example.Item, strings.TrimSuffix(example.Name, ending)+".xmp"
	for _, s := range own {
		if len(s.Parts) > 0 {
			with, part = s.Item, s.Parts[0]
			break
		}
	}
	put("A file that belongs to a picture: both have one name there.", part, Beside(Path(layout, with), with.Name, part))
	return list
}

package plan

import (
	"maps"
	"slices"

	"yardtide/core/onvolume"
)

// Card is the keeper's answer about a volume that comes and goes: a memory card, a camera or a phone on a cable. The
// zero value is no answer: it is asked for.
type Card struct {
	Name  string   `json:"name,omitempty"` // what people call it
	Leave bool     `json:"leave,omitempty"`
	Rules []string `json:"rules,omitempty"` // its files are taken up by these
	// CopyTo is a folder of the device to which new pictures are copied first.
	CopyTo string `json:"copy-to,omitempty"`
}

// Card is the answer about a volume; asked is true where there is none.
func (d Device) Card(id string) (c Card, asked bool) {
	if c, own := d.Cards[id]; own && c.answered() {
		return c, false
	}
	if slices.ContainsFunc(d.Sources, func(s Source) bool { on, _, is := onvolume.Of(s.Folder); return is && on == id }) {
		return Card{}, false // the keeper made a source of it
	}
	c = d.Cards[onvolume.Any]
	return c, !c.answered()
}

func (c Card) answered() bool { return c.Leave || len(c.Rules) > 0 || c.CopyTo != "" }

// withCards are the sources of a device, and those that are its volumes.
func (d Device) withCards() []Source {
	sources := d.Sources
	for _, id := range slices.Sorted(maps.Keys(d.Cards)) {
		folder := onvolume.Folder(id)
		if id == onvolume.Any || len(d.Cards[id].Rules) == 0 ||
			slices.ContainsFunc(d.Sources, func(s Source) bool { return s.Folder == folder }) {
			continue
		}
		sources = append(slices.Clip(sources), Source{Folder: folder, Rules: d.Cards[id].Rules})
	}
	return sources
}

package plan

import (
	"maps"
	"slices"
	"strings"
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

// AnyVolume stands for every volume without an answer of its own.
const AnyVolume = "any"

// onVolume begins the folder of a source that lies on a volume; its identity follows.
const onVolume = "volume:"

// VolumeFolder is the folder of a source that is a whole volume.
func VolumeFolder(id string) string { return onVolume + id }

// OnVolume is the volume that a source's folder lies on, and the folder below it; ok is false for one that lies on
// none.
func OnVolume(folder string) (id, below string, ok bool) {
	rest, ok := strings.CutPrefix(folder, onVolume)
	if !ok {
		return "", "", false
	}
	id, below, _ = strings.Cut(rest, "/")
	return id, below, true
}

// Card is the answer about a volume; asked is true where there is none.
func (d Device) Card(id string) (c Card, asked bool) {
	if c, own := d.Cards[id]; own && c.answered() {
		return c, false
	}
	if slices.ContainsFunc(d.Sources, func(s Source) bool { on, _, is := OnVolume(s.Folder); return is && on == id }) {
		return Card{}, false // the keeper made a source of it
	}
	c = d.Cards[AnyVolume]
	return c, !c.answered()
}

func (c Card) answered() bool { return c.Leave || len(c.Rules) > 0 || c.CopyTo != "" }

// withCards are the sources of a device, and those that are its volumes.
func (d Device) withCards() []Source {
	sources := d.Sources
	for _, id := range slices.Sorted(maps.Keys(d.Cards)) {
		folder := VolumeFolder(id)
		if id == AnyVolume || len(d.Cards[id].Rules) == 0 ||
			slices.ContainsFunc(d.Sources, func(s Source) bool { return s.Folder == folder }) {
			continue
		}
		sources = append(slices.Clip(sources), Source{Folder: folder, Rules: d.Cards[id].Rules})
	}
	return sources
}

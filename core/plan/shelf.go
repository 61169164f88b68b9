package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strings"

	"yardtide/core/media"
)

// Shelf is which of an item's copies at a destination one is. What lies on the shelves
// beside Main is made of the item for a use of its own: it makes nothing safe.
type Shelf string

// The shelves. Of a rule's picks each has one of its own (see PickShelf).
const (
	Main    Shelf = ""        // the copy itself
	Small   Shelf = "small"   // a quick copy, until the copy itself is proven
	Preview Shelf = "preview" // for fast browsing
	Beside  Shelf = "jpeg"    // the JPEG of a picture that few programs open
)

// picks begins the names of the shelves of picks.
const picks = "pick-"

// The folders of their own that shelves have at a destination.
const (
	SmallFolder   = "small"
	PreviewFolder = "previews"
)

// PickShelf is the shelf of the picks that go under a layout: another layout is another
// shelf, and what lies on the earlier one stays.
func PickShelf(layout string) Shelf {
	sum := sha256.Sum256([]byte(layout))
	return Shelf(picks + hex.EncodeToString(sum[:4]))
}

// IsPick tells whether it is a shelf of picks.
func (s Shelf) IsPick() bool { return strings.HasPrefix(string(s), picks) }

// Label is what one copy on it is called in a sentence, "" for the copy itself.
func (s Shelf) Label() string {
	switch {
	case s == Small:
		return "a small copy"
	case s == Preview:
		return "a preview"
	case s == Beside:
		return "a JPEG beside"
	case s.IsPick():
		return "a pick"
	}
	return string(s)
}

// Plural is what several copies on it are called.
func (s Shelf) Plural() string {
	switch {
	case s == Small:
		return "small copies"
	case s == Preview:
		return "previews"
	case s == Beside:
		return "JPEGs beside"
	case s.IsPick():
		return "picks"
	}
	return string(s)
}

// Stocked is a shelf that a rule wants filled, and with what.
type Stocked struct {
	Shelf Shelf
	Kinds []media.Kind
	HEIC  bool `json:",omitempty"` // only pictures that are HEIC
	When  Mark `json:",omitzero"`  // only items that carry this mark
}

// Shelves are those that a rule wants filled at a destination beside the copy itself, in order.
func (p *Plan) Shelves(rule, destination string) []Stocked {
	r := p.Rules[rule]
	var all []Stocked
	add := func(s Stocked, limits func(k media.Kind) bool) {
		for _, k := range r.Take {
			if limits(k) {
				s.Kinds = append(s.Kinds, k)
			}
		}
		if len(s.Kinds) > 0 {
			all = append(all, s)
		}
	}
	if quick := r.Quick(); quick != "" {
		add(Stocked{Shelf: Small}, func(k media.Kind) bool {
			return slices.Contains(Reducible, k) && p.Renditions[quick].Limits(k) &&
				slices.ContainsFunc(r.Lanes, func(l Lane) bool { return l.Send != "" && l.Takes(k) })
		})
	}
	if r.Previews != "" {
		add(Stocked{Shelf: Preview}, func(k media.Kind) bool {
			return k != media.Video && slices.Contains(Reducible, k) && p.Renditions[r.Previews].Limits(k)
		})
	}
	add(Stocked{Shelf: Beside, HEIC: true}, func(k media.Kind) bool {
		return k == media.Photo && p.Renditions[p.sent(rule, k, destination)].Format == Both
	})
	return append(all, p.Picks(rule)...)
}

// Picks are the shelves of a rule's picks, the same at every destination.
func (p *Plan) Picks(rule string) (all []Stocked) {
	r := p.Rules[rule]
	var kinds []media.Kind
	for _, k := range r.Take {
		if slices.Contains(Marked, k) {
			kinds = append(kinds, k)
		}
	}
	if len(kinds) == 0 {
		return nil
	}
	for _, a := range r.Also {
		all = append(all, Stocked{Shelf: PickShelf(a.Layout), Kinds: kinds, When: a.When})
	}
	return all
}

// NoCompanion stands in a rule's companions for none at all.
const NoCompanion media.Companion = "none"

// GoesAlong tells whether a part of a kind goes with a main file of another that a rule
// takes. Where the main file does not tell everything, what would tell it goes only if the
// rule names it.
func (p *Plan) GoesAlong(rule string, main, part media.Kind, sidecar bool) bool {
	r := p.Rules[rule]
	if !r.TakesAlong(part, sidecar) {
		return false
	}
	withheld := p.Withholds(rule)
	return r.Companions != nil || !slices.Contains(withheld, main) || !sidecar && slices.Contains(withheld, part)
}

// TakesAlong tells whether a part of a kind goes with an item that the rule takes.
func (r Rule) TakesAlong(k media.Kind, sidecar bool) bool {
	is := media.CompanionOf(k)
	if sidecar {
		is = media.Sidecar
	}
	if r.Companions != nil {
		return slices.Contains(r.Companions, is)
	}
	return is == media.Sidecar || slices.Contains(r.Take, k)
}

// Carried are the kinds of all files that a rule may send: what it takes, and companions.
func (r Rule) Carried() []media.Kind {
	kinds := slices.Clone(r.Take)
	for _, k := range media.Kinds {
		sidecar := k == media.Document || k == media.Other || k == media.Audio
		if !slices.Contains(kinds, k) && (sidecar || k == media.Raw || k == media.Video) && r.TakesAlong(k, sidecar) {
			kinds = append(kinds, k)
		}
	}
	return kinds
}

// LaneTakes tells whether a lane of the rule carries a kind. What only goes along with items, and that no lane names, waits
// for no lane of its own: sidecars go by every lane, other parts by Wi-Fi.
func (r Rule) LaneTakes(l Lane, k media.Kind) bool {
	if l.Takes(k) {
		return true
	}
	if slices.Contains(r.Take, k) || slices.ContainsFunc(r.Lanes, func(o Lane) bool { return o.Takes(k) }) {
		return false
	}
	return l.Over == WiFi || k == media.Document
}

// Quick is the rendition of the small copies that a rule's lanes carry, "" for none.
func (r Rule) Quick() string {
	for _, l := range r.Lanes {
		if l.Send != "" {
			return l.Send
		}
	}
	return ""
}

// Uses tells whether a rule sends anything in a rendition.
func (r Rule) Uses(rendition string) bool {
	return slices.Contains(r.forms(), rendition)
}

// forms are the renditions that a rule names, AsShot and "" among them.
func (r Rule) forms() []string {
	names := slices.AppendSeq(slices.Collect(maps.Values(r.Send)), maps.Values(r.As))
	for _, l := range r.Lanes {
		names = append(names, l.Send)
	}
	return append(names, r.Previews)
}

// Carries tells whether a lane carries copies on a shelf: one for quick copies carries
// nothing else.
func (l Lane) Carries(on Shelf) bool { return (l.Send != "") == (on == Small) }

// Layout is the layout under which a rule's copies land on a shelf of a destination.
func (p *Plan) Layout(destination, rule string, on Shelf) string {
	layout := p.Destinations[destination].Layout
	switch {
	case on == Small:
		return SmallFolder + "/" + layout
	case on == Preview:
		return PreviewFolder + "/" + layout
	case on.IsPick():
		for _, a := range p.Rules[rule].Also {
			if PickShelf(a.Layout) == on {
				return a.Layout
			}
		}
	}
	return layout
}

// Wanted tells whether a rule wants a shelf of a destination filled with items of a kind.
func (p *Plan) Wanted(rule string, kind media.Kind, destination string, on Shelf) bool {
	if on == Main {
		return slices.Contains(p.Rules[rule].Carried(), kind)
	}
	return slices.ContainsFunc(p.Shelves(rule, destination),
		func(s Stocked) bool { return s.Shelf == on && slices.Contains(s.Kinds, kind) })
}

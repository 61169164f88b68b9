package media

import (
	"slices"
	"strings"
)

// Keeper is what the keeper said of an item. The zero value is nothing.
type Keeper struct {
	Marked bool     `json:"marked,omitempty"`
	Hidden bool     `json:"hidden,omitempty"` // from the library, until it is asked for
	Note   string   `json:"note,omitempty"`
	Sets   []string `json:"sets,omitempty"` // the names of the sets that it is in, in order
}

// The bounds of what the keeper says: bytes of a note and of a set's name, and how many sets an item is in.
const (
	MostNote = 2000
	MostSet  = 100
	MostSets = 50
)

// Nothing tells whether nothing is said.
func (k Keeper) Nothing() bool { return !k.Marked && !k.Hidden && k.Note == "" && len(k.Sets) == 0 }

// KeeperChange changes what the keeper said; what is nil or empty stays as it is.
type KeeperChange struct {
	Marked *bool   `json:"marked,omitempty"`
	Hidden *bool   `json:"hidden,omitempty"`
	Note   *string `json:"note,omitempty"`
	Put    string  `json:"put,omitempty"`  // into this set
	Take   string  `json:"take,omitempty"` // out of this set
}

// With is what the keeper said after a change, within the bounds.
func (k Keeper) With(c KeeperChange) Keeper {
	k.Sets = slices.Clone(k.Sets)
	if c.Marked != nil {
		k.Marked = *c.Marked
	}
	if c.Hidden != nil {
		k.Hidden = *c.Hidden
	}
	if c.Note != nil {
		k.Note = *c.Note
	}
	if c.Put != "" {
		k.Sets = append(k.Sets, c.Put)
	}
	if c.Take != "" {
		k.Sets = slices.DeleteFunc(k.Sets, func(s string) bool { return s == c.Take })
	}
	return k.Sound()
}

// Sound is the same within the bounds, with its sets in order and each once.
func (k Keeper) Sound() Keeper {
	k.Note = within(writable(k.Note), MostNote)
	sets := make([]string, 0, len(k.Sets))
	for _, s := range k.Sets {
		if s = within(strings.Join(strings.Fields(writable(s)), " "), MostSet); s != "" {
			sets = append(sets, s)
		}
	}
	slices.Sort(sets)
	sets = slices.Compact(sets)
	k.Sets = sets[:min(len(sets), MostSets)]
	if len(k.Sets) == 0 {
		k.Sets = nil
	}
	return k
}

// writable is a text without what no XML document may have (XML 1.0, 2.2).
func writable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0xFFFE || r == 0xFFFF {
			return -1
		}
		return r
	}, strings.ToValidUTF8(strings.ReplaceAll(s, "\r\n", "\n"), ""))
}

// within is a text of so many bytes at most, trimmed.
func within(s string, most int) string {
	s = strings.TrimSpace(s)
	return strings.TrimSpace(strings.ToValidUTF8(s[:min(len(s), most)], ""))
}

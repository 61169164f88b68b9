package plan

import (
	"fmt"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing/format/gitignore"

	"yardtide/core/media"
)

// Scope is what of a source's files is taken up; the zero value takes every one that
// is not hidden. What a rule then takes of it is the rule's.
type Scope struct {
	Only       []string `json:"only,omitempty"`
	LeaveOut   []string `json:"leave-out,omitempty"`
	Hidden     bool     `json:"hidden,omitempty"`
	Smallest   Size     `json:"smallest,omitempty"`
	Largest    Size     `json:"largest,omitempty"`
	TakenFrom  Date     `json:"taken-from,omitempty"`
	TakenUntil Date     `json:"taken-until,omitempty"`
	NewSince   Date     `json:"new-since,omitempty"`
	// OriginalsOnly are closed libraries in the source, "." for the source itself: of them no smaller version of a
	// picture is taken that is there larger.
	OriginalsOnly []string `json:"originals-only,omitempty"`
}

// Date is a day of the calendar, written as 2026-11-25.
type Date string

// File is what is known of a file when it is decided whether it is taken up.
type File struct {
	Path    string // below its source, with slashes
	Kind    media.Kind
	Bytes   int64
	Taken   time.Time // in the zone in which it was taken
	Came    time.Time // when it came into its folder
	Seconds int64     // how long a clip lasts, 0 when that is not known
	Part    string    // the rule that it follows as a part of another file, "" for what is none
	// Sorted tells that the originals of its library were told from smaller versions, MadeFrom of which file it is a
	// smaller version, or whose tag calls it a cache's; "" for an original.
	Sorted   bool
	MadeFrom string
}

// Chooser tells which rule takes a file of one source. It is safe for concurrent use.
type Chooser struct {
	scope          Scope
	only, leaveOut []pattern
	rules          []choice
	newSince       time.Time
	byKind         bool
}

type pattern struct {
	written string
	is      gitignore.Pattern
}

type choice struct {
	name string
	rule Rule
}

// Chooser is what decides for a source; hours and days are those of a zone.
func (p *Plan) Chooser(s Source, zone *time.Location) Chooser {
	c := Chooser{scope: s.Scope, only: patterns(s.Only), leaveOut: patterns(s.LeaveOut)}
	if day, err := time.ParseInLocation(time.DateOnly, string(s.NewSince), zone); err == nil {
		c.newSince = day
	}
	for _, name := range s.Rules {
		c.rules = append(c.rules, choice{name, p.Rules[name]})
	}
	bare := s.Scope
	bare.Hidden = false
	c.byKind = reflect.DeepEqual(bare, Scope{}) &&
		!slices.ContainsFunc(c.rules, func(one choice) bool { return one.rule.LargerThan > 0 || one.rule.LongerThan > 0 })
	return c
}

func patterns(written []string) []pattern {
	list := make([]pattern, len(written))
	for i, w := range written {
		list[i] = pattern{w, gitignore.ParsePattern(w, nil)}
	}
	return list
}

// fits finds the last pattern that speaks of a path (gitignore's own order).
func fits(list []pattern, path []string) (p pattern, is gitignore.MatchResult) {
	for _, p := range slices.Backward(list) {
		if m := p.is.Match(path, false); m != gitignore.NoMatch {
			return p, m
		}
	}
	return pattern{}, gitignore.NoMatch
}

// HiddenLeftOut is why a hidden file is left out.
const HiddenLeftOut = "Hidden files are left out."

// IsHidden tells whether a path below a source is of a hidden file, or lies in a hidden
// folder: some name on it begins with a dot. "." is the source itself.
func IsHidden(path string) bool {
	return path != "." && strings.HasPrefix(path, ".") || strings.Contains(path, "/.")
}

// Choose names the rule that takes a file: the first of its source's that does. "" is
// for a file that is left out, and why.
func (c Chooser) Choose(f File) (rule, why string) {
	if why := c.LeavesOut(f); why != "" {
		return "", why
	}
	for _, one := range c.rules {
		if one.rule.Accepts(f) {
			return one.name, ""
		}
	}
	return "", "No rule of the source takes " + f.Kind.Plural() + " like it."
}

// ByKind tells whether only the kind of a file decides, and whether it is hidden: then
// many can be decided at once.
func (c Chooser) ByKind() bool { return c.byKind }

// ByTime tells whether it matters when a file was taken or came, or how long it lasts.
func (c Chooser) ByTime() bool {
	s := c.scope
	return s.TakenFrom != "" || s.TakenUntil != "" || s.NewSince != "" ||
		slices.ContainsFunc(c.rules, func(one choice) bool { return one.rule.LongerThan > 0 })
}

// ByOrigin tells whether it matters what a file was made from.
func (c Chooser) ByOrigin() bool { return len(c.scope.OriginalsOnly) > 0 }

// LeavesOut tells why the source's scope leaves a file out, "" when it does not.
func (c Chooser) LeavesOut(f File) string {
	s := c.scope
	names := strings.Split(f.Path, "/")
	if !s.Hidden && IsHidden(f.Path) {
		return HiddenLeftOut
	}
	if len(c.only) > 0 {
		if _, m := fits(c.only, names); m != gitignore.Exclude {
			return "It is not among what \"only\" names."
		}
	}
	if p, m := fits(c.leaveOut, names); m == gitignore.Exclude {
		return fmt.Sprintf("Left out by %q.", p.written)
	}
	if why := s.notOriginal(f); why != "" {
		return why
	}
	day := Date(f.Taken.Format(time.DateOnly))
	switch {
	case f.Bytes < int64(s.Smallest):
		return "It is smaller than " + s.Smallest.String() + "."
	case s.Largest > 0 && f.Bytes > int64(s.Largest):
		return "It is larger than " + s.Largest.String() + "."
	case day < s.TakenFrom:
		return "It was taken before " + string(s.TakenFrom) + "."
	case s.TakenUntil != "" && day > s.TakenUntil:
		return "It was taken after " + string(s.TakenUntil) + "."
	case !c.newSince.IsZero() && f.Came.Before(c.newSince):
		return "It was there before " + string(s.NewSince) + "."
	}
	return ""
}

// notOriginal tells why a file is left out where only originals are taken, "" when it is not.
func (s Scope) notOriginal(f File) string {
	if len(s.OriginalsOnly) == 0 || !slices.Contains(media.Versions, f.Kind) ||
		!slices.ContainsFunc(s.OriginalsOnly, func(in string) bool { return Inside(f.Path, in) }) {
		return ""
	}
	switch {
	case !f.Sorted:
		return "It is not known yet whether it is a smaller version of another."
	case path.Base(f.MadeFrom) == media.CacheTag:
		return "It lies in a cache, which says so itself."
	case f.MadeFrom != "":
		return fmt.Sprintf("It is a smaller version of %q.", f.MadeFrom)
	}
	return ""
}

// Accepts tells whether a rule takes a file.
func (r Rule) Accepts(f File) bool {
	if !slices.Contains(r.Take, f.Kind) {
		return false
	}
	if r.LargerThan == 0 && r.LongerThan == 0 {
		return true
	}
	return r.LargerThan > 0 && f.Bytes > int64(r.LargerThan) || r.LongerThan > 0 && f.Seconds > int64(r.LongerThan)*60
}

// Wants tells whether the plan asks for a copy of a file of a source on a shelf of a
// destination.
func (p *Plan) Wants(device, source string, f File, destination string, on Shelf) bool {
	for _, s := range p.Devices[device].withCards() {
		if s.Folder != source {
			continue
		}
		if f.Part != "" { // it follows the rule of its main file
			return slices.Contains(s.Rules, f.Part) && slices.Contains(p.Rules[f.Part].To, destination) &&
				p.Wanted(f.Part, f.Kind, destination, on)
		}
		rule, _ := p.Chooser(s, p.Zone(device)).Choose(f)
		return rule != "" && slices.Contains(p.Rules[rule].To, destination) && p.Wanted(rule, f.Kind, destination, on)
	}
	return false
}

// Follows tells whether a source of a device follows a rule.
func (p *Plan) Follows(device, rule string) bool {
	return slices.ContainsFunc(p.Devices[device].withCards(), func(s Source) bool { return slices.Contains(s.Rules, rule) })
}

// SendsTo tells whether a device sends to a destination at all.
func (p *Plan) SendsTo(device, destination string) bool {
	d := p.Devices[device]
	return slices.ContainsFunc(d.withCards(), func(s Source) bool {
		return slices.ContainsFunc(s.Rules, func(rule string) bool {
			return slices.ContainsFunc(p.Rules[rule].To, func(to string) bool { return ForPerson(to, d.Person) == destination })
		})
	})
}

// PersonField stands for a device's person in the destinations of a rule.
const PersonField = "{person}"

// ForPerson is a destination of a rule for a device of a person.
func ForPerson(destination, person string) string {
	return strings.ReplaceAll(destination, PersonField, person)
}

// On is the plan as a device follows it: what the device says of a rule itself stands
// in the rule's place, its person in the destinations that are a person's, and the volumes that it takes up among its
// sources.
func (p *Plan) On(device string) *Plan {
	d := p.Devices[device]
	personal := func(r Rule) bool {
		return slices.ContainsFunc(r.To, func(to string) bool { return strings.Contains(to, PersonField) })
	}
	sources := d.withCards()
	if len(d.Rules) == 0 && len(sources) == len(d.Sources) &&
		!slices.ContainsFunc(slices.Collect(maps.Values(p.Rules)), personal) {
		return p
	}
	q := *p
	if len(sources) > len(d.Sources) {
		q.Devices = maps.Clone(p.Devices)
		d.Sources = sources
		q.Devices[device] = d
	}
	q.Rules = make(map[string]Rule, len(p.Rules))
	for name, r := range p.Rules {
		if o, there := d.Rules[name]; there {
			if len(o.Lanes) > 0 {
				r.Lanes = o.Lanes
			}
			r.Gates = r.Gates.Under(o.Gates)
		}
		if personal(r) {
			r.To = slices.Clone(r.To)
			as := r.As
			r.As = make(map[string]string, len(as))
			for i, to := range r.To {
				r.To[i] = ForPerson(to, d.Person)
				if form, own := as[to]; own {
					r.As[r.To[i]] = form
				}
			}
		}
		q.Rules[name] = r
	}
	return &q
}

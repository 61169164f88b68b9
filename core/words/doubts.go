package words

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardtide/core/allowance"
	"yardtide/core/media"
	"yardtide/core/plan"
)

// Doubt is what a plan allows and its keeper hardly meant.
type Doubt struct {
	Says string   `json:"says" doc:"What is so, in a sentence"`
	Todo string   `json:"todo" doc:"What to write in the plan, in a sentence; empty where there is nothing to say"`
	At   []string `json:"at" doc:"The path of the key that mends it, as in an edit of the plan"`
	Idle bool     `json:"idle" doc:"The part of the plan at that path does nothing"`
}

func (d Doubt) String() string { return strings.TrimSuffix(d.Says+" "+d.Todo, " ") }

// Same tells whether two doubts say one thing.
func (d Doubt) Same(o Doubt) bool { return d.String() == o.String() }

// Said is doubts as sentences.
func Said(doubts []Doubt) []string {
	says := make([]string, len(doubts))
	for i, d := range doubts {
		says[i] = d.String()
	}
	return says
}

// doubts collects doubts.
type doubts []Doubt

// add adds one, that is mended at a path.
func (l *doubts) add(at []string, format string, args ...any) *Doubt {
	*l = append(*l, Doubt{Says: fmt.Sprintf(format, args...), At: at})
	return &(*l)[len(*l)-1]
}

// ofRule is the path of a key of a rule.
func ofRule(rule string, keys ...string) []string { return append([]string{"rules", rule}, keys...) }

// ofSource is the path of a key of the nth source of a device.
func ofSource(device string, n int, keys ...string) []string {
	return append([]string{"devices", device, "sources", fmt.Sprint("#", n)}, keys...)
}

// Doubts tells what a plan allows and its keeper hardly meant, each in a sentence with
// what to do, in the order of the plan's names.
func Doubts(p *plan.Plan) []Doubt {
	var list doubts
	if p.Format < 2 {
		for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
			if slices.Contains(p.Rules[name].Take, media.Raw) {
				list.add(ofRule(name, "take"), "Under take of %s, photo means raw files and graphics, too: so it was when the "+
					"plan was written.", name).Todo = "With \"format: 2\" at the top each is a kind of its own (photo, raw, graphic)."
			}
		}
	}
	used, sentTo := map[string]bool{}, map[string]bool{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		alone := map[string][]string{} // folders that go to one place only, by rule
		for n, s := range p.Devices[device].Sources {
			for i, rule := range s.Rules {
				used[rule] = true
				if len(p.Rules[rule].To) == 1 {
					alone[rule] = append(alone[rule], Folder(s.Folder))
				}
				if before, all := takenBefore(p, s.Rules[:i], rule); all {
					list.add(ofSource(device, n, "rules"), "%s does nothing for %s of %s: %s, which stands before it, takes all "+
						"that it would.", rule, Folder(s.Folder), device, before)
				}
			}
		}
		for _, rule := range slices.Sorted(maps.Keys(alone)) {
			list.add(ofRule(rule, "to"), "What is in %s of %s goes to one place only, %s: if that one is lost, so is the copy.",
				And(alone[rule]), device, p.Rules[rule].To[0]).Todo = "Name a second under \"to\" of " + rule + "."
		}
	}
	list = append(list, forgotten(p)...)
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		r := p.Rules[name]
		if !used[name] {
			list.add(ofRule(name), "No source follows the rule %s: it does nothing.", name).Idle = true
		}
		for _, to := range r.To {
			sentTo[to] = true
		}
		list = append(list, forms(p, name, r)...)
		list = append(list, lanes(name, r)...)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		if !sentTo[name] {
			list.add([]string{"destinations", name}, "Nothing goes to %s: no rule sends there.", name).Idle = true
		}
	}
	return list
}

// forms doubts the forms in which a rule's items go.
func forms(p *plan.Plan, name string, r plan.Rule) (list doubts) {
	for _, k := range plan.Reducible {
		if len(r.To) > 0 && slices.Contains(r.Take, k) && !p.Whole(name, k) {
			list.add(ofRule(name, "to", "#0"), "%s of %s go as shot to no place: as they were shot they are on the device alone.",
				upper(k.Plural()), name)
		}
	}
	if withheld := p.Withholds(name); len(withheld) > 0 {
		for _, k := range []media.Kind{media.Photo, media.Raw, media.Graphic, media.Video} {
			if slices.Contains(r.Take, k) && !slices.Contains(withheld, k) {
				list.add(ofRule(name, "to", "#0"), "%s of %s go with all that they tell, the place too: only what its rendition is "+
					"used for leaves it out.", upper(k.Plural()), name)
			}
		}
	}
	if r.Bursts && (!slices.Contains(r.Take, media.Photo) || !slices.Contains(r.Take, media.Video)) {
		list.add(ofRule(name, "take"), "Of shots in a row %s has clips made, and it does not take photos and videos both: "+
			"they go nowhere.", name)
	}
	return list
}

// forgotten tells of kinds that a source's rules leave out and hardly were meant to:
// who takes photos takes clips, and who takes clips photos; raw files are easily
// forgotten.
func forgotten(p *plan.Plan) (list doubts) {
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		for _, s := range p.Devices[device].Sources {
			takes := func(k media.Kind) bool {
				return slices.ContainsFunc(s.Rules, func(rule string) bool { return slices.Contains(p.Rules[rule].Take, k) })
			}
			for _, missing := range []struct{ has, not media.Kind }{{media.Photo, media.Video}, {media.Video, media.Photo},
				{media.Photo, media.Raw}} {
				if takes(missing.has) && !takes(missing.not) {
					list.add(ofRule(s.Rules[len(s.Rules)-1], "take"), "Of %s of %s %s go, and no %s: those go nowhere.",
						Folder(s.Folder), device, missing.has.Plural(), missing.not.Plural())
				}
			}
		}
	}
	return list
}

// takenBefore tells whether rules that stand before one take all that it would.
func takenBefore(p *plan.Plan, before []string, rule string) (name string, all bool) {
	for _, name := range before {
		b := p.Rules[name]
		less := slices.ContainsFunc(p.Rules[rule].Take, func(k media.Kind) bool { return !slices.Contains(b.Take, k) })
		if !less && b.LargerThan == 0 && b.LongerThan == 0 {
			return name, true
		}
	}
	return "", false
}

// leastAllowance is what an allowance must carry at least, in bytes: a picture of a
// telephone.
const leastAllowance = 3_000_000

// lanes tells of a rule's ways that can hardly be meant.
func lanes(name string, r plan.Rule) (list doubts) {
	for i, l := range r.Lanes {
		at := ofRule(name, "lanes", fmt.Sprint("#", i))
		takes := func(k media.Kind) bool { return l.Takes(k) && slices.Contains(r.Take, k) }
		if l.Allowance.Bytes > 0 && l.Send == "" && allowance.Carries(l.Allowance.Bytes) < leastAllowance {
			list.add(append(at, "allowance"), "The allowance of %s over %s, %s, is smaller than most pictures: hardly anything "+
				"can go.", name, l.Over.Label(), Bytes(l.Allowance.Bytes))
		}
		if l.Over == plan.Cellular && l.Allowance.Bytes == 0 && takes(media.Video) {
			list.add(append(at, "allowance"), "%s sends videos over cellular without an allowance: a month's data may go in a "+
				"day.", name)
		}
		for _, before := range r.Lanes[:i] {
			if covers(before, l, r.Take) {
				list.add(at, "The lane of %s %s is never used: what it takes goes by the one before, whenever it could.", name,
					Lane(l)).Idle = true
				break
			}
		}
	}
	for _, k := range r.Take {
		if !slices.ContainsFunc(r.Lanes, func(l plan.Lane) bool { return l.Takes(k) && l.Carries(plan.Main) }) {
			list.add(ofRule(name, "lanes", "#0", "take"), "%s takes %s, and none of its lanes carries them: they wait for ever.",
				name, k.Plural())
		}
	}
	return list
}

// covers tells whether a lane is open whenever another is, for all that the other
// carries.
func covers(a, b plan.Lane, take []media.Kind) bool {
	over := a.Over == b.Over || a.Over == plan.WiFi && b.Over == plan.Wired
	kinds := !slices.ContainsFunc(take, func(k media.Kind) bool { return b.Takes(k) && !a.Takes(k) })
	open := a.Gates.Power == plan.Power{} && len(a.Gates.Hours) == 0 && a.Gates.Idle == plan.IdleUnset &&
		!b.Gates.NoPower && !b.Gates.NoHours && b.Gates.Idle != plan.MayBeUsed
	return over && kinds && open && a.Send == b.Send && a.Allowance.Bytes == 0 && (a.Metered || !b.Metered) &&
		(a.Roaming || !b.Roaming)
}

// SameDisk doubts that a place is safe which lies on the disk of what goes there, by a rule.
func SameDisk(destination, source, device, rule string) Doubt {
	return Doubt{Says: fmt.Sprintf("%s lies on the same disk as %s of %s: if that disk fails, both are lost.", destination,
		Folder(source), device), At: ofRule(rule, "to")}
}

// NoFFmpeg doubts that the clips of a rule go smaller from a device that lacks the program for it.
func NoFFmpeg(device, rule string) Doubt {
	return Doubt{Says: fmt.Sprintf("ffmpeg is not installed on %s: the clips of %s go as shot.", device, rule),
		At: ofRule(rule, "to", "#0")}
}

// NoModem doubts a lane over cellular, the nth of a rule, on a device that has no modem. It does nothing
// where nobody else follows the rule.
func NoModem(device, rule string, lane int, alone bool) Doubt {
	return Doubt{Says: fmt.Sprintf("%s has no modem: its lane over cellular in %s never opens.", device, rule),
		At: ofRule(rule, "lanes", fmt.Sprint("#", lane)), Idle: alone}
}

// NoneFits doubts an allowance of a rule's nth lane into which not even the smallest that waits fits.
func NoneFits(kind media.Kind, device, rule string, lane int, over plan.Network, smallest, allowance int64) Doubt {
	return Doubt{Says: fmt.Sprintf("The smallest of the %s that wait on %s is %s: none fits into the allowance of %s over "+
		"%s, %s.", kind.Plural(), device, Bytes(smallest), rule, over.Label(), Bytes(allowance)),
		At: ofRule(rule, "lanes", fmt.Sprint("#", lane), "allowance")}
}

package words

import (
	"fmt"
	"maps"
	"slices"

	"yardtide/core/allowance"
	"yardtide/core/media"
	"yardtide/core/plan"
)

// Doubts tells what a plan allows and its keeper hardly meant, each in a sentence with
// what to do, in the order of the plan's names.
func Doubts(p *plan.Plan) []string {
	var says []string
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	if p.Format < 2 {
		for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
			if slices.Contains(p.Rules[name].Take, media.Raw) {
				add("Under take of %s, photo means raw files and graphics, too: so it was when the plan was written. With "+
					"\"format: 2\" at the top each is a kind of its own (photo, raw, graphic).", name)
			}
		}
	}
	used, sentTo := map[string]bool{}, map[string]bool{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		alone := map[string][]string{} // folders that go to one place only, by rule
		for _, s := range p.Devices[device].Sources {
			for i, rule := range s.Rules {
				used[rule] = true
				if len(p.Rules[rule].To) == 1 {
					alone[rule] = append(alone[rule], Folder(s.Folder))
				}
				if before, all := takenBefore(p, s.Rules[:i], rule); all {
					add("%s does nothing for %s of %s: %s, which stands before it, takes all that it would.", rule, Folder(s.Folder), device,
						before)
				}
			}
		}
		for _, rule := range slices.Sorted(maps.Keys(alone)) {
			add("What is in %s of %s goes to one place only, %s: if that one is lost, so is the copy. Name a second under "+
				"\"to\" of %s.", And(alone[rule]), device, p.Rules[rule].To[0], rule)
		}
	}
	says = append(says, forgotten(p)...)
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		r := p.Rules[name]
		if !used[name] {
			add("No source follows the rule %s: it does nothing.", name)
		}
		for _, to := range r.To {
			sentTo[to] = true
		}
		for _, k := range plan.Reducible {
			if len(r.To) > 0 && slices.Contains(r.Take, k) && !p.Whole(name, k) {
				add("%s of %s go as shot to no place: as they were shot they are on the device alone.", upper(k.Plural()), name)
			}
		}
		if withheld := p.Withholds(name); len(withheld) > 0 {
			for _, k := range []media.Kind{media.Photo, media.Raw, media.Graphic, media.Video} {
				if slices.Contains(r.Take, k) && !slices.Contains(withheld, k) {
					add("%s of %s go with all that they tell, the place too: only what its rendition is used for leaves it out.",
						upper(k.Plural()), name)
				}
			}
		}
		if r.Bursts && (!slices.Contains(r.Take, media.Photo) || !slices.Contains(r.Take, media.Video)) {
			add("Of shots in a row %s has clips made, and it does not take photos and videos both: they go nowhere.", name)
		}
		says = append(says, lanes(name, r)...)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		if !sentTo[name] {
			add("Nothing goes to %s: no rule names it under \"to\".", name)
		}
	}
	return says
}

// forgotten tells of kinds that a source's rules leave out and hardly were meant to:
// who takes photos takes clips, and who takes clips photos; raw files are easily
// forgotten.
func forgotten(p *plan.Plan) (says []string) {
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		for _, s := range p.Devices[device].Sources {
			takes := func(k media.Kind) bool {
				return slices.ContainsFunc(s.Rules, func(rule string) bool { return slices.Contains(p.Rules[rule].Take, k) })
			}
			for _, missing := range []struct{ has, not media.Kind }{{media.Photo, media.Video}, {media.Video, media.Photo},
				{media.Photo, media.Raw}} {
				if takes(missing.has) && !takes(missing.not) {
					says = append(says, fmt.Sprintf("Of %s of %s %s go, and no %s: those go nowhere.", s.Folder, device,
						missing.has.Plural(), missing.not.Plural()))
				}
			}
		}
	}
	return says
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
func lanes(name string, r plan.Rule) (says []string) {
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	for i, l := range r.Lanes {
		takes := func(k media.Kind) bool { return l.Takes(k) && slices.Contains(r.Take, k) }
		if l.Allowance.Bytes > 0 && l.Send == "" && allowance.Carries(l.Allowance.Bytes) < leastAllowance {
			add("The allowance of %s over %s, %s, is smaller than most pictures: hardly anything can go.", name, l.Over.Label(),
				Bytes(l.Allowance.Bytes))
		}
		if l.Over == plan.Cellular && l.Allowance.Bytes == 0 && takes(media.Video) {
			add("%s sends videos over cellular without an allowance: a month's data may go in a day.", name)
		}
		for _, before := range r.Lanes[:i] {
			if covers(before, l, r.Take) {
				add("The lane of %s %s is never used: what it takes goes by the one before, whenever it could.", name, Lane(l))
				break
			}
		}
	}
	for _, k := range r.Take {
		if !slices.ContainsFunc(r.Lanes, func(l plan.Lane) bool { return l.Takes(k) && l.Carries(plan.Main) }) {
			add("%s takes %s, and none of its lanes carries them: they wait for ever.", name, k.Plural())
		}
	}
	return says
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

// SameDisk doubts that a place is safe which lies on the disk of what goes there.
func SameDisk(destination, source, device string) string {
	return fmt.Sprintf("%s lies on the same disk as %s of %s: if that disk fails, both are lost.", destination, Folder(source),
		device)
}

// NoFFmpeg doubts that the clips of a rule go smaller from a device that lacks the program for it.
func NoFFmpeg(device, rule string) string {
	return fmt.Sprintf("ffmpeg is not installed on %s: the clips of %s go as shot.", device, rule)
}

// NoModem doubts a lane over cellular of a device that has no modem.
func NoModem(device, rule string) string {
	return fmt.Sprintf("%s has no modem: its lane over cellular in %s never opens.", device, rule)
}

// NoneFits doubts an allowance into which not even the smallest that waits fits.
func NoneFits(kind media.Kind, device, rule string, over plan.Network, smallest, allowance int64) string {
	return fmt.Sprintf("The smallest of the %s that wait on %s is %s: none fits into the allowance of %s over %s, %s.",
		kind.Plural(), device, Bytes(smallest), rule, over.Label(), Bytes(allowance))
}

// Package sentences tells a plan in words: what a rule does, and what changed from one
// plan to the next. Who reads only its sentences knows what will happen.
package words

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// formAt tells in which form what follows a rule goes to a place.
func formAt(r plan.Rule, place string) string {
	switch {
	case r.As[place] != "":
		return plan.InForm(r.As[place])
	case len(r.Send) > 0:
		return "in the forms that the rule sends"
	}
	return plan.AsShot
}

// companions tells which parts go with what a rule takes.
func companions(list []media.Companion) string {
	if slices.Contains(list, plan.NoCompanion) {
		return "no other files of theirs"
	}
	words := make([]string, len(list))
	for i, c := range list {
		words[i] = map[media.Companion]string{media.RawBeside: "their raw files", media.ClipBeside: "the clips of stills",
			media.Sidecar: "their sidecars"}[c]
	}
	return And(words)
}

// marked tells which items carry a mark: "rated 4 or better".
func marked(m plan.Mark) string {
	switch {
	case m.Captioned:
		return "captioned"
	case m.Rated == 5:
		return "rated 5"
	case m.Rated > 0:
		return fmt.Sprintf("rated %d or better", m.Rated)
	case m.Marked:
		return "marked by you"
	case m.Set != "":
		return fmt.Sprintf("in your set %q", m.Set)
	}
	return fmt.Sprintf("marked %q", m.Keyword)
}

func kinds(list []media.Kind) string {
	if len(list) == len(media.Kinds) {
		return string(media.Everything)
	}
	var words []string
	pictures := !slices.ContainsFunc(media.Pictures, func(k media.Kind) bool { return !slices.Contains(list, k) })
	if pictures {
		words = append(words, "pictures")
	}
	for _, k := range list {
		if !pictures || !slices.Contains(media.Pictures, k) {
			words = append(words, k.Plural())
		}
	}
	return And(words)
}

// Follows tells which rules a source follows, and what of it is taken up: "by bench;
// *.tmp is left out".
func Follows(s plan.Source) string {
	by := s.Rules
	says := "by " + strings.Join(by, ", then ")
	var notes []string
	note := func(some bool, format string, args ...any) {
		if some {
			notes = append(notes, fmt.Sprintf(format, args...))
		}
	}
	note(len(s.Only) > 0, "only %s", And(s.Only))
	note(len(s.LeaveOut) > 0, "not %s", And(s.LeaveOut))
	if len(s.OriginalsOnly) > 0 {
		libraries := slices.Clone(s.OriginalsOnly)
		for i, one := range libraries {
			if one == "." {
				libraries[i] = s.Folder
			}
		}
		note(true, "only the originals of %s", And(libraries))
	}
	note(s.Hidden, "hidden files, too")
	note(s.Smallest > 0, "from %s", Bytes(int64(s.Smallest)))
	note(s.Largest > 0, "up to %s", Bytes(int64(s.Largest)))
	note(s.TakenFrom != "", "taken from %s on", s.TakenFrom)
	note(s.TakenUntil != "", "taken until %s", s.TakenUntil)
	note(s.NewSince != "", "new since %s", s.NewSince)
	if len(notes) > 0 {
		says += "; " + strings.Join(notes, ", ")
	}
	return says
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Changes tells what changed from one plan to the next, each in a sentence; none when
// they mean the same. Before may be nil, where there was none.
func Changes(before, after *plan.Plan) []string {
	if before == nil {
		before = &plan.Plan{}
	}
	var says []string
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	if before.Yard != after.Yard {
		add("The yard is called %s.", after.Yard)
	}
	if before.Timezone != after.Timezone {
		add("Hours and periods are those of %s.", after.Timezone)
	}
	list := func(what string, was, is []string) {
		if slices.Equal(was, is) {
			return
		}
		if len(is) == 0 {
			add("%s: none any more.", what)
			return
		}
		add("%s: %s.", what, And(is))
	}
	list("The networks at home", before.HomeNetworks, after.HomeNetworks)
	list("People", before.People, after.People)
	if before.SilentAfterOrDefault() != after.SilentAfterOrDefault() {
		add("You are told of a device that is silent for %s.", cmp.Or(after.SilentAfter, plan.DefaultSilentAfter))
	}
	each(before.Destinations, after.Destinations, func(name string, was, is *plan.Destination) {
		switch {
		case was == nil:
			add("%s is a new destination: %s, %s.", name, is.Kind, is.Where())
		case is == nil:
			add("%s is no longer a destination; what is stored there stays.", name)
		default:
			says = append(says, destination(name, *was, *is)...)
		}
	})
	says = append(says, renditions(before, after)...)
	says = append(says, devices(before, after)...)
	each(before.Rules, after.Rules, func(name string, was, is *plan.Rule) {
		switch {
		case was == nil:
			add("%s is a new rule: %s", name, Rule(*is))
		case is == nil:
			add("The rule %s is gone.", name)
		default:
			says = append(says, rule(name, *was, *is)...)
		}
	})
	return says
}

// renditions tells what changed in the renditions.
func renditions(before, after *plan.Plan) (says []string) {
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	each(before.Renditions, after.Renditions, func(name string, was, is *plan.Rendition) {
		switch {
		case was == nil:
			add("%s is a new rendition: %s.", name, is)
		case is == nil:
			add("%s is no longer a rendition.", name)
		default:
			add("%s is %s, and was %s; what was sent stays as it is.", name, is, was)
		}
	})
	return says
}

// devices tells what changed of the devices.
func devices(before, after *plan.Plan) (says []string) {
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	had := maps.Clone(before.Devices)
	for name, was := range before.Devices {
		if to := renamed(name, was, before, after); to != "" {
			add("%s is called %s.", name, to)
			had[to] = was
			delete(had, name)
		}
	}
	each(had, after.Devices, func(name string, was, is *plan.Device) {
		switch {
		case is == nil:
			add("%s is no longer in the plan.", name)
		case was == nil:
			add("%s is a new device.", name)
			was = &plan.Device{}
			fallthrough
		default:
			says = append(says, device(name, *was, *is)...)
		}
	})
	return says
}

// renamed is the name of the only new device that is all that one was which is gone, ""
// when there is none.
func renamed(name string, was plan.Device, before, after *plan.Plan) string {
	if _, stays := after.Devices[name]; stays {
		return ""
	}
	is := ""
	for other, d := range after.Devices {
		if _, old := before.Devices[other]; old || !reflect.DeepEqual(d, was) {
			continue
		}
		if is != "" {
			return ""
		}
		is = other
	}
	for other, d := range before.Devices {
		if _, stays := after.Devices[other]; !stays && other != name && reflect.DeepEqual(d, was) {
			return "" // it may be either's
		}
	}
	return is
}

// each goes through what is in either of two, by name, where it differs.
func each[T any](before, after map[string]T, tell func(name string, was, is *T)) {
	names := slices.AppendSeq(slices.Collect(maps.Keys(before)), maps.Keys(after))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		var was, is *T
		if v, there := before[name]; there {
			was = &v
		}
		if v, there := after[name]; there {
			is = &v
		}
		if was == nil || is == nil || !reflect.DeepEqual(*was, *is) {
			tell(name, was, is)
		}
	}
}

func destination(name string, was, is plan.Destination) (says []string) {
	if was.Where() != is.Where() {
		says = append(says, fmt.Sprintf("%s stands for %s, and for %s before.", name, is.Where(), was.Where()))
	}
	for _, f := range []struct{ what, was, is string }{
		{"room that is never filled", size(was.KeepFree), size(is.KeepFree)},
		{"size", size(was.Size), size(is.Size)},
		{"layout", cmp.Or(was.Layout, plan.DefaultLayout), cmp.Or(is.Layout, plan.DefaultLayout)},
		{"number of senders", fmt.Sprint(was.SendersOrDefault()), fmt.Sprint(is.SendersOrDefault())},
	} {
		if f.was != f.is {
			says = append(says, fmt.Sprintf("The %s of %s is %s, and was %s.", f.what, name, f.is, f.was))
		}
	}
	// What it is reached with is told without its value.
	was.Senders, was.KeepFree, was.Size, was.Layout = is.Senders, is.KeepFree, is.Size, is.Layout
	if was != is && was.Where() == is.Where() {
		says = append(says, fmt.Sprintf("%s is reached with another key, password, certificate or spelling of its address.",
			name))
	}
	return says
}

func size(n plan.Size) string {
	if n == 0 {
		return "none"
	}
	return Bytes(int64(n))
}

// Device is how fast a device sends and whose hours it keeps, as the words after its name.
func Device(d plan.Device) string {
	return pace(d.Limit) + "; its hours are those of " + cmp.Or(d.Timezone, "the yard")
}

func pace(l plan.Limits) string {
	if len(l) == 0 {
		return "sends without a limit"
	}
	return "sends no faster than " + limits(l)
}

func device(name string, was, is plan.Device) (says []string) {
	if was.Timezone != is.Timezone {
		says = append(says, fmt.Sprintf("Hours and periods of %s are those of %s.", name, cmp.Or(is.Timezone, "the yard")))
	}
	if !reflect.DeepEqual(was.Limit, is.Limit) {
		says = append(says, name+" "+pace(is.Limit)+".")
	}
	if was.Person != is.Person {
		says = append(says, fmt.Sprintf("%s is %s.", name,
			map[bool]string{true: is.Person + "'s", false: "nobody's in particular"}[is.Person != ""]))
	}
	if was.UnknownNetwork != is.UnknownNetwork {
		says = append(says, map[bool]string{true: "Where " + name +
			" cannot tell its network, it counts as a Wi-Fi that costs nothing.", false: "Where " + name +
			" cannot tell its network, nothing goes over it."}[is.UnknownNetwork != ""])
	}
	if was.Awake != is.Awake || !reflect.DeepEqual(was.AwakeWhen, is.AwakeWhen) {
		says = append(says, map[bool]string{true: name + " is kept awake while something is sent" +
			conditions(is.AwakeWhen) + ".", false: name + " may sleep while something is sent."}[is.Awake != ""])
	}
	if was.InFrontOnly != is.InFrontOnly {
		says = append(says, map[bool]string{true: name + " works only while its program is open.",
			false: name + " works also while its program is not open."}[is.InFrontOnly])
	}
	sources := func(d plan.Device) map[string]string {
		m := map[string]string{}
		for _, s := range d.Sources {
			m[s.Folder] = Follows(s)
		}
		return m
	}
	each(sources(was), sources(is), func(folder string, before, now *string) {
		switch {
		case before == nil:
			says = append(says, fmt.Sprintf("%s of %s is taken up, %s.", folder, name, *now))
		case now == nil:
			says = append(says, fmt.Sprintf("%s of %s is no longer taken up; what is stored of it stays.", folder, name))
		default:
			says = append(says, fmt.Sprintf("%s of %s goes %s; before, %s.", folder, name, *now, *before))
		}
	})
	each(was.Rules, is.Rules, func(rule string, _, now *plan.Override) {
		if now == nil {
			says = append(says, fmt.Sprintf("%s follows %s as it is.", name, rule))
		} else {
			says = append(says, fmt.Sprintf("%s has of its own in %s: %s.", name, rule, Override(*now)))
		}
	})
	return says
}

// Override tells what a device has otherwise than a rule says.
func Override(o plan.Override) string {
	var s sentence
	s.lanes(o.Lanes)
	s.conditions(o.Gates)
	return strings.TrimPrefix(s.String(), ", ")
}

func limits(list plan.Limits) string {
	parts := make([]string, len(list))
	for i, l := range list {
		parts[i] = Bytes(l.Rate) + "/s"
		if len(l.At) > 0 {
			parts[i] += " at " + l.At.String()
		}
	}
	return strings.Join(parts, ", else ")
}

func rule(name string, was, is plan.Rule) (says []string) {
	more, less := differ(was.Take, is.Take)
	if len(more) > 0 {
		says = append(says, fmt.Sprintf("%s also takes %s.", name, kinds(more)))
	}
	if len(less) > 0 {
		says = append(says, fmt.Sprintf("%s no longer takes %s.", name, kinds(less)))
	}
	to, no := differ(was.To, is.To)
	if len(to) > 0 {
		says = append(says, fmt.Sprintf("What follows %s also goes to %s.", name, And(plan.Rule{To: to, As: is.As}.Places())))
	}
	if len(no) > 0 {
		says = append(says, fmt.Sprintf("What follows %s no longer goes to %s; what is stored there stays.", name,
			And(no)))
	}
	for _, place := range is.To {
		if before, now := formAt(was, place), formAt(is, place); slices.Contains(was.To, place) && before != now {
			says = append(says, fmt.Sprintf("What follows %s goes to %s %s from now on; what is stored there stays.", name,
				place, now))
		}
	}
	was.Take, was.To, was.As = is.Take, is.To, is.As
	if len(says) == 0 || Rule(was) != Rule(is) {
		says = append(says, fmt.Sprintf("%s: %s", name, Rule(is)))
	}
	return says
}

// differ tells what is in the second list only, and in the first only.
func differ[T comparable](before, after []T) (more, less []T) {
	for _, v := range after {
		if !slices.Contains(before, v) {
			more = append(more, v)
		}
	}
	for _, v := range before {
		if !slices.Contains(after, v) {
			less = append(less, v)
		}
	}
	return more, less
}

package plan

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yardtide/core/media"
)

// RuleChange is what of a rule is to be otherwise; nil stays as it is. Texts
// are written as in the plan, "" sets none.
type RuleChange struct {
	Take []media.Kind
	// Send names the rendition of kinds that are sent otherwise than before, "" for as shot.
	Send           map[media.Kind]string
	Larger, Longer *string
	To             []string
	Power          *string
	Hours          *string
	Order          *Order
	Idle           *bool // only while nobody uses the device
	Unused, Rest   *string
	Screen, Saver  *string // "off"
	StoreEach      *bool
	Previews       *string // a rendition, "" for none
	Also           *[]Also
	OnClash        *Clash
	Bursts         *bool
	Companions     *[]media.Companion // nil in it for those whose kind the rule takes
	Lanes          []Lane             // all of them; a lane that stays at its place keeps the gates that it has
}

// lanesOtherwise writes the lanes of a rule as they are to be: first those are taken out
// that are gone, each by its place when its turn comes; what stays of have keeps its
// place, its comments and its gates.
func lanesOtherwise(text, rule string, gone []int, have, want []Lane) (string, error) {
	path := func(more ...string) []string { return append([]string{"rules", rule, "lanes"}, more...) }
	edit := func(change func(e sourceEdit) (string, error)) (string, error) {
		list, err := listAt(text, path()...)
		if err != nil {
			return "", errRuleByHand
		}
		return change(sourceEdit{text, strings.Split(text, "\n"), list})
	}
	var err error
	for _, n := range gone {
		if text, err = edit(func(e sourceEdit) (string, error) { return e.remove(n) }); err != nil {
			return "", err
		}
	}
	for i, lane := range want {
		if i >= len(have) {
			if text, err = edit(func(e sourceEdit) (string, error) { return e.append(lane.written()) }); err != nil {
				return "", err
			}
			continue
		}
		was := have[i].fields()
		for k, f := range lane.fields() {
			if f[1] == was[k][1] {
				continue
			}
			if text, err = setValue(text, path(fmt.Sprintf("#%d", i), f[0]), f[1]); err != nil {
				return "", err
			}
		}
	}
	return text, nil
}

// stay tells which lanes are taken out where fewer are wanted, each by its place when its
// turn comes, and those that stay: the first that is not over the network of the one
// that is wanted at its place goes.
func stay(have, want []Lane) (gone []int, left []Lane) {
	for left = slices.Clone(have); len(left) > len(want); {
		n := len(left) - 1
		for i := range want {
			if left[i].Over != want[i].Over {
				n = i
				break
			}
		}
		gone, left = append(gone, n), slices.Delete(left, n, n+1)
	}
	return gone, left
}

// OverrideChange is what a device has otherwise than a rule says; nil stays as it is.
type OverrideChange struct {
	Lanes *[]Lane // in place of the rule's; none of its own when it is empty
	// Power and hours are written as in the plan; "any" sets the rule's aside, "" leaves
	// the rule's. Idle is "true", "false" or "", in the same way.
	Power, Hours, Idle *string
}

// WithOverride changes what a device has otherwise than a rule says; what is not touched
// stays byte for byte. The error is an EditError, or Problems.
func WithOverride(text, device, rule string, c OverrideChange) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	d, there := before.Devices[device]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no device %q", device)}
	}
	if _, there := before.Rules[rule]; !there {
		return "", EditError{fmt.Sprintf("the plan has no rule %q", rule)}
	}
	want := d.Rules[rule]
	if c.Lanes != nil {
		want.Lanes = slices.Clone(*c.Lanes)
		for i := range want.Lanes {
			want.Lanes[i].Take = inOrder(want.Lanes[i].Take)
		}
		if len(want.Lanes) == 0 {
			want.Lanes = nil
		}
	}
	if c.Power != nil {
		want.Gates.NoPower = *c.Power == "any"
		if want.Gates.Power, err = orNone(strings.TrimPrefix(*c.Power, "any"), ParsePower); err != nil {
			return "", EditError{err.Error()}
		}
	}
	if c.Hours != nil {
		want.Gates.NoHours = *c.Hours == "any"
		if want.Gates.Hours, err = orNone(strings.TrimPrefix(*c.Hours, "any"), ParseHours); err != nil {
			return "", EditError{err.Error()}
		}
	}
	if c.Idle != nil {
		idle, known := map[string]Idle{"true": MustBeIdle, "false": MayBeUsed, "": IdleUnset}[*c.Idle]
		if !known {
			return "", EditError{fmt.Sprintf("idle is %q; it would be true, false or empty", *c.Idle)}
		}
		want.Gates.Idle = idle
	}
	written := want.written()
	own := maps.Clone(d.Rules)
	after, path := text, []string{"devices", device, "rules", rule}
	switch {
	case reflect.DeepEqual(want, d.Rules[rule]):
		return text, nil
	case written == "" && len(own) == 1: // nothing of its own is left
		own, path = nil, path[:3]
		after, err = setValue(text, path, "")
	case written == "":
		delete(own, rule)
		after, err = setValue(text, path, "")
	default:
		if own == nil {
			own = map[string]Override{}
		}
		own[rule] = want
		if _, had := d.Rules[rule]; had { // written anew, as one
			if after, err = setValue(text, path, ""); err != nil && len(d.Rules) == 1 {
				after, err = setValue(text, path[:3], "")
			}
			if err != nil {
				return "", err
			}
		}
		after, err = setValue(after, path, written)
	}
	if err != nil {
		return "", err
	}
	d.Rules = own
	before.Devices[device] = d
	return after, agrees(after, before, errRuleByHand)
}

// written is what a device has of a rule otherwise, as a plan has it, on one line; "" for
// nothing.
func (o Override) written() string {
	lanes := ""
	if len(o.Lanes) > 0 {
		lanes = writtenLanes(o.Lanes)
	}
	return flowMap([][2]string{{"lanes", lanes}, {"gates", o.Gates.written()}})
}

// written is a rule as a plan has it, on one line.
func (r Rule) written() string {
	return flowMap([][2]string{
		{"take", writtenKinds(r.Take)}, {"send", writtenSend(r.Send)}, {"to", flowList(r.To)}, {"lanes", writtenLanes(r.Lanes)}, {"larger-than", r.LargerThan.String()}, {"longer-than", r.LongerThan.String()},
		{"gates", r.Gates.written()}, {"order", string(r.Order)}, {"store-each", trueOrNone(r.StoreEach)},
		{"previews", r.Previews}, {"also", writtenAlso(r.Also)}, {"on-clash", string(r.OnClash)}, {"companions", writtenCompanions(r.Companions)}, {"bursts", trueOrNone(r.Bursts)},
	})
}

// flowMap writes the keys that say something on one line; "" for none.
func flowMap(fields [][2]string) string {
	var said []string
	for _, f := range fields {
		if f[1] != "" {
			said = append(said, f[0]+": "+f[1])
		}
	}
	if len(said) == 0 {
		return ""
	}
	return "{" + strings.Join(said, ", ") + "}"
}

// fields are a lane as a plan has it, key by key, without its gates; "" where it says
// nothing.
func (l Lane) fields() [][2]string {
	yes := trueOrNone
	take, allowance := "", ""
	if len(l.Take) > 0 {
		take = writtenKinds(l.Take)
	}
	if l.Allowance.Bytes > 0 {
		allowance = l.Allowance.String()
	}
	return [][2]string{{"over", string(l.Over)}, {"take", take}, {"allowance", allowance}, {"metered", yes(l.Metered)}, {"roaming", yes(l.Roaming)},
		{"roaming-allowance", l.RoamingAllowance.String()}, {"metered-wifi", yes(l.MeteredWiFi)}, {"named", listOrNone(l.Named)}, {"not-named", listOrNone(l.NotNamed)}, {"home-only", yes(l.HomeOnly)}, {"send", l.Send}}
}

// written is a lane as a plan has it, on one line.
func (l Lane) written() string {
	return flowMap(append(l.fields(), [2]string{"gates", l.Gates.written()}))
}

// writtenLanes are lanes as a plan has them, on one line.
func writtenLanes(lanes []Lane) string {
	list := make([]string, len(lanes))
	for i, l := range lanes {
		list[i] = l.written()
	}
	return "[" + strings.Join(list, ", ") + "]"
}

// written are gates as a plan has them, on one line; "" for none.
func (g Gates) written() string {
	var fields []string
	add := func(some bool, key, value string) {
		if some {
			fields = append(fields, key+": "+value)
		}
	}
	add(g.NoPower, "power", "any")
	add(g.Power != Power{}, "power", g.Power.String())
	add(g.NoHours, "hours", "any")
	add(len(g.Hours) > 0, "hours", `"`+g.Hours.String()+`"`)
	add(g.NoUnused, "unused-for", "any")
	add(g.Unused > 0, "unused-for", g.Unused.String())
	add(g.NoRest, "rest", "any")
	add(g.Rest > 0, "rest", g.Rest.String())
	add(g.Screen != "", "screen", `"`+string(g.Screen)+`"`)
	add(g.Saver != "", "battery-saver", `"`+string(g.Saver)+`"`)
	add(g.Idle != IdleUnset, "idle", strconv.FormatBool(g.Idle == MustBeIdle))
	if len(fields) == 0 {
		return ""
	}
	return "{" + strings.Join(fields, ", ") + "}"
}

// WithNewRule adds a rule to a plan's text; the rest stays byte for byte. The error is
// an EditError, or Problems where the plan would have mistakes.
func WithNewRule(text, name string, r Rule) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	switch _, there := before.Rules[name]; {
	case there:
		return "", EditError{fmt.Sprintf("the plan has a rule %q already", name)}
	case !IsName(name):
		return "", EditError{fmt.Sprintf("%q cannot be the name of a rule; it would be letters, digits, dots and dashes, at most 63", name)}
	}
	if text, err = withFormat2(text, before); err != nil {
		return "", err
	}
	r.Take = inOrder(r.Take)
	after, err := setValue(text, []string{"rules", name}, r.written())
	if err != nil {
		return "", err
	}
	before.Rules[name] = r
	return after, agrees(after, before, errRuleByHand)
}

// WithoutRule takes a rule out of a plan's text that nobody follows; the rest stays
// byte for byte. The error is an EditError, or Problems.
func WithoutRule(text, name string) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	if _, there := before.Rules[name]; !there {
		return "", EditError{fmt.Sprintf("the plan has no rule %q", name)}
	}
	for _, device := range keys(before.Devices) {
		for _, s := range before.Devices[device].Sources {
			if slices.Contains(s.Rules, name) {
				return "", EditError{fmt.Sprintf("%s of %s follows %s; let it follow another first", s.Folder, device, name)}
			}
		}
		if _, own := before.Devices[device].Rules[name]; own {
			return "", EditError{fmt.Sprintf("%s has lanes or gates of its own for %s; take them out of the text first", device, name)}
		}
	}
	if len(before.Rules) == 1 {
		return "", EditError{name + " is the only rule; a plan needs one"}
	}
	after, err := setValue(text, []string{"rules", name}, "")
	if err != nil {
		return "", err
	}
	delete(before.Rules, name)
	return after, agrees(after, before, errRuleByHand)
}

// ruleKey is a key of a rule that an edit may change.
type ruleKey struct {
	path []string
	// set gives a rule what a change asks of the key; value is how the plan has it then, "" takes the
	// key out. changed is false where nothing is asked, or the rule has it already.
	set func(c RuleChange, r *Rule) (value string, changed bool, err error)
}

// said is a key that a change says as the plan does.
func said[T fmt.Stringer](asked func(RuleChange) *string, of func(*Rule) *T, parse func(string) (T, error), write func(string) string, path ...string) ruleKey {
	return ruleKey{path, func(c RuleChange, r *Rule) (string, bool, error) {
		text, is := asked(c), of(r)
		if text == nil || *text == (*is).String() {
			return "", false, nil
		}
		want, err := orNone(*text, parse)
		if err != nil {
			return "", false, EditError{err.Error()}
		}
		*is = want
		return write(*text), true, nil
	}}
}

// valued is a key whose value a change has.
func valued[T comparable](asked func(RuleChange) *T, of func(*Rule) *T, write func(T) string, path ...string) ruleKey {
	return ruleKey{path, func(c RuleChange, r *Rule) (string, bool, error) {
		want, is := asked(c), of(r)
		if want == nil || *want == *is {
			return "", false, nil
		}
		*is = *want
		return write(*want), true, nil
	}}
}

// listed is a key whose list a change has, all of it.
func listed[T comparable](asked func(RuleChange) *[]T, of func(*Rule) *[]T, write func([]T) string, path ...string) ruleKey {
	return ruleKey{path, func(c RuleChange, r *Rule) (string, bool, error) {
		want, is := asked(c), of(r)
		if want == nil || slices.Equal(*want, *is) {
			return "", false, nil
		}
		if *is = slices.Clone(*want); len(*is) == 0 {
			*is = nil
		}
		return write(*is), true, nil
	}}
}

// dark is a key that is off, or says nothing.
func dark(asked func(RuleChange) *string, of func(*Rule) *Switch, path ...string) ruleKey {
	return ruleKey{path, func(c RuleChange, r *Rule) (string, bool, error) {
		want, is := asked(c), of(r)
		switch {
		case want == nil || *want == string(*is):
			return "", false, nil
		case *want != "" && Switch(*want) != MustBeOff:
			return "", false, EditError{fmt.Sprintf("%s is %q; it would be off, or empty", path[len(path)-1], *want)}
		}
		*is = Switch(*want)
		return quotedOrNone(*want), true, nil
	}}
}

// idleKey is whether nobody may use the device: a change says yes or no, the plan has three words.
func idleKey() ruleKey {
	return ruleKey{[]string{"gates", "idle"}, func(c RuleChange, r *Rule) (string, bool, error) {
		if c.Idle == nil || *c.Idle == (r.Gates.Idle == MustBeIdle) {
			return "", false, nil
		}
		r.Gates.Idle = IdleUnset
		if *c.Idle {
			r.Gates.Idle = MustBeIdle
		}
		return trueOrNone(*c.Idle), true, nil
	}}
}

// ruleKeys are the keys of a rule that an edit changes each by itself, in the order in which new
// ones are written. What a rule takes, in which form it sends and its lanes are not among them.
func ruleKeys() []ruleKey {
	as := func(text string) string { return text }
	return []ruleKey{
		said(func(c RuleChange) *string { return c.Larger }, func(r *Rule) *Size { return &r.LargerThan }, ParseSize, as, "larger-than"),
		said(func(c RuleChange) *string { return c.Longer }, func(r *Rule) *Minutes { return &r.LongerThan }, ParseMinutes, as, "longer-than"),
		listed(func(c RuleChange) *[]string { return notNil(c.To) }, func(r *Rule) *[]string { return &r.To }, flowList, "to"),
		said(func(c RuleChange) *string { return c.Power }, func(r *Rule) *Power { return &r.Gates.Power }, ParsePower, as, "gates", "power"),
		said(func(c RuleChange) *string { return c.Hours }, func(r *Rule) *Hours { return &r.Gates.Hours }, ParseHours, quotedOrNone, "gates", "hours"),
		valued(func(c RuleChange) *Order { return c.Order }, func(r *Rule) *Order { return &r.Order }, func(o Order) string { return string(o) }, "order"),
		idleKey(),
		said(func(c RuleChange) *string { return c.Unused }, func(r *Rule) *Minutes { return &r.Gates.Unused }, ParseMinutes, as, "gates", "unused-for"),
		said(func(c RuleChange) *string { return c.Rest }, func(r *Rule) *Minutes { return &r.Gates.Rest }, ParseMinutes, as, "gates", "rest"),
		dark(func(c RuleChange) *string { return c.Screen }, func(r *Rule) *Switch { return &r.Gates.Screen }, "gates", "screen"),
		dark(func(c RuleChange) *string { return c.Saver }, func(r *Rule) *Switch { return &r.Gates.Saver }, "gates", "battery-saver"),
		valued(func(c RuleChange) *bool { return c.StoreEach }, func(r *Rule) *bool { return &r.StoreEach }, trueOrNone, "store-each"),
		valued(func(c RuleChange) *string { return c.Previews }, func(r *Rule) *string { return &r.Previews }, as, "previews"),
		listed(func(c RuleChange) *[]Also { return c.Also }, func(r *Rule) *[]Also { return &r.Also }, writtenAlso, "also"),
		valued(func(c RuleChange) *Clash { return c.OnClash }, func(r *Rule) *Clash { return &r.OnClash }, func(o Clash) string { return string(o) }, "on-clash"),
		valued(func(c RuleChange) *bool { return c.Bursts }, func(r *Rule) *bool { return &r.Bursts }, trueOrNone, "bursts"),
		listed(func(c RuleChange) *[]media.Companion { return c.Companions }, func(r *Rule) *[]media.Companion { return &r.Companions }, writtenCompanions, "companions"),
	}
}

// notNil is a list of a change, nil for none.
func notNil[T any](list []T) *[]T {
	if list == nil {
		return nil
	}
	return &list
}

func quotedOrNone(text string) string {
	if text == "" {
		return ""
	}
	return `"` + text + `"`
}

// WithRule changes a rule in a plan's text; what is not touched stays byte for byte.
// The error is an EditError, or Problems where the plan would have mistakes.
func WithRule(text, name string, c RuleChange) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	want, there := before.Rules[name]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no rule %q", name)}
	}
	after, err := withTaken(text, name, &want, c, before)
	if err != nil {
		return "", err
	}
	for _, key := range ruleKeys() {
		value, changed, err := key.set(c, &want)
		if err != nil {
			return "", err
		}
		if !changed {
			continue
		}
		if after, err = setValue(after, append([]string{"rules", name}, key.path...), value); err != nil {
			return "", err
		}
	}
	if c.Lanes != nil {
		if after, err = withLanes(after, name, &want, c.Lanes, before); err != nil {
			return "", err
		}
	}
	before.Rules[name] = want
	if err := agrees(after, before, errRuleByHand); err != nil {
		return "", err
	}
	return after, nil
}

// withTaken changes what a rule takes, and in which form it sends.
func withTaken(text, name string, want *Rule, c RuleChange, before *Plan) (after string, err error) {
	after = text
	if take := inOrder(c.Take); c.Take != nil && !slices.Equal(take, want.Take) {
		if after, err = withFormat2(after, before); err != nil { // in the first, photos have no word of their own
			return "", err
		}
		want.Take = take
		if after, err = setValue(after, []string{"rules", name, "take"}, writtenKinds(c.Take)); err != nil {
			return "", err
		}
	}
	for k, form := range c.Send {
		switch {
		case !slices.Contains(Reducible, k):
			return "", EditError{fmt.Sprintf("%q is no kind that is reduced; that would be photo, graphic or video", k)}
		case c.Take == nil && !slices.Contains(want.Take, k) && form != "":
			return "", EditError{fmt.Sprintf("the rule takes no %s", k.Plural())}
		}
	}
	send := sendOf(want.Send, c.Send, want.Take)
	if maps.Equal(send, want.Send) {
		return after, nil
	}
	want.Send = send
	return setValue(after, []string{"rules", name, "send"}, writtenSend(send))
}

// withLanes changes the lanes of a rule; one that stays at its place keeps the gates that it has.
func withLanes(text, name string, want *Rule, lanes []Lane, before *Plan) (after string, err error) {
	was := want.Lanes
	want.Lanes = slices.Clone(lanes)
	photosAlone := slices.ContainsFunc(want.Lanes, func(l Lane) bool {
		return slices.Contains(l.Take, media.Photo) && !slices.Contains(l.Take, media.Raw)
	})
	if photosAlone {
		if text, err = withFormat2(text, before); err != nil {
			return "", err
		}
	}
	gone, left := stay(was, want.Lanes)
	for i := range want.Lanes {
		want.Lanes[i].Take = inOrder(want.Lanes[i].Take)
		if want.Lanes[i].Gates = (Gates{}); i < len(left) {
			want.Lanes[i].Gates = left[i].Gates
		}
	}
	return lanesOtherwise(text, name, gone, left, want.Lanes)
}

func writtenCompanions(list []media.Companion) string {
	words := make([]string, len(list))
	for i, c := range list {
		words[i] = string(c)
	}
	return listOrNone(words)
}

// writtenKinds are kinds as a plan has them.
func writtenKinds(kinds []media.Kind) string {
	words := make([]string, len(kinds))
	for i, k := range kinds {
		words[i] = string(k)
	}
	if len(inOrder(kinds)) == len(media.Kinds) {
		words = []string{string(media.Everything)}
	}
	return flowList(words)
}

// withFormat2 writes a plan of the first format, whose text it is, in the second: with
// the same meaning, but photo is the word for photos alone. One that is stays as it is.
func withFormat2(text string, p *Plan) (string, error) {
	if p.Format >= 2 {
		return text, nil
	}
	p.Format = 2
	var err error
	set := func(value string, path ...string) {
		if err == nil {
			text, err = setValue(text, path, value)
		}
	}
	lanes := func(lanes []Lane, path ...string) {
		for i, l := range lanes {
			if slices.Contains(l.Take, media.Photo) {
				set(writtenKinds(l.Take), append(path, "lanes", fmt.Sprintf("#%d", i), "take")...)
			}
		}
	}
	for _, name := range keys(p.Rules) {
		if r := p.Rules[name]; slices.Contains(r.Take, media.Photo) {
			set(writtenKinds(r.Take), "rules", name, "take")
			lanes(r.Lanes, "rules", name)
		}
	}
	for _, device := range keys(p.Devices) {
		for _, name := range keys(p.Devices[device].Rules) {
			lanes(p.Devices[device].Rules[name].Lanes, "devices", device, "rules", name)
		}
	}
	if err != nil {
		return "", err
	}
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return "", errRuleByHand
	}
	list := pairs(file.Docs[0].Body)
	flow, is := file.Docs[0].Body.(*ast.MappingNode)
	if is && flow.IsFlowStyle || len(list) == 0 || slices.ContainsFunc(list, func(p *ast.MappingValueNode) bool { return p.Key.GetToken().Value == "format" }) {
		return setValue(text, []string{"format"}, "2")
	}
	lines, at := strings.Split(text, "\n"), list[0].Key.GetToken().Position.Line-1
	return strings.Join(slices.Insert(lines, at, "format: 2"), "\n"), nil
}

var errRuleByHand = EditError{"the rule is written in a way that cannot be changed by program; change the text"}

// listOrNone writes a list that names nothing by leaving it out.
func listOrNone(words []string) string {
	if len(words) == 0 {
		return ""
	}
	return flowList(words)
}

// trueOrNone writes what is false by leaving it out.
func trueOrNone(b bool) string {
	if b {
		return "true"
	}
	return ""
}

// orNone reads a value as it stands in a plan, "" as none.
func orNone[T any](text string, parse func(string) (T, error)) (v T, err error) {
	if text == "" {
		return v, nil
	}
	return parse(text)
}

// setValue writes a value at a path of keys, and of places in lists ("#2", from 0); ""
// takes the last key out. Keys that are missing are written, within what is there of the
// path.
func setValue(text string, path []string, value string) (string, error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return "", errRuleByHand
	}
	e := sourceEdit{text: text, lines: strings.Split(text, "\n")}
	var in ast.Node = file.Docs[0].Body
	for i, key := range path {
		if n, isIndex := strings.CutPrefix(key, "#"); isIndex {
			at, err := strconv.Atoi(n)
			list, isList := in.(*ast.SequenceNode)
			if err != nil || !isList || at >= len(list.Values) {
				return "", errRuleByHand
			}
			in = list.Values[at]
			continue
		}
		at := slices.IndexFunc(pairs(in), func(p *ast.MappingValueNode) bool { return p.Key.GetToken().Value == key })
		switch {
		case at < 0 && value == "":
			return text, nil
		case at < 0:
			for _, k := range slices.Backward(path[i+1:]) {
				value = "{" + k + ": " + value + "}"
			}
			return e.insertKey(in, key+": "+value)
		}
		pair := pairs(in)[at]
		if i < len(path)-1 {
			in = pair.Value
			continue
		}
		if value == "" {
			return e.removeKey(in, at)
		}
		return e.replaceValue(pair, value)
	}
	return "", errRuleByHand
}

// setKey writes another key in the place of the last of a path.
func setKey(text string, path []string, to string) (string, error) {
	pair, err := pairAt(text, path)
	if err != nil {
		return "", err
	}
	from, end, err := sourceEdit{text: text, lines: strings.Split(text, "\n")}.span(pair.Key)
	if err != nil {
		return "", errByHand
	}
	return text[:from] + to + text[end:], nil
}

// replaceValue writes a value in the place of another.
func (e sourceEdit) replaceValue(pair *ast.MappingValueNode, value string) (string, error) {
	if list, is := pair.Value.(*ast.SequenceNode); is && !list.IsFlowStyle {
		key, last := pair.Key.GetToken().Position.Line-1, lastLine(list)
		if last <= key {
			return "", errRuleByHand
		}
		head, comment, _ := strings.Cut(e.lines[key], "#")
		if comment != "" {
			comment = " #" + comment
		}
		lines := slices.Delete(slices.Clone(e.lines), key+1, last+1)
		lines[key] = strings.TrimRight(head, " \t") + " " + value + comment
		return strings.Join(lines, "\n"), nil
	}
	from, to, err := e.span(pair.Value)
	if err != nil {
		return "", err
	}
	return e.text[:from] + value + e.text[to:], nil
}

// span is where a value on one line, or a flow list, begins and ends.
func (e sourceEdit) span(n ast.Node) (from, to int, err error) {
	if list, is := n.(*ast.SequenceNode); is && list.IsFlowStyle {
		if from, err = e.offset(list.Start, "["); err != nil {
			return 0, 0, err
		}
		to, err = e.offset(list.End, "]")
		return from, to + 1, err
	}
	if m, is := n.(*ast.MappingNode); is && m.IsFlowStyle {
		if from, err = e.offset(m.Start, "{"); err != nil {
			return 0, 0, err
		}
		to, err = e.offset(m.End, "}")
		return from, to + 1, err
	}
	t := n.GetToken()
	written := strings.TrimSpace(t.Origin)
	if strings.Contains(written, "\n") {
		return 0, 0, errRuleByHand
	}
	from, err = e.offset(t, written)
	return from, from + len(written), err
}

// insertKey writes one more key into a mapping.
func (e sourceEdit) insertKey(in ast.Node, entry string) (string, error) {
	m, is := in.(*ast.MappingNode)
	if is && m.IsFlowStyle {
		at, err := e.offset(m.End, "}")
		if err != nil {
			return "", err
		}
		before := strings.TrimRight(e.text[:at], " \t\n")
		if len(m.Values) > 0 && !strings.HasSuffix(before, ",") {
			return before + ", " + entry + e.text[at:], nil
		}
		return e.text[:at] + entry + e.text[at:], nil
	}
	list := pairs(in)
	if len(list) == 0 {
		return "", errRuleByHand
	}
	last, line := lastLine(list[len(list)-1]), strings.Repeat(" ", list[0].Key.GetToken().Position.Column-1)+entry
	return strings.Join(slices.Insert(slices.Clone(e.lines), last+1, line), "\n"), nil
}

// removeKey takes a key and its value out of a mapping; of the last one its mapping's
// place stays, empty.
func (e sourceEdit) removeKey(in ast.Node, at int) (string, error) {
	list := pairs(in)
	if m, is := in.(*ast.MappingNode); is && m.IsFlowStyle {
		from, err := e.offset(list[at].Key.GetToken(), strings.TrimSpace(list[at].Key.GetToken().Origin))
		if err != nil {
			return "", err
		}
		_, to, err := e.span(list[at].Value)
		if err != nil {
			return "", err
		}
		return e.cut(from, to), nil
	}
	if len(list) == 1 {
		return "", EditError{"the value stands alone under its key; take both out of the text"}
	}
	from := list[at].Key.GetToken().Position.Line - 1
	return strings.Join(slices.Delete(slices.Clone(e.lines), from, max(lastLine(list[at]), from)+1), "\n"), nil
}

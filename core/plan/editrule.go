package plan

import (
	"fmt"
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
	Take           []media.Kind
	Larger, Longer *string
	To             []string
	Power          *string
	Hours          *string
	Order          *Order
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
	type edit struct {
		path  []string
		value string // "" takes the key out
	}
	var edits []edit
	after := text
	if take := inOrder(c.Take); c.Take != nil && !slices.Equal(take, want.Take) {
		if before.Format < 2 { // there photos have no word of their own
			if after, err = withFormat2(after, before); err != nil {
				return "", err
			}
			before.Format = 2
		}
		want.Take = take
		edits = append(edits, edit{[]string{"take"}, writtenKinds(c.Take)})
	}
	if c.Larger != nil && *c.Larger != want.LargerThan.String() {
		if want.LargerThan, err = orNone(*c.Larger, ParseSize); err != nil {
			return "", EditError{err.Error()}
		}
		edits = append(edits, edit{[]string{"larger-than"}, *c.Larger})
	}
	if c.Longer != nil && *c.Longer != want.LongerThan.String() {
		if want.LongerThan, err = orNone(*c.Longer, ParseMinutes); err != nil {
			return "", EditError{err.Error()}
		}
		edits = append(edits, edit{[]string{"longer-than"}, *c.Longer})
	}
	if c.To != nil && !slices.Equal(c.To, want.To) {
		want.To = c.To
		edits = append(edits, edit{[]string{"to"}, flowList(c.To)})
	}
	if c.Power != nil && *c.Power != want.Gates.Power.String() {
		if want.Gates.Power, err = orNone(*c.Power, ParsePower); err != nil {
			return "", EditError{err.Error()}
		}
		edits = append(edits, edit{[]string{"gates", "power"}, *c.Power})
	}
	if c.Hours != nil && *c.Hours != want.Gates.Hours.String() {
		if want.Gates.Hours, err = orNone(*c.Hours, ParseHours); err != nil {
			return "", EditError{err.Error()}
		}
		value := *c.Hours
		if value != "" {
			value = `"` + value + `"`
		}
		edits = append(edits, edit{[]string{"gates", "hours"}, value})
	}
	if c.Order != nil && *c.Order != want.Order {
		want.Order = *c.Order
		edits = append(edits, edit{[]string{"order"}, string(*c.Order)})
	}
	for _, e := range edits {
		if after, err = setValue(after, append([]string{"rules", name}, e.path...), e.value); err != nil {
			return "", err
		}
	}
	before.Rules[name] = want
	if err := agrees(after, before, errRuleByHand); err != nil {
		return "", err
	}
	return after, nil
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

// withFormat2 writes a plan of the first format in the second: with the same meaning,
// but photo is the word for photos alone.
func withFormat2(text string, p *Plan) (string, error) {
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

// orNone reads a value as it stands in a plan, "" as none.
func orNone[T any](text string, parse func(string) (T, error)) (v T, err error) {
	if text == "" {
		return v, nil
	}
	return parse(text)
}

// setValue writes a value at a path of keys, and of places in lists ("#2", from 0), ""
// takes the last key out. Keys that are
// missing are written, within what is there of the path.
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

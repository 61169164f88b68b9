package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yardtide/core/media"
)

// RuleChange is what of a rule is to be otherwise; nil stays as it is. Power and hours
// are written as in the plan, "" sets none.
type RuleChange struct {
	Take  []media.Kind
	To    []string
	Power *string
	Hours *string
	Order *Order
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
	list := func(words []string) string {
		for i, w := range words {
			words[i] = quoted(w)
		}
		return "[" + strings.Join(words, ", ") + "]"
	}
	if c.Take != nil && !slices.Equal(c.Take, want.Take) {
		want.Take = c.Take
		words := make([]string, len(c.Take))
		for i, k := range c.Take {
			words[i] = string(k)
		}
		edits = append(edits, edit{[]string{"take"}, list(words)})
	}
	if c.To != nil && !slices.Equal(c.To, want.To) {
		want.To = c.To
		edits = append(edits, edit{[]string{"to"}, list(slices.Clone(c.To))})
	}
	if c.Power != nil && *c.Power != want.Gates.Power.String() {
		if want.Gates.Power, err = powerOrNone(*c.Power); err != nil {
			return "", EditError{err.Error()}
		}
		edits = append(edits, edit{[]string{"gates", "power"}, *c.Power})
	}
	if c.Hours != nil && *c.Hours != want.Gates.Hours.String() {
		if want.Gates.Hours, err = hoursOrNone(*c.Hours); err != nil {
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
	after := text
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

var errRuleByHand = EditError{"the rule is written in a way that cannot be changed by program; change the text"}

func powerOrNone(text string) (Power, error) {
	if text == "" {
		return Power{}, nil
	}
	return ParsePower(text)
}

func hoursOrNone(text string) (Hours, error) {
	if text == "" {
		return nil, nil
	}
	return ParseHours(text)
}

// setValue writes a value at a path of keys, "" takes the last key out. Keys that are
// missing are written, within what is there of the path.
func setValue(text string, path []string, value string) (string, error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return "", errRuleByHand
	}
	e := sourceEdit{text: text, lines: strings.Split(text, "\n")}
	var in ast.Node = file.Docs[0].Body
	for i, key := range path {
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

package plan

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// WithSource adds a source to a device of a plan's text, beside those that it has; what
// was written stays byte for byte. The error is an EditError, or Problems where the
// plan would have mistakes.
func WithSource(text, device string, s Source) (string, error) {
	s = s.plain()
	return editSources(text, device, func(d *Device) error {
		d.Sources = append(d.Sources, s)
		return nil
	}, func(e sourceEdit) (string, error) { return e.append(s.written()) })
}

// append writes one more entry into the list.
func (e sourceEdit) append(entry string) (string, error) {
	if !e.list.IsFlowStyle {
		if len(e.list.Values) == 0 {
			return "", errByHand
		}
		first, last := e.entryLine(0), lastLine(e.list.Values[len(e.list.Values)-1])
		indent := e.lines[first][:strings.Index(e.lines[first], "-")]
		return strings.Join(slices.Insert(slices.Clone(e.lines), last+1, indent+"- "+entry), "\n"), nil
	}
	at, err := e.offset(e.list.End, "]")
	if err != nil {
		return "", err
	}
	before := strings.TrimRight(e.text[:at], " \t\n")
	if len(e.list.Values) > 0 && !strings.HasSuffix(before, ",") {
		entry = ", " + entry
	}
	return e.text[:at] + entry + e.text[at:], nil
}

// remove takes an entry out of the list.
func (e sourceEdit) remove(n int) (string, error) {
	if !e.list.IsFlowStyle {
		from, to := e.entryLine(n), lastLine(e.list.Values[n])+1
		return strings.Join(slices.Delete(slices.Clone(e.lines), from, to), "\n"), nil
	}
	entry, isMap := e.list.Values[n].(*ast.MappingNode)
	if !isMap || !entry.IsFlowStyle {
		return "", EditError{"the list is written in a way that cannot be changed by program; take the entry out of the text"}
	}
	from, err := e.offset(entry.Start, "{")
	if err != nil {
		return "", err
	}
	to, err := e.offset(entry.End, "}")
	if err != nil {
		return "", err
	}
	return e.cut(from, to+1), nil
}

// plain is the source as a plan that is read has it: a list that names nothing is none.
func (s Source) plain() Source {
	for _, list := range []*[]string{&s.Only, &s.LeaveOut} {
		if len(*list) == 0 {
			*list = nil
		}
	}
	return s
}

// written is a source as a plan has it, on one line.
func (s Source) written() string {
	follows := [2]string{"rules", flowList(s.Rules)}
	if len(s.Rules) == 1 {
		follows = [2]string{"rule", quoted(s.Rules[0])}
	}
	return flowMap(append([][2]string{{"folder", quoted(s.Folder)}, follows}, s.Scope.written()...))
}

// written is a scope as a plan has it, key by key; "" where it says nothing.
func (s Scope) written() [][2]string {
	list := listOrNone
	day := func(d Date) string {
		if d == "" {
			return ""
		}
		return `"` + string(d) + `"`
	}
	hidden := ""
	if s.Hidden {
		hidden = "true"
	}
	return [][2]string{{"only", list(s.Only)}, {"leave-out", list(s.LeaveOut)}, {"hidden", hidden}, {"smallest", s.Smallest.String()}, {"largest", s.Largest.String()},
		{"taken-from", day(s.TakenFrom)}, {"taken-until", day(s.TakenUntil)}, {"new-since", day(s.NewSince)}}
}

// flowList writes words as a list on one line.
func flowList(words []string) string {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = quoted(w)
	}
	return "[" + strings.Join(list, ", ") + "]"
}

// WithSourceChanged changes which rules a source follows and what of it is taken up;
// the rest of the text stays byte for byte. The error is an EditError, or Problems.
func WithSourceChanged(text, device string, s Source) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	s = s.plain()
	sources := before.Devices[device].Sources
	n := slices.IndexFunc(sources, func(o Source) bool { return o.Folder == s.Folder })
	if n < 0 {
		return "", EditError{fmt.Sprintf("%s has no source %q", device, s.Folder)}
	}
	at := []string{"devices", device, "sources", fmt.Sprintf("#%d", n)}
	after, set := text, func(text, key, value string) (string, error) {
		return setValue(text, append(slices.Clone(at), key), value)
	}
	if was := sources[n]; !slices.Equal(was.Rules, s.Rules) {
		one, other, value := "rules", "rule", flowList(s.Rules)
		if len(s.Rules) == 1 {
			one, other, value = "rule", "rules", quoted(s.Rules[0])
		}
		if after, err = set(after, one, value); err != nil {
			return "", err
		}
		if after, err = set(after, other, ""); err != nil {
			return "", err
		}
	}
	was := sources[n].Scope.written()
	for i, f := range s.Scope.written() {
		if f[1] == was[i][1] {
			continue
		}
		if after, err = set(after, f[0], f[1]); err != nil {
			return "", err
		}
	}
	sources[n] = s
	if err := agrees(after, before, errByHand); err != nil {
		return "", err
	}
	return after, nil
}

// WithoutSource takes a source out of a device of a plan's text; the rest stays byte
// for byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithoutSource(text, device, folder string) (string, error) {
	n := -1
	return editSources(text, device, func(d *Device) error {
		n = slices.IndexFunc(d.Sources, func(s Source) bool { return s.Folder == folder })
		switch {
		case n < 0:
			return EditError{fmt.Sprintf("%s has no source %q", device, folder)}
		case len(d.Sources) == 1:
			return EditError{fmt.Sprintf("%s is the only source of %s: take the device out of the plan's text instead", folder, device)}
		}
		d.Sources = slices.Delete(slices.Clone(d.Sources), n, n+1)
		return nil
	}, func(e sourceEdit) (string, error) { return e.remove(n) })
}

// sourceEdit is a plan's text, and where the sources of a device stand in it when those
// are what is changed.
type sourceEdit struct {
	text  string
	lines []string
	list  *ast.SequenceNode
}

// cut takes an entry out of a flow list or mapping, with the comma that parts it from
// the next, or else from the one before.
func (e sourceEdit) cut(from, to int) string {
	before, after := e.text[:from], e.text[to:]
	if rest, comma := strings.CutPrefix(strings.TrimLeft(after, " \t"), ","); comma {
		return before + strings.TrimLeft(rest, " \t")
	}
	return strings.TrimSuffix(strings.TrimRight(before, " \t"), ",") + after
}

// agrees sees that a text means what was meant: else it is written in a way that a
// program would change otherwise, and byHand is the error.
func agrees(text string, meant *Plan, byHand error) error {
	now, err := Parse("plan", []byte(text))
	if err != nil {
		return err
	}
	if !reflect.DeepEqual(meant, now) {
		return byHand
	}
	return nil
}

// editSources changes the sources of a device: in what the plan means, and in its text.
// Both must agree, or nothing is changed.
func editSources(text, device string, mean func(*Device) error, write func(sourceEdit) (string, error)) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	d, there := before.Devices[device]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no device %q", device)}
	}
	if err := mean(&d); err != nil {
		return "", err
	}
	list, err := sourcesOf(text, device)
	if err != nil {
		return "", err
	}
	after, err := write(sourceEdit{text, strings.Split(text, "\n"), list})
	if err != nil {
		return "", err
	}
	before.Devices[device] = d
	if err := agrees(after, before, errByHand); err != nil {
		return "", err
	}
	return after, nil
}

// errByHand is said of a text that a program would change otherwise than was meant.
var errByHand = EditError{"the sources are written in a way that cannot be changed by program; change the text"}

func sourcesOf(text, device string) (*ast.SequenceNode, error) {
	return listAt(text, "devices", device, "sources")
}

// listAt is the list at a path of keys.
func listAt(text string, path ...string) (*ast.SequenceNode, error) {
	pair, err := pairAt(text, path)
	if err != nil {
		return nil, err
	}
	list, is := pair.Value.(*ast.SequenceNode)
	if !is || list.Start == nil || list.IsFlowStyle && list.End == nil {
		return nil, errByHand
	}
	return list, nil
}

// pairAt finds the key and value at a path of keys.
func pairAt(text string, path []string) (pair *ast.MappingValueNode, err error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return nil, errByHand
	}
	in := file.Docs[0].Body
	for _, key := range path {
		at := slices.IndexFunc(pairs(in), func(p *ast.MappingValueNode) bool { return p.Key.GetToken().Value == key })
		if at < 0 {
			return nil, errByHand
		}
		pair = pairs(in)[at]
		in = pair.Value
	}
	return pair, nil
}

// entryLine is the line (from 0) on which an entry of a list begins.
func (e sourceEdit) entryLine(n int) int {
	line := firstLine(e.list.Values[n])
	for line > 0 && !strings.HasPrefix(strings.TrimSpace(e.lines[line]), "-") { // the dash may stand above
		line--
	}
	return line
}

// lastLine is the line (from 0) on which a part of the text ends.
func lastLine(n ast.Node) int {
	last := 0
	ast.Walk(lineVisitor{&last}, n)
	return last
}

func firstLine(n ast.Node) int {
	if m, is := n.(*ast.MappingNode); is && !m.IsFlowStyle && len(m.Values) > 0 {
		n = m.Values[0].Key
	} else if p, is := n.(*ast.MappingValueNode); is {
		n = p.Key
	}
	return n.GetToken().Position.Line - 1
}

// lineVisitor finds the last line of what it walks over.
type lineVisitor struct{ last *int }

// Visit implements ast.Visitor.
func (v lineVisitor) Visit(n ast.Node) ast.Visitor {
	if _, comment := n.(*ast.CommentGroupNode); comment {
		return nil // it belongs to what follows
	}
	tokens := []*token.Token{n.GetToken()}
	if m, is := n.(*ast.MappingNode); is {
		tokens = append(tokens, m.End)
	}
	for _, t := range tokens {
		if t != nil && t.Position != nil {
			*v.last = max(*v.last, t.Position.Line-1)
		}
	}
	return v
}

// offset is where a token stands in the text, which must be there.
func (e sourceEdit) offset(t *token.Token, is string) (int, error) {
	if t == nil || t.Position == nil || t.Position.Line < 1 || t.Position.Line > len(e.lines) {
		return 0, errByHand
	}
	at := 0
	for _, line := range e.lines[:t.Position.Line-1] {
		at += len(line) + 1
	}
	runes := []rune(e.lines[t.Position.Line-1])
	if t.Position.Column < 1 || t.Position.Column > len(runes) {
		return 0, errByHand
	}
	at += len(string(runes[:t.Position.Column-1]))
	if !strings.HasPrefix(e.text[at:], is) {
		return 0, errByHand
	}
	return at, nil
}

package plantext

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// This file changes a plan's text at one place and leaves the rest, comments too, as it was written.

// EditError tells that a plan's text cannot be changed by program.
type EditError struct{ Says string }

func (e EditError) Error() string { return e.Says }

// errByHand is said of a text that a program would change otherwise than was meant.
var errByHand = EditError{"the plan is written here in a way that cannot be changed by program; change the text"}

// textEdit is a plan's text that is changed, and what is written in it.
type textEdit struct {
	text  string
	lines []string
	root  ast.Node
}

func newTextEdit(text string) (textEdit, error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return textEdit{}, errByHand
	}
	return textEdit{text, strings.Split(text, "\n"), file.Docs[0].Body}, nil
}

// setValue writes a value on one line at a path of keys, and of places in lists ("#2", from 0); "" takes the
// key or the entry out. "+" is a new entry at the end of a list. Keys that are missing are written. With
// lines the value is a part with a line a key, for where the text has room for that.
func setValue(text string, path []string, value string, lines func(indent int) string) (string, error) {
	e, err := newTextEdit(text)
	if err != nil {
		return "", err
	}
	in := e.root
	for i, key := range path {
		last := i == len(path)-1
		if key == "+" {
			return e.append(in, value)
		}
		if n, isIndex := strings.CutPrefix(key, "#"); isIndex {
			at, err := strconv.Atoi(n)
			list, isList := in.(*ast.SequenceNode)
			if err != nil || !isList || at < 0 || at >= len(list.Values) {
				return "", errByHand
			}
			if last && value == "" {
				return e.removeEntry(list, at)
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
				value = "{" + quoted(k) + ": " + value + "}"
			}
			if !last {
				lines = nil
			}
			return e.insertKey(in, quoted(key), value, lines)
		}
		pair := pairs(in)[at]
		switch {
		case !last:
			in = pair.Value
		case value == "":
			return e.removeKey(in, at)
		default:
			return e.replaceValue(pair, value)
		}
	}
	return "", errByHand
}

// setKey writes another key in the place of the last of a path.
func setKey(text string, path []string, to string) (string, error) {
	e, err := newTextEdit(text)
	if err != nil {
		return "", err
	}
	in, at := e.root, -1
	for _, key := range path {
		if at >= 0 {
			in = pairs(in)[at].Value
		}
		if at = slices.IndexFunc(pairs(in), func(p *ast.MappingValueNode) bool { return p.Key.GetToken().Value == key }); at < 0 {
			return "", errByHand
		}
	}
	from, end, err := e.span(pairs(in)[at].Key)
	if err != nil {
		return "", err
	}
	return text[:from] + to + text[end:], nil
}

// append writes one more entry into a list.
func (e textEdit) append(in ast.Node, entry string) (string, error) {
	list, isList := in.(*ast.SequenceNode)
	if !isList || list.Start == nil || list.IsFlowStyle && list.End == nil {
		return "", errByHand
	}
	if !list.IsFlowStyle {
		if len(list.Values) == 0 {
			return "", errByHand
		}
		first, last := e.entryLine(list, 0), lastLine(list.Values[len(list.Values)-1])
		indent := e.lines[first][:strings.Index(e.lines[first], "-")]
		return strings.Join(slices.Insert(slices.Clone(e.lines), last+1, indent+"- "+entry), "\n"), nil
	}
	at, err := e.offset(list.End, "]")
	if err != nil {
		return "", err
	}
	before := strings.TrimRight(e.text[:at], " \t\n")
	if len(list.Values) > 0 && !strings.HasSuffix(before, ",") {
		entry = ", " + entry
	}
	return e.text[:at] + entry + e.text[at:], nil
}

// removeEntry takes an entry out of a list.
func (e textEdit) removeEntry(list *ast.SequenceNode, n int) (string, error) {
	if !list.IsFlowStyle {
		from, to := e.entryLine(list, n), lastLine(list.Values[n])+1
		return strings.Join(slices.Delete(slices.Clone(e.lines), from, to), "\n"), nil
	}
	from, to, err := e.span(list.Values[n])
	if err != nil {
		return "", err
	}
	return e.cut(from, to), nil
}

// cut takes an entry out of a flow list or mapping, with the comma that parts it from
// the next, or else from the one before.
func (e textEdit) cut(from, to int) string {
	before, after := e.text[:from], e.text[to:]
	if rest, comma := strings.CutPrefix(strings.TrimLeft(after, " \t"), ","); comma {
		return before + strings.TrimLeft(rest, " \t")
	}
	return strings.TrimSuffix(strings.TrimRight(before, " \t"), ",") + after
}

// replaceValue writes a value in the place of another.
func (e textEdit) replaceValue(pair *ast.MappingValueNode, value string) (string, error) {
	if list, is := pair.Value.(*ast.SequenceNode); is && !list.IsFlowStyle {
		key, last := pair.Key.GetToken().Position.Line-1, lastLine(list)
		if last <= key {
			return "", errByHand
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
func (e textEdit) span(n ast.Node) (from, to int, err error) {
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
	if strings.Contains(written, "\n") || len(pairs(n)) > 0 {
		return 0, 0, errByHand
	}
	from, err = e.offset(t, written)
	return from, from + len(written), err
}

// insertKey writes one more key into a mapping.
func (e textEdit) insertKey(in ast.Node, key, value string, lines func(indent int) string) (string, error) {
	entry := key + ": " + value
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
		return "", errByHand
	}
	last, indent := lastLine(list[len(list)-1]), list[0].Key.GetToken().Position.Column-1
	line := strings.Repeat(" ", indent) + entry
	if lines != nil {
		line = strings.Repeat(" ", indent) + key + ":\n" + strings.TrimRight(lines(indent+2), "\n")
	}
	return strings.Join(slices.Insert(slices.Clone(e.lines), last+1, line), "\n"), nil
}

// removeKey takes a key and its value out of a mapping.
func (e textEdit) removeKey(in ast.Node, at int) (string, error) {
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
		return "", EditError{fmt.Sprintf("%s stands alone; take what is around it out of the text, too",
			list[at].Key.String())}
	}
	from, last := list[at].Key.GetToken().Position.Line-1, lastLine(list[at])
	lines := slices.Clone(e.lines)
	before := lines[from][:max(0, min(len(lines[from]), list[at].Key.GetToken().Position.Column-1))]
	if at == 0 && strings.TrimSpace(before) != "" { // the dash of an entry: the next key stands behind it then
		next := list[1].Key.GetToken().Position.Line - 1
		if next <= last {
			return "", errByHand
		}
		lines[next] = before + strings.TrimLeft(lines[next], " ")
	}
	return strings.Join(slices.Delete(lines, from, max(last, from)+1), "\n"), nil
}

// entryLine is the line (from 0) on which an entry of a list begins.
func (e textEdit) entryLine(list *ast.SequenceNode, n int) int {
	line := firstLine(list.Values[n])
	for line > 0 && !strings.HasPrefix(strings.TrimSpace(e.lines[line]), "-") { // the dash may stand above
		line--
	}
	return line
}

// offset is where a token stands in the text, which must be there.
func (e textEdit) offset(t *token.Token, is string) (int, error) {
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

func pairs(n ast.Node) []*ast.MappingValueNode {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}
	}
	return nil
}

func firstLine(n ast.Node) int {
	if m, is := n.(*ast.MappingNode); is && !m.IsFlowStyle && len(m.Values) > 0 {
		n = m.Values[0].Key
	} else if p, is := n.(*ast.MappingValueNode); is {
		n = p.Key
	}
	return n.GetToken().Position.Line - 1
}

// lastLine is the line (from 0) on which a part of the text ends.
func lastLine(n ast.Node) int {
	last := 0
	ast.Walk(lineVisitor{&last}, n)
	return last
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

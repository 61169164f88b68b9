package plantext

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// Problem is one mistake in a plan: where, what is wrong, what would be right.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1, in characters
	What   string `json:"what"`
	Would  string `json:"would"`
}

// Error writes the problem as "file:line:column: what; what would be right".
func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s; %s", p.File, p.Line, p.Column, p.What, p.Would)
}

// Problems are all mistakes of one plan, in the order of the document.
type Problems []Problem

// Error lists every problem, a line each.
func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// MaxSize is the largest plan that is read, in bytes.
const MaxSize = 1 << 20

// What is looked at before a plan is parsed: the parser takes half a minute and
// gigabytes for a few hundred kilobytes of brackets.
const (
	maxDepth    = 16      // a plan has 7
	maxTokens   = 100_000 // words and signs
	maxProblems = 200     // that are told
)

// bounded looks whether a text is small and shallow enough to be parsed. The error
// is a Problem without a file.
func bounded(text []byte) error {
	if len(text) > MaxSize {
		return Problem{"", 1, 1, fmt.Sprintf("the plan is %d bytes long", len(text)), "would be at most 1 MiB"}
	}
	tokens := lexer.Tokenize(string(text))
	if len(tokens) > maxTokens {
		return Problem{"", 1, 1, fmt.Sprintf("the plan has %d words and signs", len(tokens)),
			fmt.Sprintf("would have at most %d", maxTokens)}
	}
	var blocks []int // the columns at which the blocks around a token begin
	flow, line := 0, 0
	for _, t := range tokens {
		at := t.Position
		if at == nil {
			continue
		}
		switch t.Type {
		case token.AnchorType, token.AliasType:
			return Problem{"", at.Line, at.Column, "an anchor or alias stands here", "would be written out"}
		case token.MappingStartType, token.SequenceStartType:
			flow++
		case token.MappingEndType, token.SequenceEndType:
			flow = max(0, flow-1)
		}
		if flow == 0 && (at.Line != line || t.Type == token.SequenceEntryType || t.Type == token.MappingKeyType) {
			for len(blocks) > 0 && blocks[len(blocks)-1] >= at.Column {
				blocks = blocks[:len(blocks)-1]
			}
			blocks = append(blocks, at.Column)
		}
		line = at.Line
		if flow+len(blocks) > maxDepth {
			return Problem{"", at.Line, at.Column, "the plan is nested too deep here",
				fmt.Sprintf("would be nested at most %d deep", maxDepth)}
		}
	}
	return nil
}

// Parse reads a plan. file is only used in messages. The error is Problems and
// holds every mistake found, not only the first.
func Parse(file string, text []byte) (*plan.Plan, error) {
	r := &reader{file: file}
	p := r.document(text)
	if len(r.problems) > 0 {
		sort.SliceStable(r.problems, func(i, j int) bool {
			a, b := r.problems[i], r.problems[j]
			return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
		})
		return nil, r.problems
	}
	return p, nil
}

// reader walks the document and notes problems as it goes. Every method
// returns something usable after a mistake, so that reading goes on.
type reader struct {
	file     string
	problems Problems
	where    string // the part that is read
	key      string // and the key of it
	first    string // the key of the first problem
	links    []link // names to look up when everything is read
	folders  []link // of sources
	forms    []formOf
}

// formOf is a rendition that is used for a kind.
type formOf struct {
	node ast.Node
	kind media.Kind
	name string
}

// link is a name that must point at something elsewhere in the plan.
type link struct {
	node ast.Node
	kind string
	name string
}

func (r *reader) note(n ast.Node, would, format string, args ...any) {
	if len(r.problems) >= maxProblems {
		return
	}
	if len(r.problems) == 0 {
		r.first = r.key
	}
	line, column := 1, 1
	if n != nil && n.GetToken() != nil && n.GetToken().Position != nil {
		line, column = n.GetToken().Position.Line, n.GetToken().Position.Column
	}
	r.problems = append(r.problems, Problem{r.file, line, column, fmt.Sprintf(format, args...), would})
}

func (r *reader) noteError(n ast.Node, err error) {
	var m plan.Mistake
	if errors.As(err, &m) {
		r.note(n, m.Would, "%s", m.What)
		return
	}
	r.note(n, "would be written as the schema shows (yardtide plan schema)", "%s", err)
}

func (r *reader) document(text []byte) *plan.Plan {
	p := &plan.Plan{}
	var beyond Problem
	if err := bounded(text); errors.As(err, &beyond) {
		beyond.File = r.file
		r.problems = append(r.problems, beyond)
		return p
	}
	file, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax *yaml.SyntaxError
		problem := Problem{File: r.file, Line: 1, Column: 1, What: "this is not YAML",
			Would: "would be a mapping such as docs/plan.md shows"}
		if errors.As(err, &syntax) {
			problem.What = "this is not YAML: " + syntax.Message
			if at := syntax.Token; at != nil && at.Position != nil {
				problem.Line, problem.Column = at.Position.Line, at.Position.Column
			}
		}
		r.problems = append(r.problems, problem)
		return p
	}
	var bodies []ast.Node
	for _, doc := range file.Docs {
		if doc.Body != nil && doc.Body.Type() != ast.NullType && doc.Body.Type() != ast.CommentType {
			bodies = append(bodies, doc.Body)
		}
	}
	switch len(bodies) {
	case 0:
		r.note(nil, "would have yard, timezone, destinations, devices and rules (docs/plan.md)", "the plan is empty")
		return p
	case 1:
	default:
		r.note(bodies[1], "would be one document; take out the --- line", "a second document begins here")
	}
	*p = planPart.read(r, bodies[0], "the plan")
	return p
}

// apart sees that no source lies where copies go to, and no copies go where a
// source lies, as far as their paths tell: each would be copied again and again.
func (r *reader) apart(p *plan.Plan) {
	for _, f := range r.folders {
		for name, d := range p.Destinations {
			if d.Kind == plan.Folder && path.IsAbs(f.name) && (plan.Inside(f.name, d.Path) || plan.Inside(d.Path, f.name)) {
				r.note(f.node, "would be a folder outside every destination",
					"the source %q and the destination %s (%s) lie in one another", f.name, name, d.Path)
			}
		}
	}
}

// follow looks up every name that was used.
func (r *reader) follow(p *plan.Plan) {
	for _, l := range r.links {
		var have []string
		switch l.kind {
		case "person":
			continue // see persons
		case "destination":
			have = keys(p.Destinations)
		case "rendition":
			have = keys(p.Renditions)
		default:
			have = keys(p.Rules)
		}
		if slices.Contains(have, l.name) || l.kind == "destination" && strings.Contains(l.name, plan.PersonField) {
			continue
		}
		would := "would be one of " + strings.Join(have, ", ")
		if len(have) == 0 {
			would = "would be defined under " + l.kind + "s"
		}
		r.note(l.node, would, "there is no %s %q", l.kind, l.name)
	}
}

// persons sees that each device is one of the plan's people, and that a destination with
// {person} is there for each of the devices that send to it.
func (r *reader) persons(p *plan.Plan) {
	for _, l := range r.links {
		if l.kind == "person" && !slices.Contains(p.People, l.name) {
			r.note(l.node, "would be one of people, at the top of the plan", "there is no person %q", l.name)
		}
		if l.kind != "destination" || !strings.Contains(l.name, plan.PersonField) {
			continue
		}
		for _, device := range keys(p.Devices) {
			d := p.Devices[device]
			if !slices.ContainsFunc(d.Sources, func(s plan.Source) bool {
				return slices.ContainsFunc(s.Rules, func(rule string) bool { return slices.Contains(p.Rules[rule].To, l.name) })
			}) {
				continue
			}
			name := plan.ForPerson(l.name, d.Person)
			if _, there := p.Destinations[name]; d.Person == "" || !there {
				what := fmt.Sprintf("%s of %s would be %q, which is no destination", l.name, device, name)
				if d.Person == "" {
					what = fmt.Sprintf("%s sends to %s, and has no person", device, l.name)
				}
				r.note(l.node, "would be a destination for the person of each device that follows the rule", "%s", what)
			}
		}
	}
}

// widenPhotos has photo mean every picture, as it did when a plan of the first format
// was written.
func widenPhotos(p *plan.Plan) {
	widen := func(kinds []media.Kind) []media.Kind {
		if !slices.Contains(kinds, media.Photo) {
			return kinds
		}
		return inOrder(append(slices.Clone(kinds), media.Pictures...))
	}
	for name, rule := range p.Rules {
		rule.Take = widen(rule.Take)
		for i := range rule.Lanes {
			rule.Lanes[i].Take = widen(rule.Lanes[i].Take)
		}
		p.Rules[name] = rule
	}
	for _, d := range p.Devices {
		for _, o := range d.Rules {
			for i := range o.Lanes {
				o.Lanes[i].Take = widen(o.Lanes[i].Take)
			}
		}
	}
}

// inOrder puts kinds in the order in which they are shown, each once.
func inOrder(kinds []media.Kind) (list []media.Kind) {
	for _, k := range media.Kinds {
		if slices.Contains(kinds, k) || slices.Contains(kinds, media.Everything) {
			list = append(list, k)
		}
	}
	return list
}

func (r *reader) folder(n ast.Node) string {
	s := r.text(n, "folder")
	s = strings.TrimPrefix(s, "~/")
	switch {
	case s == "~":
		s = "."
	case slices.Contains(strings.Split(s, "/"), ".."):
		r.note(n, "would be written without ..", "the folder %q leaves the device's root", s)
	}
	if s == "" {
		return s
	}
	return path.Clean(s) // one folder is written in one way
}

// quick sees that quick copies are one form, and that the whole ones have a lane.
func (r *reader) quick(rule plan.Rule, lanesAt ast.Node, name string) {
	if rule.Quick() == "" {
		return
	}
	whole := false
	for i, l := range rule.Lanes {
		whole = whole || l.Send == ""
		if l.Send != "" && l.Send != rule.Quick() {
			r.note(entryOf(lanesAt, i), "would send as "+rule.Quick()+", as the lane before",
				"two lanes of rule %s carry small copies of two forms", name)
		}
	}
	if !whole {
		r.note(lanesAt, "would have one lane more, without send",
			"every lane of rule %s carries small copies only: nothing would become safe", name)
	}
}

// megapixels reads a number such as 3 or 0.5.
func (r *reader) megapixels(n ast.Node) plan.Megapixels {
	var v float64
	switch is := n.(type) {
	case *ast.IntegerNode:
		if whole, small := is.GetValue().(uint64); small {
			v = float64(whole)
		}
	case *ast.FloatNode:
		v = is.Value
	}
	if !(v >= leastMegapixels && v <= mostMegapixels) {
		r.note(n, "would be a number such as 3 or 0.5, from 0.01 to 1000", "megapixels is not such a number")
		return 0
	}
	return plan.Megapixels(v)
}

func (r *reader) zone(n ast.Node) string {
	s := r.text(n, "timezone")
	if s == "" {
		return "UTC"
	}
	if _, err := time.LoadLocation(s); err != nil || s == "Local" {
		r.note(n, "would be a name such as Europe/Lisbon or UTC", "there is no time zone %q", s)
		return "UTC"
	}
	return s
}

func value[T any](r *reader, n ast.Node, field string, parse func(string) (T, error)) T {
	var zero T
	s := r.text(n, field)
	if s == "" {
		return zero
	}
	v, err := parse(s)
	if err != nil {
		r.noteError(n, err)
		return zero
	}
	return v
}

// The shapes of YAML.

type entry struct {
	name     string
	required bool
	read     func(ast.Node)
}

type fields []entry

// mapping reads a mapping with known keys.
func (r *reader) mapping(n ast.Node, where string, known fields) {
	names := make([]string, len(known))
	for i, f := range known {
		names[i] = f.name
	}
	seen, ok := r.entries(n, where, func(key string, at, v ast.Node) {
		i := slices.Index(names, key)
		if i < 0 {
			r.note(at, "would be one of "+strings.Join(names, ", "), "%s has no key %q", where, key)
			return
		}
		known[i].read(v)
	})
	if !ok {
		return
	}
	for _, f := range known {
		if f.required && !seen[f.name] {
			r.note(n, fmt.Sprintf("would have %s: …", f.name), "%s has no %s", where, f.name)
		}
	}
}

// names reads a mapping whose keys are the keeper's own names.
func (r *reader) names(n ast.Node, kind string, read func(name string, n ast.Node)) {
	seen, ok := r.entries(n, kind+"s", func(key string, at, v ast.Node) {
		if !plan.IsName(key) {
			r.note(at, "would be letters, digits, dots and dashes, at most 63", "%q cannot be the name of a %s", key, kind)
		}
		read(key, v)
	})
	if ok && len(seen) == 0 {
		r.note(n, "would have at least one "+kind, "there is no %s", kind)
	}
}

// entries walks a mapping once, refusing doubled and odd keys.
func (r *reader) entries(n ast.Node, where string, each func(key string, at, v ast.Node)) (seen map[string]bool,
	ok bool) {
	var pairs []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		pairs = m.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{m}
	default:
		r.note(n, "would be a mapping (key: value)", "%s is %s", where, shape(n))
		return nil, false
	}
	seen = map[string]bool{}
	for _, pair := range pairs {
		var key string
		switch k := pair.Key.(type) {
		case *ast.StringNode:
			key = k.Value
		case *ast.MergeKeyNode:
			r.note(pair.Key, "would be written out", "merge keys are not used in a plan")
			continue
		default:
			key = pair.Key.String()
		}
		if seen[key] {
			r.note(pair.Key, "would stand once", "the key %q stands twice in %s", key, where)
			continue
		}
		seen[key] = true
		each(key, pair.Key, pair.Value)
	}
	return seen, true
}

func (r *reader) list(n ast.Node, where string, each func(ast.Node)) {
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		r.note(n, "would be a list such as [one, two]", "%s is %s", where, shape(n))
		return
	}
	if len(seq.Values) == 0 {
		r.note(n, "would have at least one entry", "%s is empty", where)
	}
	for _, v := range seq.Values {
		each(v)
	}
}

// text reads a word. Empty means a problem was noted.
func (r *reader) text(n ast.Node, where string) string {
	switch s := n.(type) {
	case *ast.StringNode:
		if strings.TrimSpace(s.Value) == "" {
			r.note(n, "would have a value", "%s is empty", where)
			return ""
		}
		if strings.ContainsFunc(s.Value, func(c rune) bool { return c < ' ' || c == 0x7f || c == '\uFFFD' }) {
			r.note(n, "would be one line of plain text", "%s has a control character", where)
			return ""
		}
		return s.Value
	case *ast.NullNode:
		r.note(n, "would have a value", "%s is empty", where)
	default:
		r.note(n, "would be text", "%s is %s", where, shape(n))
	}
	return ""
}

func (r *reader) number(n ast.Node, where string, low, high int) int {
	i, ok := n.(*ast.IntegerNode)
	if ok {
		if v, isInt := i.GetValue().(uint64); isInt && v >= uint64(low) && v <= uint64(high) {
			return int(v)
		}
	}
	r.note(n, fmt.Sprintf("would be a number from %d to %d", low, high), "%s is not such a number", where)
	return low
}

func (r *reader) yesNo(n ast.Node, where string) bool {
	b, ok := n.(*ast.BoolNode)
	if !ok {
		r.note(n, "would be true or false", "%s is %s", where, shape(n))
		return false
	}
	return b.Value
}

func shape(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode, nil:
		return "empty"
	case *ast.BoolNode:
		return "true or false"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.AnchorNode, *ast.AliasNode:
		return "an anchor or alias"
	case *ast.LiteralNode:
		return "a block of text"
	}
	return "text"
}

func keys[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

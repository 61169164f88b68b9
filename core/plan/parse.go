package plan

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
		return Problem{"", 1, 1, fmt.Sprintf("the plan has %d words and signs", len(tokens)), fmt.Sprintf("would have at most %d", maxTokens)}
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
			return Problem{"", at.Line, at.Column, "the plan is nested too deep here", fmt.Sprintf("would be nested at most %d deep", maxDepth)}
		}
	}
	return nil
}

// Parse reads a plan. file is only used in messages. The error is Problems and
// holds every mistake found, not only the first.
func Parse(file string, text []byte) (*Plan, error) {
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
	line, column := 1, 1
	if n != nil && n.GetToken() != nil && n.GetToken().Position != nil {
		line, column = n.GetToken().Position.Line, n.GetToken().Position.Column
	}
	r.problems = append(r.problems, Problem{r.file, line, column, fmt.Sprintf(format, args...), would})
}

func (r *reader) noteError(n ast.Node, err error) {
	var m mistake
	if errors.As(err, &m) {
		r.note(n, m.would, "%s", m.what)
		return
	}
	r.note(n, "would be written as the schema shows (yardtide plan schema)", "%s", err)
}

func (r *reader) document(text []byte) *Plan {
	p := &Plan{Destinations: map[string]Destination{}, Devices: map[string]Device{}, Rules: map[string]Rule{}}
	var beyond Problem
	if err := bounded(text); errors.As(err, &beyond) {
		beyond.File = r.file
		r.problems = append(r.problems, beyond)
		return p
	}
	file, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax *yaml.SyntaxError
		problem := Problem{File: r.file, Line: 1, Column: 1, What: "this is not YAML", Would: "would be a mapping such as docs/plan.md shows"}
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
	r.mapping(bodies[0], "the plan", fields{
		{"format", false, func(n ast.Node) { p.Format = r.number(n, "format", 1, 2) }},
		{"yard", true, func(n ast.Node) { p.Yard = r.text(n, "yard") }},
		{"timezone", true, func(n ast.Node) { p.Timezone = r.zone(n) }},
		{"destinations", true, func(n ast.Node) {
			r.names(n, "destination", func(name string, n ast.Node) { p.Destinations[name] = r.destination(n, name) })
		}},
		{"devices", true, func(n ast.Node) {
			r.names(n, "device", func(name string, n ast.Node) { p.Devices[name] = r.device(n, name) })
		}},
		{"rules", true, func(n ast.Node) {
			r.names(n, "rule", func(name string, n ast.Node) { p.Rules[name] = r.rule(n, name) })
		}},
		{"renditions", false, func(n ast.Node) {
			p.Renditions = map[string]Rendition{}
			r.names(n, "rendition", func(name string, n ast.Node) { p.Renditions[name] = r.rendition(n, name) })
		}},
		{"home-networks", false, r.networks("home-networks", &p.HomeNetworks)},
		{"people", false, func(n ast.Node) {
			r.list(n, "people", func(n ast.Node) {
				name := r.text(n, "people")
				if name != "" && (!IsName(name) || slices.Contains(p.People, name)) {
					r.note(n, "would be a short name of letters, digits, dots and dashes, once", "%q is not the name of a person here", name)
				}
				p.People = append(p.People, name)
			})
		}},
		{"silent-after", false, func(n ast.Node) { p.SilentAfter = value(r, n, "silent-after", ParseDays) }},
	})
	if p.Format == 1 {
		p.Format = 0 // one meaning, one value
	}
	r.follow(p)
	for _, f := range r.forms {
		if is, there := p.Renditions[f.name]; there && f.kind != "" && !is.Limits(f.kind) {
			r.note(f.node, "would be a rendition with a limit for them (height or fps for clips, long-edge or megapixels for pictures)", "%s says nothing of %s", f.name, f.kind.Plural())
		}
	}
	r.persons(p)
	r.apart(p)
	if p.Format == 0 {
		p.widenPhotos()
	}
	return p
}

// apart sees that no source lies where copies go to, and no copies go where a
// source lies, as far as their paths tell: each would be copied again and again.
func (r *reader) apart(p *Plan) {
	for _, f := range r.folders {
		for name, d := range p.Destinations {
			if d.Kind == Folder && path.IsAbs(f.name) && (Inside(f.name, d.Path) || Inside(d.Path, f.name)) {
				r.note(f.node, "would be a folder outside every destination", "the source %q and the destination %s (%s) lie in one another", f.name, name, d.Path)
			}
		}
	}
}

// follow looks up every name that was used.
func (r *reader) follow(p *Plan) {
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
		if slices.Contains(have, l.name) || l.kind == "destination" && strings.Contains(l.name, personField) {
			continue
		}
		would := "would be one of " + strings.Join(have, ", ")
		if len(have) == 0 {
			would = "would be defined under " + l.kind + "s"
		}
		r.note(l.node, would, "there is no %s %q", l.kind, l.name)
	}
}

// networks reads the names of networks.
func (r *reader) networks(where string, into *[]string) func(ast.Node) {
	return func(n ast.Node) {
		r.list(n, where, func(n ast.Node) {
			name := r.text(n, where)
			if len(name) > 32 { // IEEE 802.11, 9.4.2.2
				r.note(n, "would be at most 32 bytes long", "%q is no name of a network", name)
			}
			if slices.Contains(*into, name) && name != "" {
				r.note(n, "would name each network once", "%q stands here twice", name)
			}
			*into = append(*into, name)
		})
	}
}

// persons sees that each device is one of the plan's people, and that a destination with
// {person} is there for each of the devices that send to it.
func (r *reader) persons(p *Plan) {
	for _, l := range r.links {
		if l.kind == "person" && !slices.Contains(p.People, l.name) {
			r.note(l.node, "would be one of people, at the top of the plan", "there is no person %q", l.name)
		}
		if l.kind != "destination" || !strings.Contains(l.name, personField) {
			continue
		}
		for _, device := range keys(p.Devices) {
			d := p.Devices[device]
			if !slices.ContainsFunc(d.Sources, func(s Source) bool {
				return slices.ContainsFunc(s.Rules, func(rule string) bool { return slices.Contains(p.Rules[rule].To, l.name) })
			}) {
				continue
			}
			name := forPerson(l.name, d.Person)
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

func (r *reader) destination(n ast.Node, name string) Destination {
	d := Destination{Layout: DefaultLayout}
	at := map[string]ast.Node{}
	word := func(field string, into *string) entry {
		return entry{field, false, func(n ast.Node) { at[field] = n; *into = r.text(n, field) }}
	}
	var kind, password, key string
	f := fields{word("kind", &kind), word("path", &d.Path), word("url", &d.URL), word("bucket", &d.Bucket), word("region", &d.Region), word("address", &d.Address), word("host-key", &d.HostKey),
		word("authority", &d.Authority), word("certificate", &d.Certificate),
		word("user", &d.User), word("password-from", &password), word("key-from", &key), word("layout", &d.Layout),
		{"senders", false, func(n ast.Node) { d.Senders = r.number(n, "senders", 1, 16) }},
		{"keep-free", false, func(n ast.Node) { d.KeepFree = value(r, n, "keep-free", ParseSize) }},
		{"size", false, func(n ast.Node) { d.Size = value(r, n, "size", ParseSize) }}}
	f[0].required = true
	before := len(r.problems)
	r.mapping(n, "destination "+name, f)
	if len(r.problems) > before && at["kind"] == nil {
		return d
	}
	d.Kind, d.PasswordFrom, d.KeyFrom = DestinationKind(kind), Secret(password), Secret(key)
	for _, c := range []struct {
		field, value string
		check        func(string) error
	}{{"url", d.URL, checkURL}, {"address", d.Address, checkAddress}, {"host-key", d.HostKey, checkHostKey}, {"layout", d.Layout, CheckOwnLayout}, {"bucket", d.Bucket, checkBucket}, {"authority", d.Authority, checkAuthority}, {"certificate", d.Certificate, checkCertificate}, {"password-from", password, checkSecret}, {"key-from", key, checkSecret}} {
		if c.value == "" {
			continue
		}
		if err := c.check(c.value); err != nil {
			r.noteError(at[c.field], err)
		}
	}
	shape, known := shapes[d.Kind]
	if !known {
		if kind != "" {
			r.note(at["kind"], "would be one of folder, webdav, sftp, s3", "%q is not a kind of destination", kind)
		}
		return d
	}
	for _, field := range shape.needs {
		if at[field] == nil {
			r.note(n, fmt.Sprintf("would have %s: …", field), "destination %s is a %s and has no %s", name, kind, field)
		}
	}
	for field, v := range at {
		if field != "kind" && field != "layout" && !slices.Contains(shape.needs, field) && !slices.Contains(shape.may, field) {
			r.note(v, "would be left out", "a %s destination has no %s", kind, field)
		}
	}
	switch {
	case d.Kind == Folder && d.Path != "" && !strings.HasPrefix(d.Path, "/"):
		r.note(at["path"], "would begin with /, such as /media/locker", "the path %q is not absolute", d.Path)
	case d.Kind == WebDAV && d.User != "" && password == "":
		r.note(at["user"], "would have password-from: kept:NAME, env:NAME or file:/path beside it", "destination %s has a user and no password", name)
	case d.Kind == SFTP && password == "" && key == "":
		r.note(n, "would have key-from: file:/path or password-from: env:NAME", "destination %s has no password-from and no key-from", name)
	}
	return d
}

// shapes are the keys that a kind of destination needs and may have, beside
// kind and layout.
var shapes = map[DestinationKind]struct{ needs, may []string }{
	Folder: {needs: []string{"path"}},
	WebDAV: {needs: []string{"url"}, may: []string{"user", "password-from", "authority", "certificate"}},
	S3:     {needs: []string{"url", "bucket", "user", "password-from"}, may: []string{"path", "region", "authority", "certificate"}},
	SFTP:   {needs: []string{"address", "host-key", "user"}, may: []string{"path", "password-from", "key-from"}},
}

func (r *reader) device(n ast.Node, name string) Device {
	var d Device
	var awakeWhenAt ast.Node
	r.mapping(n, "device "+name, fields{
		{"timezone", false, func(n ast.Node) { d.Timezone = r.zone(n) }},
		{"limit", false, func(n ast.Node) { d.Limit = value(r, n, "limit", ParseLimits) }},
		{"person", false, func(n ast.Node) {
			d.Person = r.text(n, "person")
			r.links = append(r.links, link{n, "person", d.Person})
		}},
		{"unknown-network", false, func(n ast.Node) {
			if d.UnknownNetwork = UnknownAs(r.text(n, "unknown-network")); d.UnknownNetwork != "" && d.UnknownNetwork != AsWiFi {
				r.note(n, "would be \"treat as wifi\", or left out", "%q is nothing that an unknown network counts as", d.UnknownNetwork)
			}
		}},
		{"awake", false, func(n ast.Node) {
			if d.Awake = Awake(r.text(n, "awake")); d.Awake != "" && d.Awake != AwakeWhileSending {
				r.note(n, "would be \"while sending\", or left out", "%q is no time to be kept awake", d.Awake)
			}
		}},
		{"awake-when", false, func(n ast.Node) { awakeWhenAt, d.AwakeWhen = n, r.gates(n) }},
		{"in-front-only", false, func(n ast.Node) { d.InFrontOnly = r.yesNo(n, "in-front-only") }},
		{"sources", true, func(n ast.Node) {
			r.list(n, "sources", func(n ast.Node) {
				s, folder := r.source(n, name)
				r.folders = append(r.folders, link{folder, "source", s.Folder})
				for _, other := range d.Sources {
					if s.Folder != "" && (Inside(s.Folder, other.Folder) || Inside(other.Folder, s.Folder)) {
						r.note(folder, "would be a folder of its own, outside every other source of this device", "the source %q and the source %q of %s lie in one another", s.Folder, other.Folder, name)
					}
				}
				d.Sources = append(d.Sources, s)
			})
		}},
		{"rules", false, func(n ast.Node) {
			d.Rules = map[string]Override{}
			r.names(n, "rule", func(rule string, n ast.Node) {
				r.links = append(r.links, link{n, "rule", rule})
				d.Rules[rule] = r.override(n, "what "+name+" has otherwise of "+rule)
			})
		}},
	})
	if awakeWhenAt != nil && d.Awake == "" {
		r.note(awakeWhenAt, "would stand beside awake: while sending", "%s is not kept awake", name)
	}
	return d
}

// source reads one source; folder is where its folder stands.
func (r *reader) source(n ast.Node, device string) (s Source, folder ast.Node) {
	folder = n
	var ruleAt, rulesAt ast.Node
	follows := func(n ast.Node) {
		rule := r.text(n, "rule")
		if slices.Contains(s.Rules, rule) && rule != "" {
			r.note(n, "would name each rule once", "rule %q stands here twice", rule)
		}
		s.Rules = append(s.Rules, rule)
		r.links = append(r.links, link{n, "rule", rule})
	}
	list := func(where string, into *[]string) func(ast.Node) {
		return func(n ast.Node) {
			r.list(n, where, func(n ast.Node) {
				word := r.text(n, where)
				if err := CheckPattern(word); err != nil && word != "" {
					r.noteError(n, err)
				}
				*into = append(*into, word)
			})
		}
	}
	sizeOf := func(field string, into *Size) entry {
		return entry{field, false, func(n ast.Node) { *into = value(r, n, field, ParseSize) }}
	}
	day := func(field string, into *Date) entry {
		return entry{field, false, func(n ast.Node) { *into = value(r, n, field, ParseDate) }}
	}
	where := "a source of " + device
	r.mapping(n, where, fields{
		{"folder", true, func(n ast.Node) { folder = n; s.Folder = r.folder(n) }},
		{"rule", false, func(n ast.Node) { ruleAt = n; follows(n) }},
		{"rules", false, func(n ast.Node) { rulesAt = n; r.list(n, "rules", follows) }},
		{"only", false, list("only", &s.Only)},
		{"leave-out", false, list("leave-out", &s.LeaveOut)},
		{"hidden", false, func(n ast.Node) { s.Hidden = r.yesNo(n, "hidden") }},
		sizeOf("smallest", &s.Smallest), sizeOf("largest", &s.Largest),
		day("taken-from", &s.TakenFrom), day("taken-until", &s.TakenUntil), day("new-since", &s.NewSince),
	})
	_, aMapping := n.(*ast.MappingNode)
	_, onePair := n.(*ast.MappingValueNode)
	switch {
	case ruleAt != nil && rulesAt != nil:
		r.note(ruleAt, "would be one of the two", "%s has rule and rules", where)
	case ruleAt == nil && rulesAt == nil && (aMapping || onePair):
		r.note(n, "would have rule: …", "%s has no rule", where)
	}
	if s.Largest > 0 && s.Smallest > s.Largest {
		r.note(n, "would have smallest below largest", "%s takes nothing: smallest is above largest", where)
	}
	if s.TakenUntil != "" && s.TakenFrom > s.TakenUntil {
		r.note(n, "would have taken-from before taken-until", "%s takes nothing: taken-from is after taken-until", where)
	}
	return s, folder
}

// override reads what a device has otherwise than a rule says.
func (r *reader) override(n ast.Node, where string) (o Override) {
	r.mapping(n, where, fields{
		{"lanes", false, func(n ast.Node) { o.Lanes = r.lanes(n, where) }},
		{"gates", false, func(n ast.Node) { o.Gates = r.gates(n) }},
	})
	return o
}

// lanes reads lanes that stand for one another.
func (r *reader) lanes(n ast.Node, where string) (lanes []Lane) {
	limited := map[Network]bool{}
	r.list(n, "lanes", func(n ast.Node) {
		lane := r.lane(n)
		if lane.Allowance.Bytes > 0 && limited[lane.Over] {
			r.note(n, "would share the first one: leave this one's allowance out", "%s has a second allowance over %s", where, lane.Over)
		}
		limited[lane.Over] = limited[lane.Over] || lane.Allowance.Bytes > 0
		lanes = append(lanes, lane)
	})
	return lanes
}

// widenPhotos has photo mean every picture, as it did when a plan of the first format
// was written.
func (p *Plan) widenPhotos() {
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

func (r *reader) rule(n ast.Node, name string) Rule {
	var rule Rule
	var lanesAt ast.Node
	r.mapping(n, "rule "+name, fields{
		{"take", true, func(n ast.Node) { rule.Take = r.kinds(n) }},
		{"to", true, func(n ast.Node) {
			r.list(n, "to", func(n ast.Node) {
				to := r.text(n, "destination")
				if slices.Contains(rule.To, to) && to != "" {
					r.note(n, "would name each destination once", "destination %q stands here twice", to)
				}
				rule.To = append(rule.To, to)
				r.links = append(r.links, link{n, "destination", to})
			})
		}},
		{"send", false, func(n ast.Node) { rule.Send = r.send(n, name) }},
		{"larger-than", false, func(n ast.Node) { rule.LargerThan = value(r, n, "larger-than", ParseSize) }},
		{"longer-than", false, func(n ast.Node) { rule.LongerThan = value(r, n, "longer-than", ParseMinutes) }},
		{"lanes", true, func(n ast.Node) { lanesAt, rule.Lanes = n, r.lanes(n, "rule "+name) }},
		{"gates", false, func(n ast.Node) { rule.Gates = r.gates(n) }},
		{"order", false, func(n ast.Node) {
			rule.Order = Order(r.text(n, "order"))
			if o := rule.Order; o != "" && o != NewestFirst && o != OldestFirst && o != SmallestFirst {
				r.note(n, "would be newest, oldest or smallest", "%q is not an order", o)
			}
		}},
		{"store-each", false, func(n ast.Node) { rule.StoreEach = r.yesNo(n, "store-each") }},
		{"previews", false, func(n ast.Node) { rule.Previews = r.used(n, "previews", media.Photo) }},
		{"also", false, func(n ast.Node) { rule.Also = r.also(n, name) }},
		{"companions", false, func(n ast.Node) {
			r.list(n, "companions", func(n ast.Node) {
				c := media.Companion(r.text(n, "companions"))
				if !slices.Contains(media.Companions, c) && c != NoCompanion {
					r.note(n, "would be raw, clip, sidecar or none", "%q is no companion", c)
				}
				rule.Companions = append(rule.Companions, c)
			})
			if len(rule.Companions) > 1 && slices.Contains(rule.Companions, NoCompanion) {
				r.note(n, "would be [none], or those that go", "none stands beside others")
			}
		}},
		{"bursts", false, func(n ast.Node) { rule.Bursts = r.yesNo(n, "bursts") }},
		{"on-clash", false, func(n ast.Node) {
			switch rule.OnClash = Clash(r.text(n, "on-clash")); rule.OnClash {
			case NameClash: // as without a word
				rule.OnClash = ""
			case SkipClash, "":
			default:
				r.note(n, "would be name or skip", "%q is not what happens on a clash", rule.OnClash)
			}
		}},
	})
	r.quick(rule, lanesAt, name)
	for k := range rule.Send {
		if len(rule.Take) > 0 && !slices.Contains(rule.Take, k) {
			r.note(n, "would say it of kinds that the rule takes", "rule %s says in which form %s go, and takes none", name, k.Plural())
		}
	}
	for i, lane := range rule.Lanes {
		for _, k := range lane.Take {
			if len(rule.Take) > 0 && !slices.Contains(rule.Take, k) {
				r.note(entryOf(lanesAt, i), "would take what the rule takes, or less", "this lane takes %s, which rule %s does not", k, name)
			}
		}
	}
	return rule
}

// send reads in which form each kind goes.
func (r *reader) send(n ast.Node, rule string) map[media.Kind]string {
	forms := map[media.Kind]string{}
	seen, ok := r.entries(n, "send", func(key string, at, v ast.Node) {
		kind := media.Kind(key)
		if !slices.Contains(Reducible, kind) {
			r.note(at, "would be photo, graphic or video: every other kind goes as shot", "%q is no kind that is reduced", key)
			return
		}
		forms[kind] = r.used(v, "send", kind)
	})
	if ok && len(seen) == 0 {
		r.note(n, "would be such as {photo: family}", "send of rule %s says nothing", rule)
	}
	return forms
}

// used reads the name of a rendition that is used for a kind, "" for any.
func (r *reader) used(n ast.Node, field string, kind media.Kind) string {
	name := r.text(n, field)
	r.links = append(r.links, link{n, "rendition", name})
	r.forms = append(r.forms, formOf{n, kind, name})
	return name
}

// also reads what goes under a second layout, too.
func (r *reader) also(n ast.Node, rule string) (list []Also) {
	r.list(n, "also", func(n ast.Node) {
		var a Also
		r.mapping(n, "also of rule "+rule, fields{
			{"when", true, func(n ast.Node) { a.When = value(r, n, "when", ParseMark) }},
			{"layout", true, func(n ast.Node) {
				if a.Layout = r.text(n, "layout"); a.Layout != "" {
					if err := CheckLayout(a.Layout); err != nil {
						r.noteError(n, err)
					}
				}
			}},
		})
		if slices.ContainsFunc(list, func(o Also) bool { return o.Layout == a.Layout }) {
			r.note(n, "would have a layout of its own", "two of them land under %q", a.Layout)
		}
		list = append(list, a)
	})
	return list
}

// quick sees that quick copies are one form, and that the whole ones have a lane.
func (r *reader) quick(rule Rule, lanesAt ast.Node, name string) {
	if rule.quick() == "" {
		return
	}
	whole := false
	for i, l := range rule.Lanes {
		whole = whole || l.Send == ""
		if l.Send != "" && l.Send != rule.quick() {
			r.note(entryOf(lanesAt, i), "would send as "+rule.quick()+", as the lane before", "two lanes of rule %s carry small copies of two forms", name)
		}
	}
	if !whole {
		r.note(lanesAt, "would have one lane more, without send", "every lane of rule %s carries small copies only: nothing would become safe", name)
	}
}

// rendition reads one form.
func (r *reader) rendition(n ast.Node, name string) Rendition {
	var f Rendition
	said := false
	limit := func(field string, read func(n ast.Node)) entry {
		return entry{field, false, func(n ast.Node) { said = true; read(n) }}
	}
	r.mapping(n, "rendition "+name, fields{
		limit("long-edge", func(n ast.Node) { f.LongEdge = r.number(n, "long-edge", leastEdge, 65535) }),
		limit("megapixels", func(n ast.Node) { f.Megapixels = r.megapixels(n) }),
		limit("height", func(n ast.Node) { f.Height = r.number(n, "height", leastHeight, mostHeight) }),
		limit("fps", func(n ast.Node) { f.FPS = r.number(n, "fps", 1, mostFPS) }),
		{"codec", false, func(n ast.Node) {
			switch f.Codec = Codec(r.text(n, "codec")); f.Codec {
			case H264: // as without a word
				f.Codec = ""
			case H265, "":
			default:
				r.note(n, "would be h264 or h265", "%q is not a codec", f.Codec)
			}
		}},
		{"quality", false, func(n ast.Node) { f.Quality = r.number(n, "quality", leastQuality, 100) }},
		limit("format", func(n ast.Node) {
			f.Format = Format(r.text(n, "format"))
			switch f.Format {
			case KeepFormat: // as without a word
				f.Format = ""
			case JPEG, Both, "":
			default:
				r.note(n, "would be keep, jpeg or both", "%q is not a format", f.Format)
			}
		}),
		limit("bitrate", func(n ast.Node) { f.Bitrate = value(r, n, "bitrate", ParseBitrate) }),
		limit("facts", func(n ast.Node) {
			switch f.Facts = Facts(r.text(n, "facts")); f.Facts {
			case AllFacts: // as without a word
				f.Facts = ""
			case NoPlace, TimeOnly, "":
			default:
				r.note(n, "would be all, no place or time only", "%q is not what is told", f.Facts)
			}
		}),
		limit("colours", func(n ast.Node) {
			switch f.Colours = Colours(r.text(n, "colours")); f.Colours {
			case KeepColours: // as without a word
				f.Colours = ""
			case SRGB, "":
			default:
				r.note(n, "would be keep or srgb", "%q is nothing that colours become", f.Colours)
			}
		}),
	})
	if name == strings.ReplaceAll(AsShot, " ", "-") {
		r.note(n, "would have a name of its own", "what goes as shot needs no rendition")
	}
	if _, isMapping := n.(*ast.MappingNode); !said && isMapping {
		r.note(n, "would have long-edge: 2560 or megapixels: 3, or height: 720 for clips", "rendition %s has no limit", name)
	}
	return f
}

// megapixels reads a number such as 3 or 0.5.
func (r *reader) megapixels(n ast.Node) Megapixels {
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
	return Megapixels(v)
}

// entryOf is an entry of a list that was read.
func entryOf(list ast.Node, i int) ast.Node {
	if seq, is := list.(*ast.SequenceNode); is && i < len(seq.Values) {
		return seq.Values[i]
	}
	return list
}

func (r *reader) lane(n ast.Node) Lane {
	var l Lane
	var meteredAt, roamingAt, roamAllowedAt, meteredWiFiAt, namedAt ast.Node
	r.mapping(n, "a lane", fields{
		{"over", true, func(n ast.Node) {
			l.Over = Network(r.text(n, "over"))
			if over := l.Over; over != "" && over != WiFi && over != Wired && over != Cellular {
				r.note(n, "would be one of wifi, wired, cellular", "%q is not a network", over)
			}
		}},
		{"take", false, func(n ast.Node) { l.Take = r.kinds(n) }},
		{"allowance", false, func(n ast.Node) { l.Allowance = value(r, n, "allowance", ParseAllowance) }},
		{"metered", false, func(n ast.Node) { meteredAt, l.Metered = n, r.yesNo(n, "metered") }},
		{"roaming", false, func(n ast.Node) { roamingAt, l.Roaming = n, r.yesNo(n, "roaming") }},
		{"roaming-allowance", false, func(n ast.Node) {
			roamAllowedAt, l.RoamingAllowance = n, value(r, n, "roaming-allowance", ParseAllowance)
		}},
		{"metered-wifi", false, func(n ast.Node) { meteredWiFiAt, l.MeteredWiFi = n, r.yesNo(n, "metered-wifi") }},
		{"named", false, func(n ast.Node) { namedAt = n; r.networks("named", &l.Named)(n) }},
		{"not-named", false, func(n ast.Node) { namedAt = n; r.networks("not-named", &l.NotNamed)(n) }},
		{"home-only", false, func(n ast.Node) { namedAt, l.HomeOnly = n, r.yesNo(n, "home-only") }},
		{"send", false, func(n ast.Node) { l.Send = r.used(n, "send", "") }},
		{"gates", false, func(n ast.Node) { l.Gates = r.gates(n) }},
	})
	if roamAllowedAt != nil && !l.Roaming {
		r.note(roamAllowedAt, "would stand beside roaming: true", "the lane does not roam")
	}
	if meteredWiFiAt != nil && (l.Over == WiFi || l.Over == Wired) {
		r.note(meteredWiFiAt, "would stand on a cellular lane; this one has metered: true", "metered-wifi has a metered Wi-Fi count as cellular")
	}
	if namedAt != nil && l.Over != WiFi && l.Over != "" {
		r.note(namedAt, "would stand on a lane over wifi", "a lane over %s has no networks with names", l.Over)
	}
	if meteredAt != nil && l.Over == Cellular {
		r.note(meteredAt, "would be left out", "a cellular lane always counts as metered")
	}
	if roamingAt != nil && (l.Over == WiFi || l.Over == Wired) {
		r.note(roamingAt, "would stand on a cellular lane", "a lane over %s cannot roam", l.Over)
	}
	return l
}

func (r *reader) gates(n ast.Node) Gates {
	var g Gates
	r.mapping(n, "gates", fields{
		{"power", false, func(n ast.Node) {
			if g.NoPower = isNo(n); !g.NoPower {
				g.Power = value(r, n, "power", ParsePower)
			}
		}},
		{"hours", false, func(n ast.Node) {
			if g.NoHours = isNo(n); !g.NoHours {
				g.Hours = value(r, n, "hours", ParseHours)
			}
		}},
		{"idle", false, func(n ast.Node) {
			if idle := r.yesNo(n, "idle"); idle {
				g.Idle = MustBeIdle
			} else {
				g.Idle = MayBeUsed
			}
		}},
		{"unused-for", false, r.minutesGate("unused-for", &g.Unused, &g.NoUnused)},
		{"rest", false, r.minutesGate("rest", &g.Rest, &g.NoRest)},
		{"screen", false, r.switchGate("screen", &g.Screen)},
		{"battery-saver", false, r.switchGate("battery-saver", &g.Saver)},
	})
	return g
}

func (r *reader) minutesGate(name string, into *Minutes, none *bool) func(ast.Node) {
	return func(n ast.Node) {
		if *none = isNo(n); !*none {
			*into = value(r, n, name, ParseMinutes)
		}
	}
}

func (r *reader) switchGate(name string, into *Switch) func(ast.Node) {
	return func(n ast.Node) {
		if *into = Switch(r.text(n, name)); *into != "" && *into != MustBeOff && *into != OnOrOff {
			r.note(n, "would be off, or any", "%q is no such gate", *into)
		}
	}
}

// isNo tells whether a gate is set to nothing.
func isNo(n ast.Node) bool {
	s, ok := n.(*ast.StringNode)
	return ok && s.Value == "any"
}

func (r *reader) kinds(n ast.Node) []media.Kind {
	var kinds []media.Kind
	r.list(n, "take", func(n ast.Node) {
		k := media.Kind(r.text(n, "take"))
		if k != "" && k != media.Everything && !slices.Contains(media.Kinds, k) {
			r.note(n, "would be photo, raw, graphic, video, audio, document, other or everything", "%q is not a kind of file", k)
		}
		kinds = append(kinds, k)
	})
	return inOrder(kinds)
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
		if !IsName(key) {
			r.note(at, "would be letters, digits, dots and dashes, at most 63", "%q cannot be the name of a %s", key, kind)
		}
		read(key, v)
	})
	if ok && len(seen) == 0 {
		r.note(n, "would have at least one "+kind, "there is no %s", kind)
	}
}

// entries walks a mapping once, refusing doubled and odd keys.
func (r *reader) entries(n ast.Node, where string, each func(key string, at, v ast.Node)) (seen map[string]bool, ok bool) {
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

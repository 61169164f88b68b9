package plantext

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// Set changes keys of a plan's text; the rest stays byte for byte. The errors are EditError, and Problems
// where the plan has mistakes, or would have some.
func Set(text string, edits ...plan.Edit) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	s := setter{text: text, says: Value(before)}
	for _, e := range edits {
		if err := s.edit(e); err != nil {
			return "", err
		}
	}
	after, err := Parse("plan", []byte(s.text))
	if err != nil {
		return "", err
	}
	if !reflect.DeepEqual(s.says, Value(after)) { // the text is written so that it was changed otherwise than was meant
		return "", errByHand
	}
	return s.text, nil
}

// Draft is what a plan says that is being made: it may say less than a plan must. What cannot be read says nothing.
func Draft(text string) *plan.Plan {
	r := &reader{}
	return r.document([]byte(text))
}

// SetDraft is Set for a plan that is being made.
func SetDraft(text string, edits ...plan.Edit) (string, error) {
	s := setter{text: text, says: Value(Draft(text)), draft: true}
	for _, e := range edits {
		if err := s.edit(e); err != nil {
			return "", err
		}
	}
	if !reflect.DeepEqual(s.says, Value(Draft(s.text))) {
		return "", errByHand
	}
	return s.text, nil
}

// setter is a plan that is changed: its text, and what it says, in the form of JSON.
type setter struct {
	text  string
	says  map[string]any
	draft bool // it may say less than a plan must
}

// edit does one edit, and what must come with it.
func (s *setter) edit(e plan.Edit) error {
	k, err := keyAt(e.Path)
	if err != nil {
		return err
	}
	was, there := at(s.says, e.Path)
	if !there && !s.draft && !mayBegin(e.Path, s.says) {
		return EditError{fmt.Sprintf("the plan has no %s %q", e.Path[0][:len(e.Path[0])-1], e.Path[1])}
	}
	k.Needed = k.Needed && !s.draft
	want, err := k.normal(e)
	if err != nil {
		return err
	}
	switch name := e.Path[len(e.Path)-1]; {
	case e.New && was != nil:
		return EditError{fmt.Sprintf("the plan has a %s %q already", k.Part, name)}
	case want != nil && was == nil && isName(e.Path) && !plan.IsName(name):
		return EditError{fmt.Sprintf("%q cannot be the name of a %s; it would be letters, digits, dots and dashes, at "+
			"most 63", name, k.Part)}
	case want == nil && was == nil:
		if isName(e.Path) || strings.HasPrefix(name, "#") {
			return EditError{fmt.Sprintf("the plan has no %s %q", k.Part, name)}
		}
		return nil
	case want == nil:
		if used := usedBy(s.says, e.Path); used != "" {
			return EditError{used}
		}
	}
	if err := s.first(e.Path, want); err != nil {
		return err
	}
	if err := s.put(k, e.Path, was, want); err != nil {
		return err
	}
	return s.then(e.Path)
}

// keyAt is the key at a path: of a name or an entry of a list it describes that one.
func keyAt(path []string) (Key, error) {
	k := Key{Type: Part, Part: "plan", Keys: planPart.list()}
	for i, name := range path {
		switch {
		case k.Named != "":
			k.Named, k.Needed = "", false
		case k.List:
			if name != "+" && !strings.HasPrefix(name, "#") {
				return k, EditError{fmt.Sprintf("%s is no place in a list; it would be #0 for the first, or + for a new one", name)}
			}
			k.List, k.Needed = false, false
		default:
			next, there := k.key(name)
			if !there {
				return k, EditError{fmt.Sprintf("%s has no key %q", strings.Join(append([]string{"the plan"}, path[:i]...), ", "),
					name)}
			}
			k = next
		}
	}
	if len(path) == 0 {
		return k, EditError{"say which key of the plan is to be otherwise"}
	}
	return k, nil
}

// isName tells whether a path ends with a name of the keeper's, such as a rule's.
func isName(path []string) bool {
	k, err := keyAt(path[:len(path)-1])
	return err == nil && k.Named != ""
}

// mayBegin tells whether what a path goes through is there, but for what an edit may begin.
func mayBegin(path []string, says map[string]any) bool {
	if len(path) < 3 || path[0] == "renditions" {
		return true
	}
	_, there := at(says, path[:2])
	k, err := keyAt(path[:1])
	return err != nil || k.Named == "" || there
}

// at is what stands at a path.
func at(says any, path []string) (any, bool) {
	for _, name := range path {
		switch is := says.(type) {
		case map[string]any:
			next, there := is[name]
			if !there {
				return nil, false
			}
			says = next
		case []any:
			n, err := strconv.Atoi(strings.TrimPrefix(name, "#"))
			if err != nil || n < 0 || n >= len(is) {
				return nil, false
			}
			says = is[n]
		default:
			return nil, false
		}
	}
	return says, true
}

// normal is the value of an edit as the plan would say it; nil for nothing said. The error is an EditError.
func (k Key) normal(e plan.Edit) (any, error) {
	text, err := json.Marshal(e.Value)
	if err != nil {
		return nil, EditError{fmt.Sprintf("%s: this is no value: %v", k.Name, err)}
	}
	var v any
	if err := json.Unmarshal(text, &v); err != nil {
		return nil, EditError{fmt.Sprintf("%s: this is no value: %v", k.Name, err)}
	}
	if err := k.known(v); err != nil {
		return nil, err
	}
	if v = k.said(v); v == nil {
		if k.Needed {
			return nil, EditError{fmt.Sprintf("%s is needed", k.Name)}
		}
		return nil, nil
	}
	// What a key says of one name or one entry is read as the whole of the key.
	whole, one := k, false
	value := k.inline(v)
	if path := e.Path[:len(e.Path)-1]; len(path) > 0 {
		if around, err := keyAt(path); err == nil && around.List {
			whole, value, one = around, "["+value+"]", true
		} else if err == nil && around.Named != "" {
			whole, value, one = around, "{x: "+value+"}", true
			if around.Named == "kind" {
				value = "{" + quoted(e.Path[len(e.Path)-1]) + ": " + k.inline(v) + "}"
			}
		}
	}
	r := &reader{where: k.Part, key: k.Name}
	if berr := bounded([]byte(value)); berr != nil {
		return nil, EditError{fmt.Sprintf("%s: %v", k.Name, berr)}
	}
	file, err := parser.ParseBytes([]byte("x: "+value), 0)
	if err != nil || len(file.Docs) == 0 || len(pairs(file.Docs[0].Body)) == 0 {
		return nil, EditError{fmt.Sprintf("%s: %q is no value", k.Name, value)}
	}
	is := whole.value(r, pairs(file.Docs[0].Body)[0].Value)
	if len(r.problems) > 0 {
		p := r.problems[0]
		what := p.What
		if r.first != "" && !strings.HasPrefix(what, r.first+" ") {
			what = r.first + ": " + what
		}
		return nil, EditError{what + "; " + p.Would}
	}
	switch {
	case is == nil || !one:
		return is, nil
	case whole.List:
		return is.([]any)[0], nil
	}
	for _, one := range is.(map[string]any) {
		return one, nil
	}
	return nil, nil
}

// said is a value without what says nothing: forms leave a field empty, and take a mark out; nil for nothing.
func (k Key) said(v any) any {
	switch is := v.(type) {
	case string:
		if is == "" {
			return nil
		}
	case bool:
		if !is && k.Former == "" {
			return nil
		}
	case []any:
		if len(is) == 0 && !k.Needed {
			return nil
		}
		one, all := k, make([]any, len(is))
		one.List = false
		for i := range is {
			all[i] = is[i]
			if k.Type == Part {
				all[i] = one.said(is[i])
			}
		}
		return all
	case map[string]any:
		part := map[string]any{}
		for name, value := range is {
			of := k
			if of.Named = ""; k.Named == "" {
				of, _ = k.key(name)
			}
			if value = of.said(value); value != nil {
				part[name] = value
			}
		}
		if len(part) == 0 {
			return nil
		}
		return part
	}
	return v
}

// known sees that a value has no keys that the plan does not know.
func (k Key) known(v any) error {
	switch v := v.(type) {
	case []any:
		for _, one := range v {
			if err := k.known(one); err != nil {
				return err
			}
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			if k.Named != "" {
				one := k
				if one.Named = ""; one.Type == Part {
					if err := one.known(v[name]); err != nil {
						return err
					}
				}
				continue
			}
			of, there := k.key(name)
			if !there || of.Name != name {
				return EditError{fmt.Sprintf("a %s has no key %q", k.Part, name)}
			}
			if err := of.known(v[name]); err != nil {
				return err
			}
		}
	}
	return nil
}

// put has a path say something else: as little of the text is changed as that needs.
func (s *setter) put(k Key, path []string, was, want any) error {
	if reflect.DeepEqual(was, want) {
		return nil
	}
	if was == nil || want == nil {
		return s.write(k, path, want)
	}
	is, isParts := was.(map[string]any)
	to, toParts := want.(map[string]any)
	if isParts && toParts {
		return s.putKeys(k, path, is, to)
	}
	have, isList := was.([]any)
	list, toList := want.([]any)
	if k.Type == Part && isList && toList {
		return s.putEntries(k, path, have, list)
	}
	return s.write(k, path, want)
}

// putKeys has a part say something else, key by key: what it gets before what it loses.
func (s *setter) putKeys(k Key, path []string, was, want map[string]any) error {
	var names []string
	if k.Named != "" {
		names = slices.Sorted(maps.Keys(want))
		for _, name := range slices.Sorted(maps.Keys(was)) {
			if _, stays := want[name]; !stays {
				names = append(names, name)
			}
		}
	} else {
		for _, gets := range []bool{true, false} {
			for _, of := range k.Keys {
				if (want[of.Name] != nil) == gets {
					names = append(names, of.Name)
				}
			}
		}
	}
	for _, name := range names {
		of := k
		if of.Named = ""; k.Named == "" {
			of, _ = k.key(name)
		}
		if err := s.put(of, append(slices.Clone(path), name), was[name], want[name]); err != nil {
			return err
		}
	}
	return nil
}

// putEntries has a list of parts say something else. Those go that the first key of a part tells from the
// ones that are wanted; the others stay in their places, with their comments.
func (s *setter) putEntries(k Key, path []string, have, want []any) error {
	first := k.Keys[0].Name
	tells := func(entry any) any { return keysOf(entry)[first] }
	one, left := k, slices.Clone(have)
	one.List = false
	entry := func(n int) []string { return append(slices.Clone(path), fmt.Sprintf("#%d", n)) }
	for len(left) > len(want) {
		n := len(left) - 1
		for i := range want {
			if tells(left[i]) != tells(want[i]) {
				n = i
				break
			}
		}
		if err := s.write(one, entry(n), nil); err != nil {
			return err
		}
		left = slices.Delete(left, n, n+1)
	}
	for i, wanted := range want {
		at, was := append(slices.Clone(path), "+"), any(nil)
		if i < len(left) {
			at, was = entry(i), left[i]
		}
		if err := s.put(one, at, was, wanted); err != nil {
			return err
		}
	}
	return nil
}

// write writes a value at a path, or takes it out, with the parts around it that would say nothing then.
func (s *setter) write(k Key, path []string, want any) (err error) {
	if want == nil {
		if k, path, err = s.emptied(k, path); err != nil {
			return err
		}
	}
	text := k.inline(want)
	var lines func(int) string
	if part, is := want.(map[string]any); is && isName(path) {
		lines = func(indent int) string {
			var w strings.Builder
			block(&w, k.Keys, part, indent)
			return w.String()
		}
	}
	where := slices.Clone(path)
	if k.Single != "" {
		name, value := k.entry(want)
		other := k.Name
		if text = value; name == k.Name {
			other = k.Single
		}
		if where[len(where)-1] = name; want != nil {
			if s.text, err = setValue(s.text, where, text, nil); err != nil {
				return err
			}
			where[len(where)-1], text = other, ""
		}
	}
	if s.text, err = setValue(s.text, where, text, lines); err != nil {
		return err
	}
	s.says, _ = assigned(s.says, path, want).(map[string]any)
	return nil
}

// emptied is the path that is taken out for one to say nothing: the outermost part around it that has
// nothing else. The error is an EditError where the plan needs what would be empty.
func (s *setter) emptied(k Key, path []string) (Key, []string, error) {
	for len(path) > 1 {
		around, _ := at(s.says, path[:len(path)-1])
		switch is := around.(type) {
		case map[string]any:
			if len(is) > 1 {
				return k, path, nil
			}
		case []any:
			if len(is) > 1 {
				return k, path, nil
			}
		}
		outer, err := keyAt(path[:len(path)-1])
		if err != nil {
			return k, path, err
		}
		if outer.Needed && !s.draft {
			return k, path, EditError{fmt.Sprintf("%s is the only %s; one is needed", only(path, s.says), k.Part)}
		}
		k, path = outer, path[:len(path)-1]
	}
	return k, path, nil
}

// only is the name of the one entry at a path: that of a source is its folder.
func only(path []string, says map[string]any) string {
	is, _ := at(says, path)
	if part, isPart := is.(map[string]any); isPart && part["folder"] != nil {
		return fmt.Sprint(part["folder"])
	}
	return path[len(path)-1]
}

// entriesOf and keysOf are a value as the list or the keys that it is; none where a draft says nothing there yet.
func entriesOf(v any) []any {
	is, _ := v.([]any)
	return is
}

func keysOf(v any) map[string]any {
	is, _ := v.(map[string]any)
	return is
}

// assigned is what is said with another value at a path; nil takes it out.
func assigned(says any, path []string, value any) any {
	if len(path) == 0 {
		return value
	}
	if list, isList := says.([]any); isList || path[0] == "+" {
		if path[0] == "+" {
			return append(slices.Clone(list), value)
		}
		n, _ := strconv.Atoi(strings.TrimPrefix(path[0], "#"))
		list = slices.Clone(list)
		if list[n] = assigned(list[n], path[1:], value); list[n] == nil {
			list = slices.Delete(list, n, n+1)
		}
		return list
	}
	part, _ := says.(map[string]any)
	if part = maps.Clone(part); part == nil {
		part = map[string]any{}
	}
	if part[path[0]] = assigned(part[path[0]], path[1:], value); part[path[0]] == nil {
		delete(part, path[0])
	}
	return part
}

// usedBy tells who uses what a path names, "" for nobody.
func usedBy(says map[string]any, path []string) string {
	if len(path) != 2 {
		return ""
	}
	rules, devices, name := keysOf(says["rules"]), keysOf(says["devices"]), path[1]
	switch path[0] {
	case "rules":
		for _, device := range slices.Sorted(maps.Keys(devices)) {
			d := keysOf(devices[device])
			for _, s := range entriesOf(d["sources"]) {
				if source := keysOf(s); slices.Contains(entriesOf(source["rules"]), any(name)) {
					folder := cmp.Or(source["folder"], any("a folder"))
					return fmt.Sprintf("%s of %s follows %s; let it follow another first", folder, device, name)
				}
			}
			if _, own := at(d, []string{"rules", name}); own {
				return fmt.Sprintf("%s has lanes or gates of its own for %s; take them out first", device, name)
			}
		}
	case "destinations":
		for _, rule := range slices.Sorted(maps.Keys(rules)) {
			if slices.Contains(entriesOf(keysOf(rules[rule])["to"]), any(name)) {
				return fmt.Sprintf("the rule %s sends to %s; let it send elsewhere first", rule, name)
			}
		}
	case "renditions":
		for _, rule := range slices.Sorted(maps.Keys(rules)) {
			if rendersIn(keysOf(rules[rule]), name) {
				return fmt.Sprintf("the rule %s sends as %s", rule, name)
			}
		}
	}
	return ""
}

// rendersIn tells whether a rule sends anything in a rendition.
func rendersIn(rule map[string]any, name string) bool {
	for _, in := range keysOf(rule["send"]) {
		if in == name {
			return true
		}
	}
	return rule["previews"] == name || slices.ContainsFunc(entriesOf(rule["lanes"]),
		func(l any) bool { return keysOf(l)["send"] == name })
}

// first does what must be done before a path says something else.
func (s *setter) first(path []string, want any) error {
	switch {
	case isAt(path, "rules", "*"), isAt(path, "rules", "*", "take"), photosAlone(path, want):
		return s.inFormat2() // in the first, photos have no word of their own
	case isAt(path, "devices", "*", "person") && want != nil:
		people := entriesOf(s.says["people"])
		if slices.Contains(people, want) {
			return nil
		}
		k, err := keyAt([]string{"people"})
		if err != nil {
			return err
		}
		return s.write(k, []string{"people"}, append(slices.Clone(people), want))
	}
	return nil
}

// then does what must be done after a path says something else.
func (s *setter) then(path []string) error {
	if !isAt(path, "rules", "*", "take") {
		return nil
	}
	send := []string{path[0], path[1], "send"}
	was, _ := at(s.says, send)
	forms := keysOf(was)
	taken, _ := at(s.says, path)
	left := maps.Clone(forms)
	maps.DeleteFunc(left, func(kind string, _ any) bool { return !slices.Contains(entriesOf(taken), any(kind)) })
	k, err := keyAt(send)
	switch {
	case err != nil || len(left) == len(forms):
		return err
	case len(left) == 0:
		return s.put(k, send, was, nil)
	}
	return s.write(k, send, left)
}

// isAt tells whether a path is of a form; * stands for any name.
func isAt(path []string, form ...string) bool {
	if len(path) != len(form) {
		return false
	}
	for i := range path {
		if form[i] != "*" && form[i] != path[i] {
			return false
		}
	}
	return true
}

// photosAlone tells whether lanes are set that carry photos and no raw files.
func photosAlone(path []string, want any) bool {
	if !slices.Contains(path, "lanes") {
		return false
	}
	var alone func(v any) bool
	alone = func(v any) bool {
		switch v := v.(type) {
		case []any:
			return slices.Contains(v, any(string(media.Photo))) && !slices.Contains(v, any(string(media.Raw))) ||
				slices.ContainsFunc(v, alone)
		case map[string]any:
			return alone(v["take"])
		}
		return false
	}
	return alone(want)
}

// inFormat2 writes a plan of the first format in the second: with the same meaning, but photo is the word for
// photos alone. One that is stays as it is.
func (s *setter) inFormat2() (err error) {
	if s.says["format"] == 2 {
		return nil
	}
	widened := func(path ...string) {
		if kinds, _ := at(s.says, path); err == nil && slices.Contains(entriesOf(kinds), any(string(media.Photo))) {
			k, kerr := keyAt(path)
			if err = kerr; err == nil {
				s.text, err = setValue(s.text, path, k.inline(kinds), nil)
			}
		}
	}
	lanes := func(path ...string) {
		all, _ := at(s.says, append(path, "lanes"))
		for i := range entriesOf(all) {
			widened(append(slices.Clone(path), "lanes", fmt.Sprintf("#%d", i), "take")...)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(keysOf(s.says["rules"]))) {
		widened("rules", name, "take")
		lanes("rules", name)
	}
	devices := keysOf(s.says["devices"])
	for _, device := range slices.Sorted(maps.Keys(devices)) {
		for _, name := range slices.Sorted(maps.Keys(keysOf(keysOf(devices[device])["rules"]))) {
			lanes("devices", device, "rules", name)
		}
	}
	if err != nil {
		return err
	}
	s.says = assigned(s.says, []string{"format"}, 2).(map[string]any)
	e, err := newTextEdit(s.text)
	if err != nil {
		return err
	}
	list := pairs(e.root)
	flow, is := e.root.(*ast.MappingNode)
	if is && flow.IsFlowStyle || len(list) == 0 ||
		slices.ContainsFunc(list, func(p *ast.MappingValueNode) bool { return p.Key.GetToken().Value == "format" }) {
		s.text, err = setValue(s.text, []string{"format"}, "2", nil)
		return err
	}
	s.text = strings.Join(slices.Insert(slices.Clone(e.lines), list[0].Key.GetToken().Position.Line-1, "format: 2"), "\n")
	return nil
}

// WithRenamedDevice calls a device otherwise in a plan's text; the rest stays byte for
// byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithRenamedDevice(text, name, to string) (string, error) {
	want, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	device, there := want.Devices[name]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no device %q", name)}
	}
	if _, there := want.Devices[to]; there {
		return "", EditError{fmt.Sprintf("the plan has a device %q already", to)}
	}
	if !plan.IsName(to) {
		return "", EditError{fmt.Sprintf("%q cannot be the name of a device; it would be letters, digits, dots and "+
			"dashes, at most 63", to)}
	}
	after, err := setKey(text, []string{"devices", name}, to)
	if err != nil {
		return "", err
	}
	delete(want.Devices, name)
	want.Devices[to] = device
	now, err := Parse("plan", []byte(after))
	if err != nil {
		return "", err
	}
	if !reflect.DeepEqual(want, now) {
		return "", errByHand
	}
	return after, nil
}

// ReadRendition reads a rendition that no plan has, in the form of JSON. The error is an EditError.
func ReadRendition(form map[string]any) (plan.Rendition, error) {
	return readAlone(renditionPart, "renditions", "x", form)
}

// ReadSource reads a source that no plan has, in the form of JSON; it may follow no rule. The error is an
// EditError.
func ReadSource(source map[string]any) (plan.Source, error) {
	follows := source["rules"]
	if follows == nil {
		source = maps.Clone(source)
		source["rules"] = []any{"any"}
	}
	s, err := readAlone(sourcePart, "devices", "x", source)
	if follows == nil {
		s.Rules = nil
	}
	return s, err
}

// readAlone reads a part that stands at a path of a plan.
func readAlone[T any](p part[T], above, name string, v map[string]any) (none T, err error) {
	path := []string{above, name}
	if above == "devices" {
		path = append(path, "sources", "+")
	}
	k, err := keyAt(path)
	if err != nil {
		return none, err
	}
	is, err := k.normal(plan.Edit{Path: path, Value: v})
	if err != nil {
		return none, err
	}
	said, _ := is.(map[string]any)
	file, err := parser.ParseBytes([]byte(flow(k.Keys, said)), 0)
	if err != nil || len(file.Docs) == 0 {
		return none, errByHand
	}
	return p.read(&reader{}, file.Docs[0].Body, p.name), nil
}

// Keys describes every key of the plan.
func Keys() []Key { return planPart.list() }

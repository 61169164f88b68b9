// Package plantext knows the text of a plan, a YAML document: keys.go declares each key once; Parse reads a text
// strictly and tells line and column of every mistake; Set changes keys and leaves the rest byte for byte; Write,
// Schema and Tables write. It knows nothing of what a plan means beyond its own keys: core/plan has the values.
package plantext

import (
	"cmp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Key describes one key of the plan. The reader, the writer, the schema, the tables of docs/plan.md, the
// flags of the small commands and the forms of the console are all made from it.
type Key struct {
	Name   string `json:"name" doc:"As in the plan"`
	Type   Type   `json:"type" enum:"text,yes,number,part" doc:"What stands behind it: text, true or false, a number, or keys of its own"`
	List   bool   `json:"list,omitempty" doc:"A list of such values"`
	Named  string `json:"named,omitempty" doc:"Of what it has one value a name: destination, device, rule, rendition, or kind"`
	Needed bool   `json:"needed,omitempty"`

	Words   []Word  `json:"words,omitempty" doc:"The words that may stand there"`
	Default string  `json:"default,omitempty" doc:"What counts without it"`
	Least   float64 `json:"least,omitempty" doc:"Of a number"`
	Most    float64 `json:"most,omitempty" doc:"Of a number; 0 for any"`
	Points  string  `json:"points,omitempty" doc:"What it names: a destination, rule, rendition or person of the plan"`
	As      string  `json:"as,omitempty" doc:"What may follow each after the word as: a rendition of the plan, or shot"`
	Pattern string  `json:"pattern,omitempty" doc:"What its text looks like, as a regular expression"`
	Any     bool    `json:"any,omitempty" doc:"The word any sets the rule's aside"`
	Single  string  `json:"single,omitempty" doc:"Another name of the key, for a list of one"`
	Former  string  `json:"former,omitempty" doc:"The key that took its place: it is read, and no longer offered"`

	Examples []string `json:"examples,omitempty"`
	Says     string   `json:"says" doc:"What it means"`
	Label    string   `json:"label,omitempty" doc:"What a form calls it"`
	Empty    string   `json:"empty,omitempty" doc:"What a form calls it when it says nothing"`
	Wants    string   `json:"wants,omitempty" enum:"battery,modem" doc:"The part of a device that it is about"`

	Part string `json:"part,omitempty" doc:"What its keys describe, such as a lane"`
	Keys []Key  `json:"keys,omitempty" doc:"The keys of the part"`

	// value reads what stands behind the key, in the form of JSON; nil for nothing said.
	value func(*reader, ast.Node) any
}

// Word is a word that may stand behind a key, and what a form says of it.
type Word struct {
	Word string `json:"word"`
	Says string `json:"says,omitempty"`
}

// Type is what stands behind a key.
type Type string

// The types of values.
const (
	Text   Type = "text"
	Yes    Type = "yes" // true or false
	Number Type = "number"
	Part   Type = "part" // keys of its own
)

// has tells whether a word may stand behind the key.
func (k Key) has(word string) bool {
	return slices.ContainsFunc(k.Words, func(w Word) bool { return w.Word == word })
}

// words are those that may stand behind the key.
func (k Key) words() []string {
	list := make([]string, len(k.Words))
	for i, w := range k.Words {
		list[i] = w.Word
	}
	return list
}

// key is the key of a part by its name.
func (k Key) key(name string) (Key, bool) {
	i := slices.IndexFunc(k.Keys, func(o Key) bool { return o.Name == name || o.Single == name && name != "" })
	if i < 0 {
		return Key{}, false
	}
	return k.Keys[i], true
}

// plainWords are words of which a form says nothing more.
func plainWords[T ~string](words ...T) []Word {
	list := make([]Word, len(words))
	for i, w := range words {
		list[i] = Word{Word: string(w)}
	}
	return list
}

// key is a key of a part T: how T is read from it, and what T says of it.
type key[T any] struct {
	Key
	read func(r *reader, n ast.Node, v *T)
	one  func(r *reader, n ast.Node, v *T) // of a key with another name for a list of one
	get  func(v *T) any                    // in the form of JSON; nil for nothing said
}

func newKey[T any](k Key, read func(*reader, ast.Node, *T), get func(*T) any) key[T] {
	k.value = func(r *reader, n ast.Node) any {
		var v T
		read(r, n, &v)
		return get(&v)
	}
	return key[T]{Key: k, read: read, get: get}
}

// part is a mapping of the plan with keys that are known.
type part[T any] struct {
	name  string // such as rule
	title string // in the tables of docs/plan.md
	keys  []key[T]
	// label names one in messages; without it that is the part's name and its own.
	label func(r *reader, name string) string
	// check finds what is wrong with several keys together; at is where each stands.
	check func(r *reader, n ast.Node, at map[string]ast.Node, v *T)
}

// list describes the keys.
func (p part[T]) list() []Key {
	list := make([]Key, len(p.keys))
	for i, k := range p.keys {
		list[i] = k.Key
	}
	return list
}

// read reads a part; where names it in messages.
func (p part[T]) read(r *reader, n ast.Node, where string) (v T) {
	outer := r.where
	r.where = where
	defer func() { r.where = outer }()
	at, known := map[string]ast.Node{}, fields{}
	for _, k := range p.keys {
		known = append(known, entry{k.Name, k.Needed, func(n ast.Node) { at[k.Name], r.key = n, k.Name; k.read(r, n, &v) }})
		if k.Single != "" {
			known = append(known, entry{k.Single, false,
				func(n ast.Node) { at[k.Single], r.key = n, k.Single; k.one(r, n, &v) }})
		}
	}
	r.mapping(n, where, known)
	r.key = ""
	if p.check != nil {
		p.check(r, n, at, &v)
	}
	return v
}

// get is what a part says, in the form of JSON; nil for nothing.
func (p part[T]) get(v *T) any {
	m := map[string]any{}
	for _, k := range p.keys {
		if is := k.get(v); is != nil {
			m[k.Name] = is
		}
	}
	if len(m) == 0 {
		return nil
	}
	return m
}

func (p part[T]) labelOf(r *reader, name string) string {
	if p.label != nil {
		return p.label(r, name)
	}
	return p.name + " " + name
}

// orNil is text in the form of JSON, nil for "".
func orNil[V ~string](s V) any {
	if s == "" {
		return nil
	}
	return string(s)
}

// text is a key with one line of text. Check may be nil.
func text[T any, V ~string](k Key, check func(string) error, of func(*T) *V) key[T] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, v *T) {
		s := r.text(n, k.Name)
		if *of(v) = V(s); s == "" {
			return
		}
		if check != nil {
			if err := check(s); err != nil {
				r.noteError(n, err)
			}
		}
		if k.Points != "" {
			r.links = append(r.links, link{n, k.Points, s})
		}
	}, func(v *T) any { return orNil(*of(v)) })
}

// word is a key with one of some words; is says what they are, such as "an order". The default one is as
// no word.
func word[T any, V ~string](k Key, is string, of func(*T) *V) key[T] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, v *T) {
		s := r.text(n, k.Name)
		switch *of(v) = V(s); {
		case s == k.Default:
			*of(v) = ""
		case s != "" && !k.has(s) && len(k.Words) == 1:
			r.note(n, `would be "`+k.Words[0].Word+`", or left out`, "%q is not %s", s, is)
		case s != "" && !k.has(s):
			r.note(n, "would be one of "+strings.Join(k.words(), ", "), "%q is not %s", s, is)
		}
	}, func(v *T) any { return orNil(*of(v)) })
}

// written is a value of one of the small languages of the plan; "" is none.
type written interface{ String() string }

// parsed is a key with text of a small language.
func parsed[T any, V written](k Key, parse func(string) (V, error), of func(*T) *V) key[T] {
	k.Type = Text
	return newKey(k, func(r *reader, n ast.Node, v *T) { *of(v) = value(r, n, k.Name, parse) },
		func(v *T) any { return orNil((*of(v)).String()) })
}

// parsedOrAny is a key that "any" sets to nothing.
func parsedOrAny[T any, V written](k Key, parse func(string) (V, error), of func(*T) *V, any func(*T) *bool) key[T] {
	k.Any = true
	some := parsed(k, parse, of)
	return newKey(some.Key, func(r *reader, n ast.Node, v *T) {
		s, isText := n.(*ast.StringNode)
		if *any(v) = isText && s.Value == anyWord; !*any(v) {
			some.read(r, n, v)
		}
	}, func(v *T) interface{} {
		if *any(v) {
			return anyWord
		}
		return some.get(v)
	})
}

// anyWord sets a gate to nothing.
const anyWord = "any"

// yes is a key that is true, or says nothing.
func yes[T any](k Key, of func(*T) *bool) key[T] {
	k.Type = Yes
	return newKey(k, func(r *reader, n ast.Node, v *T) { *of(v) = r.yesNo(n, k.Name) }, func(v *T) any {
		if !*of(v) {
			return nil
		}
		return true
	})
}

// number is a key with a whole number within bounds.
func number[T any](k Key, of func(*T) *int) key[T] {
	k.Type = Number
	return newKey(k, func(r *reader, n ast.Node, v *T) { *of(v) = r.number(n, k.Name, int(k.Least), int(k.Most)) },
		func(v *T) any {
			if *of(v) == 0 {
				return nil
			}
			return *of(v)
		})
}

// list is a key with a list of words. Each may be nil; it sees what is in the list before.
func list[T any, V ~string](k Key, of func(*T) *[]V, each func(r *reader, n ast.Node, word string, before []V)) key[T] {
	k.Type, k.List = Text, true
	one := func(r *reader, n ast.Node, v *T) {
		s := r.text(n, cmp.Or(k.Single, k.Name))
		if each != nil && s != "" {
			each(r, n, s, *of(v))
		}
		if k.Points != "" && s != "" {
			r.links = append(r.links, link{n, k.Points, s})
		}
		*of(v) = append(*of(v), V(s))
	}
	is := newKey(k, func(r *reader, n ast.Node, v *T) {
		r.list(n, k.Name, func(n ast.Node) { one(r, n, v) })
	}, func(v *T) any { return words(*of(v)) })
	is.one = one
	return is
}

// words is a list in the form of JSON; nil for none.
func words[V ~string](list []V) any {
	if len(list) == 0 {
		return nil
	}
	all := make([]any, len(list))
	for i, w := range list {
		all[i] = string(w)
	}
	return all
}

// within is a key with a part behind it.
func within[T, P any](k Key, p part[P], of func(*T) *P) key[T] {
	k.Type, k.Part, k.Keys = Part, p.name, p.list()
	return newKey(k, func(r *reader, n ast.Node, v *T) { *of(v) = p.read(r, n, p.labelOf(r, "")) },
		func(v *T) any { return p.get(of(v)) })
}

// parts is a key with a list of parts.
func parts[T, P any](k Key, p part[P], of func(*T) *[]P) key[T] {
	k.Type, k.List, k.Part, k.Keys = Part, true, p.name, p.list()
	return newKey(k, func(r *reader, n ast.Node, v *T) {
		r.list(n, k.Name, func(n ast.Node) { *of(v) = append(*of(v), p.read(r, n, p.labelOf(r, ""))) })
	}, func(v *T) any {
		var all []any
		for i := range *of(v) {
			if one := p.get(&(*of(v))[i]); one != nil {
				all = append(all, one)
			}
		}
		if len(all) == 0 {
			return nil
		}
		return all
	})
}

// named is a key with one part a name.
func named[T, P any](k Key, p part[P], of func(*T) *map[string]P) key[T] {
	k.Type, k.Part, k.Keys = Part, p.name, p.list()
	return newKey(k, func(r *reader, n ast.Node, v *T) {
		*of(v) = map[string]P{}
		r.names(n, k.Named, func(name string, n ast.Node) {
			if k.Points != "" {
				r.links = append(r.links, link{n, k.Points, name})
			}
			(*of(v))[name] = p.read(r, n, p.labelOf(r, name))
		})
	}, func(v *T) any {
		m := map[string]any{}
		for name, one := range *of(v) {
			if is := p.get(&one); is != nil {
				m[name] = is
			}
		}
		if len(m) == 0 {
			return nil
		}
		return m
	})
}

package plantext

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/invopop/jsonschema"
)

// Schema is the plan's JSON Schema (draft 2020-12) for editors. It knows
// shapes and words; that names point somewhere only Parse can tell.
func Schema() ([]byte, error) {
	s := of("Yard Tide plan", planPart.list())
	s.Version, s.Title = jsonschema.Version, "Yard Tide plan"
	s.Definitions = jsonschema.Definitions{}
	for _, p := range partsOf(planPart.list()) {
		s.Definitions[p.name] = of(p.name, p.keys)
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the plan's schema: %w", err)
	}
	return append(text, '\n'), nil
}

// described is a part, and its keys.
type described struct {
	name string
	keys []Key
}

// partsOf are all parts behind some keys, each once, in the order in which the keys name them.
func partsOf(keys []Key) (list []described) {
	seen := map[string]bool{}
	var walk func([]Key)
	walk = func(keys []Key) {
		for _, k := range keys {
			if k.Part != "" && !seen[k.Part] {
				seen[k.Part] = true
				list = append(list, described{k.Part, k.Keys})
				walk(k.Keys)
			}
		}
	}
	walk(keys)
	return list
}

// of is the schema of a part.
func of(name string, keys []Key) *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties(),
		AdditionalProperties: jsonschema.FalseSchema}
	for _, k := range keys {
		s.Properties.Set(k.Name, k.schema())
		switch {
		case k.Single != "":
			one := *k.schema().Items
			one.Description = "The one entry of " + k.Name + "."
			s.Properties.Set(k.Single, &one)
			s.OneOf = []*jsonschema.Schema{{Required: []string{k.Single}}, {Required: []string{k.Name}}}
		case k.Needed:
			s.Required = append(s.Required, k.Name)
		}
	}
	return s
}

// schema describes what stands behind a key.
func (k Key) schema() *jsonschema.Schema {
	one := &jsonschema.Schema{}
	switch k.Type {
	case Part:
		one.Ref = "#/$defs/" + k.Part
	case Yes:
		one.Type = "boolean"
	case Number:
		if one.Type = "number"; k.Least == float64(int(k.Least)) {
			one.Type = "integer"
		}
		one.Minimum, one.Maximum = json.Number(fmt.Sprint(k.Least)), json.Number(fmt.Sprintf("%.0f", k.Most))
	default:
		one.Type, one.Pattern = "string", k.Pattern
		if k.Any && len(k.Words) == 0 {
			one.Pattern = "(" + k.Pattern + ")|^" + anyWord + "$"
		}
		for _, w := range k.words() {
			one.Enum = append(one.Enum, w)
		}
	}
	for _, e := range k.Examples {
		one.Examples = append(one.Examples, k.example(e))
	}
	s := one
	switch {
	case k.Named == "kind":
		s = &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties(),
			AdditionalProperties: jsonschema.FalseSchema}
		for _, w := range k.words() {
			s.Properties.Set(w, &jsonschema.Schema{Type: "string"})
		}
	case k.Named != "":
		s = &jsonschema.Schema{Type: "object", AdditionalProperties: one}
	case k.List:
		s = &jsonschema.Schema{Type: "array", Items: one, MinItems: new(uint64(1))}
	}
	if s.Description = k.says(); k.Default != "" {
		s.Default = k.example(k.Default)
	}
	return s
}

// says is what a key means, with what the word any means there.
func (k Key) says() string {
	says := k.Says
	if k.Any {
		says += " any sets the rule's aside."
	}
	if k.Former != "" {
		says += " In plans of earlier versions; now " + k.Former + " says it."
	}
	return says
}

// example is an example or a default in the form of JSON.
func (k Key) example(text string) any {
	if k.Type == Number {
		return json.Number(text)
	}
	return text
}

// Tables writes every key of the plan as tables in Markdown, one for each part of it.
func Tables() string {
	var w strings.Builder
	titles := map[string]string{"plan": planPart.title, destinationPart.name: destinationPart.title,
		devicePart.name: devicePart.title, sourcePart.name: sourcePart.title, overridePart.name: overridePart.title,
		renditionPart.name: renditionPart.title, rulePart.name: rulePart.title, alsoPart.name: alsoPart.title,
		lanePart.name: lanePart.title, gatesPart.name: gatesPart.title}
	all := append([]described{{"plan", planPart.list()}}, partsOf(planPart.list())...)
	for _, p := range all {
		fmt.Fprintf(&w, "### %s\n\n| key | value | what it says |\n| --- | --- | --- |\n", titles[p.name])
		for _, k := range p.keys {
			name := "`" + k.Name + "`"
			if k.Single != "" {
				name += ", or `" + k.Single + "`"
			}
			if k.Needed || k.Single != "" {
				name += " (needed)"
			}
			says := k.says()
			if k.Default != "" {
				says += " Without it: `" + k.Default + "`."
			}
			fmt.Fprintf(&w, "| %s | %s | %s |\n", name, cell(k.stands()), cell(says))
		}
		w.WriteString("\n")
	}
	return strings.TrimRight(w.String(), "\n") + "\n"
}

// stands tells what may stand behind a key.
func (k Key) stands() string {
	ticked := func(words []string) string { return "`" + strings.Join(words, "`, `") + "`" }
	one := "text"
	switch {
	case k.Named == "kind":
		return ticked(k.words()) + ", each with the name of a rendition"
	case k.Named != "":
		return "names, each with the keys of " + k.Part
	case k.Type == Part:
		one = "the keys of " + k.Part
	case len(k.Words) > 0:
		one = ticked(k.words())
	case k.Type == Yes:
		one = "`true`, `false`"
	case k.Type == Number:
		one = fmt.Sprintf("a number from %v to %v", k.Least, k.Most)
		if len(k.Examples) > 0 {
			one += ", such as " + ticked(k.Examples)
		}
	case len(k.Examples) > 0:
		one = "such as " + ticked(k.Examples)
	}
	if k.List {
		return "a list: " + one
	}
	return one
}

// cell keeps a text in its column.
func cell(text string) string { return strings.ReplaceAll(text, "|", "\\|") }

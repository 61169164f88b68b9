package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"
)

// Keys writes every key of the plan as tables in Markdown, one for each part of it, from
// what the code itself takes.
func Keys() string {
	s := (&jsonschema.Reflector{ExpandedStruct: true, Anonymous: true}).Reflect(&Plan{})
	var w strings.Builder
	table(&w, "The plan", s, s)
	for _, part := range []struct{ name, title string }{
		{"Destination", "A destination"}, {"Device", "A device"}, {"Source", "A source of a device"}, {"Override", "What a device has otherwise than a rule says"},
		{"Rendition", "A rendition"}, {"Rule", "A rule"}, {"Lane", "A lane of a rule"}, {"Gates", "Gates of a rule or a lane"},
	} {
		if of := s.Definitions[part.name]; of != nil {
			table(&w, part.title, of, s)
		}
	}
	return strings.TrimRight(w.String(), "\n") + "\n"
}

func table(w *strings.Builder, title string, of, whole *jsonschema.Schema) {
	fmt.Fprintf(w, "### %s\n\n| key | value | what it says |\n| --- | --- | --- |\n", title)
	for at := of.Properties.Oldest(); at != nil; at = at.Next() {
		key := "`" + at.Key + "`"
		if slices.Contains(of.Required, at.Key) {
			key += " (needed)"
		}
		fmt.Fprintf(w, "| %s | %s | %s |\n", key, cell(valueOf(at.Value, whole)), cell(saysOf(at.Value, whole)))
	}
	w.WriteString("\n")
}

// resolved is what a schema stands for.
func resolved(s, whole *jsonschema.Schema) *jsonschema.Schema {
	if name, is := strings.CutPrefix(s.Ref, "#/$defs/"); is && whole.Definitions[name] != nil {
		return whole.Definitions[name]
	}
	return s
}

// valueOf tells what may stand behind a key.
func valueOf(s, whole *jsonschema.Schema) string {
	s = resolved(s, whole)
	words := func(list []any) string {
		parts := make([]string, len(list))
		for i, v := range list {
			parts[i] = fmt.Sprintf("`%v`", v)
		}
		return strings.Join(parts, ", ")
	}
	switch {
	case len(s.Enum) > 0:
		return words(s.Enum)
	case s.Type == "array" && s.Items != nil:
		return "a list: " + valueOf(s.Items, whole)
	case s.Type == "array":
		return "a list"
	case s.Type == "object" && s.Properties != nil && s.Properties.Len() > 0:
		return "keys as below"
	case s.Type == "object":
		return "names, each with keys as below"
	case len(s.Examples) > 0:
		return "such as " + words(s.Examples)
	case s.Type == "boolean":
		return "`true`, `false`"
	case s.Type == "integer":
		return fmt.Sprintf("a number from %s to %s", s.Minimum, s.Maximum)
	}
	return "text"
}

func saysOf(s, whole *jsonschema.Schema) string {
	says := s.Description
	if says == "" {
		says = resolved(s, whole).Description
	}
	if s.Default != nil {
		says = strings.TrimSpace(says + fmt.Sprintf(" Without it: `%v`.", s.Default))
	}
	return says
}

// cell keeps a text in its column.
func cell(text string) string { return strings.ReplaceAll(text, "|", "\\|") }

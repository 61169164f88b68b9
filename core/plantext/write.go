package plantext

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// This file writes values, in the form of JSON, as a plan has them.

// plainForm is text that YAML reads as that text without quotes, but for words
// that YAML takes for something else.
var (
	plainForm = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9+/._@%-]*(:[A-Za-z0-9+/._@-]+)*( [A-Za-z0-9][A-Za-z0-9%.-]*)*$|^[0-9]+(\.[0-9]+)? [A-Za-z][A-Za-z/]*( [A-Za-z]+)*$`)
	wordForm  = regexp.MustCompile(`(?i)^(true|false|null|yes|no|on|off|y|n|nan|inf)$`)
)

// quoted writes a text so that YAML reads that same text.
func quoted(s string) string {
	if plainForm.MatchString(s) && !wordForm.MatchString(s) {
		return s
	}
	return strconv.QuoteToGraphic(s)
}

// inline writes a value on one line; "" for nothing said.
func (k Key) inline(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case map[string]any:
		if k.Named == "" {
			return flow(k.Keys, v)
		}
		one, names := k, slices.Sorted(maps.Keys(v))
		one.Named = ""
		said := make([]string, len(names))
		for i, name := range names {
			said[i] = quoted(name) + ": " + one.inline(v[name])
		}
		return "{" + strings.Join(said, ", ") + "}"
	case []any:
		if k.has(string(media.Everything)) && len(v) == len(media.Kinds) {
			v = []any{string(media.Everything)}
		}
		one := k
		one.List = false
		all := make([]string, len(v))
		for i := range v {
			all[i] = one.inline(v[i])
		}
		return "[" + strings.Join(all, ", ") + "]"
	case string:
		return quoted(v)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v) // a whole number, true or false
}

// flow writes the keys of a part on one line.
func flow(keys []Key, v map[string]any) string {
	var said []string
	for _, k := range keys {
		name, value := k.entry(v[k.Name])
		if value != "" {
			said = append(said, name+": "+value)
		}
	}
	return "{" + strings.Join(said, ", ") + "}"
}

// entry is a key and its value on one line: of a list of one under the name that the key has for that.
func (k Key) entry(v any) (name, value string) {
	if list, isList := v.([]any); isList && k.Single != "" && len(list) == 1 {
		return k.Single, k.inline(list[0])
	}
	return k.Name, k.inline(v)
}

// block writes the keys of a part that say something, a line each, and parts behind them on lines of their
// own.
func block(w *strings.Builder, keys []Key, v map[string]any, indent int) {
	pad := strings.Repeat(" ", indent)
	for _, k := range keys {
		switch is := v[k.Name].(type) {
		case map[string]any:
			if k.Named == "kind" {
				fmt.Fprintf(w, "%s%s: %s\n", pad, k.Name, k.inline(is))
				continue
			}
			fmt.Fprintf(w, "%s%s:\n", pad, k.Name)
			if k.Named == "" {
				block(w, k.Keys, is, indent+2)
				continue
			}
			for _, name := range slices.Sorted(maps.Keys(is)) {
				fmt.Fprintf(w, "%s  %s:\n", pad, quoted(name))
				block(w, k.Keys, is[name].(map[string]any), indent+4)
			}
		case []any:
			if k.Type != Part {
				name, value := k.entry(is)
				fmt.Fprintf(w, "%s%s: %s\n", pad, name, value)
				continue
			}
			fmt.Fprintf(w, "%s%s:\n", pad, k.Name)
			for _, one := range is {
				var entry strings.Builder
				block(&entry, k.Keys, one.(map[string]any), indent+4)
				fmt.Fprintf(w, "%s  - %s", pad, entry.String()[indent+4:])
			}
		default:
			if name, value := k.entry(is); value != "" {
				fmt.Fprintf(w, "%s%s: %s\n", pad, name, value)
			}
		}
	}
}

// Value is what a plan says, in the form of JSON: an edit has values of this form.
func Value(p *plan.Plan) map[string]any {
	v, _ := planPart.get(p).(map[string]any)
	return v
}

// DestinationValue is what a destination says, in the form of JSON.
func DestinationValue(d plan.Destination) map[string]any {
	v, _ := destinationPart.get(&d).(map[string]any)
	return v
}

// Write writes a plan that was read, or is a part of one: Parse reads the same plan.
func Write(p *plan.Plan) string {
	var w strings.Builder
	second := *p
	second.Format = 2
	block(&w, planPart.list(), Value(&second), 0)
	return w.String()
}

// Compose writes a household's first plan. Parse checks it.
func Compose(p *plan.Plan) string {
	return "# The plan of this yard. docs/plan.md tells every key.\n" + Write(p)
}

// First is the text of a household's first plan, around its first destination:
// everything in one folder of one device goes there over Wi-Fi.
func First(yard, zone, device, folder, name string, d plan.Destination) string {
	rule := plan.Rule{Take: []media.Kind{media.Photo, media.Raw, media.Graphic, media.Video}, To: []string{name},
		Lanes: []plan.Lane{{Over: plan.WiFi}}}
	return Compose(&plan.Plan{Yard: yard, Timezone: zone, Destinations: map[string]plan.Destination{name: d},
		Rules:   map[string]plan.Rule{"everything": rule},
		Devices: map[string]plan.Device{device: {Sources: []plan.Source{{Folder: folder, Rules: []string{"everything"}}}}}})
}

// CheckDestination finds the mistakes of one destination, as Parse would in a
// plan. The error is Problems.
func CheckDestination(name string, d plan.Destination) error {
	_, err := Parse("the destination", []byte(First("x", "UTC", "device", "x", name, d)))
	return err
}

package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yardtide/core/media"
)

// This file changes a plan's text where the keeper asked for it and leaves the
// rest, comments too, as it was written.

// EditError tells that a plan's text cannot be changed by program.
type EditError struct{ Says string }

func (e EditError) Error() string { return e.Says }

// WithDestination adds a destination to a plan's text. The result is not
// checked: Parse does that. The error is an EditError.
func WithDestination(text, name string, d Destination) (string, error) {
	lines, at, end, indent, err := destinations(text)
	if err != nil {
		return "", err
	}
	if _, there := at[name]; there {
		return "", EditError{fmt.Sprintf("the plan has a destination %q already", name)}
	}
	pad := strings.Repeat(" ", indent)
	block := []string{pad + quoted(name) + ":"}
	for _, f := range written(d) {
		block = append(block, pad+"  "+f[0]+": "+f[1])
	}
	return strings.Join(slices.Insert(lines, end, block...), "\n"), nil
}

// WithoutDestination takes a destination out of a plan's text. The error is an
// EditError.
func WithoutDestination(text, name string) (string, error) {
	lines, at, end, _, err := destinations(text)
	if err != nil {
		return "", err
	}
	from, there := at[name]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no destination %q", name)}
	}
	to := end
	for _, line := range at {
		if line > from && line < to {
			to = line
		}
	}
	for to > from && blank(lines[to-1]) { // what stands above the next one belongs to it
		to--
	}
	return strings.Join(slices.Delete(lines, from, to), "\n"), nil
}

func blank(line string) bool {
	line = strings.TrimSpace(line)
	return line == "" || strings.HasPrefix(line, "#")
}

// destinations finds the lines (from 0) of the destinations of a plan's text,
// the line after the last one, and how far they are indented.
func destinations(text string) (lines []string, at map[string]int, end, indent int, err error) {
	lines = strings.Split(text, "\n")
	if berr := bounded([]byte(text)); berr != nil {
		return nil, nil, 0, 0, EditError{"the plan cannot be changed by program: " + berr.Error()}
	}
	file, perr := parser.ParseBytes([]byte(text), parser.ParseComments, parser.AllowDuplicateMapKey())
	if perr != nil || len(file.Docs) == 0 {
		return nil, nil, 0, 0, EditError{"the plan is not YAML that can be changed by program; write the destination into it by hand (docs/plan.md)"}
	}
	at = map[string]int{}
	end = len(lines)
	found := false
	for _, pair := range pairs(file.Docs[0].Body) {
		line := pair.Key.GetToken().Position.Line - 1
		switch {
		case found && line < end:
			end = line
		case pair.Key.String() != "destinations":
			continue
		}
		if pair.Key.String() != "destinations" {
			continue
		}
		found = true
		for _, one := range pairs(pair.Value) {
			position := one.Key.GetToken().Position
			if position.Line-1 == line {
				return nil, nil, 0, 0, EditError{"the plan has its destinations on one line; write each on lines of its own, then this can add one"}
			}
			at[one.Key.String()], indent = position.Line-1, position.Column-1
		}
	}
	if !found || len(at) == 0 {
		return nil, nil, 0, 0, EditError{"the plan has no destinations to stand beside; write the first one by hand (docs/plan.md)"}
	}
	for end > 0 && blank(lines[end-1]) {
		end--
	}
	return lines, at, end, indent, nil
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

// written is a destination as a plan has it, key by key, each value quoted where
// YAML needs it.
func written(d Destination) [][2]string {
	var fields [][2]string
	add := func(key, value string) {
		if value != "" {
			fields = append(fields, [2]string{key, quoted(value)})
		}
	}
	add("kind", string(d.Kind))
	add("url", d.URL)
	add("bucket", d.Bucket)
	add("region", d.Region)
	add("address", d.Address)
	add("host-key", d.HostKey)
	add("path", d.Path)
	add("authority", d.Authority)
	add("certificate", d.Certificate)
	add("user", d.User)
	add("password-from", string(d.PasswordFrom))
	add("key-from", string(d.KeyFrom))
	add("layout", d.Layout)
	if d.Senders > 0 {
		fields = append(fields, [2]string{"senders", strconv.Itoa(d.Senders)})
	}
	add("keep-free", d.KeepFree.String())
	add("size", d.Size.String())
	return fields
}

// String writes a size as a plan has it, to the byte; "" for none.
func (n Size) String() string {
	if n == 0 {
		return ""
	}
	for _, unit := range []struct {
		n    Size
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n%unit.n == 0 {
			return fmt.Sprintf("%d %s", n/unit.n, unit.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

// plainForm is text that YAML reads as that text without quotes, but for words
// that YAML takes for something else.
var (
	plainForm = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9+/._@-]*(:[A-Za-z0-9+/._@-]+)*( [A-Za-z]+)*$|^[0-9]+ [kMGT]?B$`)
	wordForm  = regexp.MustCompile(`(?i)^(true|false|null|yes|no|on|off|y|n|nan|inf)$`)
)

// quoted writes a text so that YAML reads that same text.
func quoted(s string) string {
	if plainForm.MatchString(s) && !wordForm.MatchString(s) {
		return s
	}
	return strconv.QuoteToGraphic(s)
}

// First is the text of a household's first plan, around its first destination:
// everything in one folder of one device goes there over Wi-Fi.
func First(yard, zone, device, folder, name string, d Destination) string {
	return Compose(Beginning{
		Yard: yard, Timezone: zone, Device: device, Folders: []string{folder}, Destinations: []NamedDestination{{name, d}}, RuleName: "everything",
		Rule: Rule{Take: []media.Kind{media.Photo, media.Raw, media.Graphic, media.Video}, Lanes: []Lane{{Over: WiFi}}},
	})
}

// Beginning is what a household's first plan is made of: folders of one device that go
// to every destination by one rule.
type Beginning struct {
	Yard, Timezone, Device string
	Folders                []string
	Destinations           []NamedDestination
	RuleName               string
	Rule                   Rule // to all of them; what To says does not count
}

// NamedDestination is a destination and what it is called.
type NamedDestination struct {
	Name string
	Destination
}

// Compose writes a first plan. It is not checked: Parse does that.
func Compose(b Beginning) string {
	var w strings.Builder
	line := func(indent int, format string, args ...any) {
		fmt.Fprintf(&w, strings.Repeat(" ", indent)+format+"\n", args...)
	}
	line(0, "# The plan of this yard. docs/plan.md tells every key.")
	line(0, "format: 2\nyard: %s\ntimezone: %s\n\ndestinations:", quoted(b.Yard), quoted(b.Timezone))
	to := make([]string, len(b.Destinations))
	for i, d := range b.Destinations {
		to[i] = d.Name
		line(2, "%s:", quoted(d.Name))
		for _, f := range written(d.Destination) {
			line(4, "%s: %s", f[0], f[1])
		}
	}
	line(0, "\ndevices:\n  %s:\n    sources:", quoted(b.Device))
	for _, folder := range b.Folders {
		line(6, "- folder: %s\n        rule: %s", quoted(folder), quoted(b.RuleName))
	}
	line(0, "\nrules:\n  %s:\n    take: %s\n    to: %s\n    lanes:", quoted(b.RuleName), writtenKinds(b.Rule.Take), flowList(to))
	for _, l := range b.Rule.Lanes {
		dash, indent := "- ", 6
		for _, f := range l.fields() { // the first says over what, and every lane has it
			if f[1] != "" {
				line(indent, "%s%s: %s", dash, f[0], f[1])
				dash, indent = "", 8
			}
		}
	}
	if power, hours := b.Rule.Gates.Power.String(), b.Rule.Gates.Hours.String(); power != "" || hours != "" {
		line(4, "gates:")
		if power != "" {
			line(6, "power: %s", power)
		}
		if hours != "" {
			line(6, "hours: %q", hours)
		}
	}
	return w.String()
}

// CheckDestination finds the mistakes of one destination, as Parse would in a
// plan. The error is Problems.
func CheckDestination(name string, d Destination) error {
	_, err := Parse("the destination", []byte(First("x", "UTC", "device", "x", name, d)))
	return err
}

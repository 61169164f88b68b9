package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"yardtide/client"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/wire/planwire"
)

// This file makes flags of the keys of the plan, and edits of the flags that are given.

// given are keys of a part of the plan that flags say something of, in their order.
type given struct{ edits []plan.Edit }

func (g *given) set(value any, path ...string) {
	g.edits = append(g.edits, plan.Edit{Path: path, Value: value})
}

// under are the edits for the part at a path.
func (g *given) under(path ...string) []plan.Edit {
	list := slices.Clone(g.edits)
	for i := range list {
		list[i].Path = append(slices.Clone(path), list[i].Path...)
	}
	return list
}

// whole is the part that the flags say.
func (g *given) whole() map[string]any {
	part := map[string]any{}
	for _, e := range g.edits {
		at := part
		for _, name := range e.Path[:len(e.Path)-1] {
			below, is := at[name].(map[string]any)
			if !is {
				below = map[string]any{}
				at[name] = below
			}
			at = below
		}
		at[e.Path[len(e.Path)-1]] = e.Value
	}
	return part
}

// partKeys are the keys of the part at a path of keys.
func partKeys(path ...string) []plantext.Key {
	keys := plantext.Keys()
	for _, name := range path {
		keys = keyNamed(keys, name).Keys
	}
	return keys
}

// keyNamed is the key of a name among keys that have one.
func keyNamed(keys []plantext.Key, name string) plantext.Key {
	return keys[slices.IndexFunc(keys, func(k plantext.Key) bool { return k.Name == name })]
}

// keyFlags makes flags of the keys of a part, and of the gates in it. But names keys that have none.
func keyFlags(fs *flag.FlagSet, g *given, keys []plantext.Key, but ...string) {
	for _, k := range keys {
		switch {
		case slices.Contains(but, k.Name) || k.Former != "":
		case k.Part == "gates" && k.Name == "gates":
			for _, gate := range k.Keys {
				if gate.Former == "" {
					keyFlag(fs, g, gate, k.Name, gate.Name)
				}
			}
		case k.Type != plantext.Part:
			keyFlag(fs, g, k, k.Name)
		}
	}
}

// keyFlag makes a flag of a key.
func keyFlag(fs *flag.FlagSet, g *given, k plantext.Key, path ...string) {
	fs.Func(k.Name, flagSays(k), func(text string) error {
		if k.Named == "kind" {
			for _, one := range listOf(text) {
				kind, name, said := strings.Cut(one, "=")
				if !said {
					return fmt.Errorf("say a kind and a rendition, such as photo=family")
				}
				g.set(strings.TrimSpace(name), append(slices.Clone(path), strings.TrimSpace(kind))...)
			}
			return nil
		}
		value, err := valueOf(k, text)
		if err == nil {
			g.set(value, path...)
		}
		return err
	})
}

// valueOf is what a flag's text says, as an edit has it.
func valueOf(k plantext.Key, text string) (any, error) {
	switch {
	case k.List:
		return listOf(text), nil
	case k.Type == plantext.Yes:
		if text != "yes" && text != "no" {
			return nil, fmt.Errorf("say yes or no")
		}
		return text == "yes", nil
	case k.Type == plantext.Number && text != "":
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			return nil, fmt.Errorf("it would be a number such as %s",
				cmp.Or(strings.Join(k.Examples, " or "), fmt.Sprint(k.Most)))
		}
		return n, nil
	}
	return text, nil
}

// flagSays is the usage of a key's flag.
func flagSays(k plantext.Key) string {
	says := strings.ToLower(k.Says[:1]) + strings.TrimSuffix(k.Says[1:], ".")
	if k.Type == plantext.Yes {
		return "yes or no: " + says
	}
	words := make([]string, len(k.Words))
	for i, w := range k.Words {
		words[i] = w.Word
	}
	switch {
	case k.Named == "kind":
		return says + "; photo=family, with commas; photo= is as shot again"
	case len(words) > 0 && !strings.Contains(says, words[len(words)-1]):
		says += ": " + strings.Join(words, ", ")
	case len(k.Examples) > 0 && !strings.Contains(says, "such as"):
		says += ", such as " + k.Examples[0]
	}
	if k.List {
		says += "; with commas between"
	}
	if !k.Needed {
		says += "; empty for " + emptyWord(k)
	}
	return says
}

func emptyWord(k plantext.Key) string {
	switch {
	case k.Empty != "":
		return k.Empty
	case k.Default != "":
		return k.Default
	}
	return "none"
}

// flagNames are the flags that a command has of keys, as a sentence names them.
func flagNames(fs *flag.FlagSet, but ...string) string {
	var names []string
	fs.VisitAll(func(f *flag.Flag) {
		if !slices.Contains(but, f.Name) {
			names = append(names, "-"+f.Name)
		}
	})
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// partOf is what a plan says at a path of keys and names; nil for nothing.
func partOf(values any, path ...string) map[string]any {
	for _, name := range path {
		part, _ := values.(map[string]any)
		values = part[name]
	}
	part, _ := values.(map[string]any)
	return part
}

// namesOf are the names in a part of the plan.
func namesOf(values map[string]any, key string) []string {
	return slices.Sorted(maps.Keys(partOf(values, key)))
}

// editPlan has keys of the plan say something else, and tells what that changed.
func editPlan(ctx context.Context, e Env, c client.Client, edits planwire.PlanEdits, json bool) error {
	done, err := c.Plans().Edit(ctx, edits)
	if err != nil {
		return err
	}
	return edited(e, done, json)
}

// edited tells what an edit of the plan changed.
func edited(e Env, done planwire.PlanEdited, json bool) error {
	if json {
		return asJSON(e.Out, done)
	}
	for _, says := range done.Says {
		fmt.Fprintln(e.Out, plain(says))
	}
	printNotes(e, planwire.PlanNotes{Notes: done.Notes})
	if done.Tried != nil {
		printTried(newPage(e, ""), *done.Tried)
		fmt.Fprintln(e.Out)
	}
	if done.Version == 0 {
		fmt.Fprintln(e.Out, "That was a try; nothing is changed.")
		return nil
	}
	fmt.Fprintf(e.Out, "The plan is version %d now; yardtide plan undo takes it back.\n", done.Version)
	return nil
}

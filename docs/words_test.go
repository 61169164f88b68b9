package docs_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// row is a word of the glossary, with the types that are it, such as plan.Rule.
var row = regexp.MustCompile("(?m)^[|] ([a-z ]+) [|] .* [|] (.*) [|]$")

var named = regexp.MustCompile("`([a-z0-9]+[.][A-Za-z]+)`")

// declared are the types and functions of the code, such as plan.Rule, and where each is.
func declared(t *testing.T) (types, all map[string]string) {
	types, all = map[string]string{}, map[string]string{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := d.Name()
		if d.IsDir() && (name == "node_modules" || strings.HasPrefix(name, ".") && name != ".." || name == "bin") {
			return filepath.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch is := n.(type) {
			case *ast.TypeSpec:
				types[file.Name.Name+"."+is.Name.Name] = path
				all[file.Name.Name+"."+is.Name.Name] = path
			case *ast.FuncDecl:
				all[file.Name.Name+"."+is.Name.Name] = path
			case *ast.Field:
				for _, one := range is.Names {
					all[file.Name.Name+"."+one.Name] = path
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, len(types), 300)
	return types, all
}

// A word of the glossary names the things that the glossary says, and no others.
func TestAWordNamesOneThing(t *testing.T) {
	text, err := os.ReadFile("words.md")
	require.NoError(t, err)
	types, all := declared(t)
	rows := row.FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(rows), 25)
	for _, r := range rows {
		if r[1] == "word" { // the head of the table
			continue
		}
		var are []string
		for _, m := range named.FindAllStringSubmatch(r[2], -1) {
			are = append(are, m[1])
			_, there := all[m[1]]
			assert.True(t, there, "the glossary names %s, which is not there", m[1])
		}
		word := strings.ReplaceAll(r[1], " ", "")
		for is, where := range types {
			pkg, name, _ := strings.Cut(is, ".")
			if !strings.EqualFold(name, word) || pkg == "wire" || !ast.IsExported(name) {
				continue
			}
			assert.True(t, slices.Contains(are, is),
				"%s (%s) is called %s, and the glossary says that the word is something else", is, where, r[1])
		}
	}
}

// Words that say nothing name nothing.
func TestWordsThatAreNotUsed(t *testing.T) {
	text, err := os.ReadFile("words.md")
	require.NoError(t, err)
	_, list, found := strings.Cut(string(text), "Not used, as each says nothing, or something else to somebody: ")
	require.True(t, found)
	var banned []string
	for word := range strings.SplitSeq(strings.TrimSuffix(strings.TrimSpace(list), "."), ",") {
		banned = append(banned, strings.TrimSpace(word))
	}
	require.Len(t, banned, 6)
	_, all := declared(t)
	for is, where := range all {
		for _, word := range banned {
			assert.NotRegexp(t, "(?i)"+word, is, where)
		}
	}
}

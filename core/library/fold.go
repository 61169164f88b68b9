package library

import (
	"path"
	"regexp"
	"strings"
)

// This file finds files that lie and are called alike: what counts, or tells one from the next, is folded away.

// mostNames is how many folders beside one another are told apart by name: more are albums, days or shards.
const mostNames = 8

// places are the files that lie and are called alike, by a text that stands for where and how.
func places(files []File) map[string][]int {
	folded := make([][]string, len(files))
	below := map[string]map[string]bool{} // the folders in one, by their folded names
	for i, f := range files {
		parts := strings.Split(path.Dir(f.Path), "/")
		at := ""
		for k, p := range parts {
			parts[k] = foldFolder(p)
			if below[at] == nil {
				below[at] = map[string]bool{}
			}
			if len(below[at]) <= mostNames {
				below[at][parts[k]] = true
			}
			at += "/" + parts[k]
		}
		folded[i] = parts
	}
	lies := make([]string, len(files))
	for i, parts := range folded {
		at, told := "", make([]string, len(parts))
		for k, p := range parts {
			if told[k] = p; len(below[at]) > mostNames {
				told[k] = "~"
			}
			at += "/" + p
		}
		lies[i] = strings.Join(told, "/")
	}
	words := map[string]map[string]int{} // how often one comes in the names of a place
	of := map[string]int{}
	for i, f := range files {
		of[lies[i]]++
		if words[lies[i]] == nil {
			words[lies[i]] = map[string]int{}
		}
		for _, w := range runs(uuid.ReplaceAllString(stemOf(f.Path), "")) {
			words[lies[i]][strings.ToLower(w)]++
		}
	}
	out := map[string][]int{}
	for i, f := range files {
		called := foldName(stemOf(f.Path), func(word string) bool {
			least := of[lies[i]] / 50
			if word[0] <= '9' { // few numbers are a measure
				least = of[lies[i]] / 8
			}
			return words[lies[i]][word] >= max(leastPlaced, least)
		})
		key := lies[i] + "/" + called + strings.ToLower(path.Ext(f.Path))
		out[key] = append(out[key], i)
	}
	return out
}

func stemOf(file string) string {
	base := path.Base(file)
	return strings.TrimSuffix(base, path.Ext(base))
}

// foldFolder is the name of a folder without what counts.
func foldFolder(name string) string {
	if isID(name) || len(name) <= 3 && hexOnly(name) {
		return "*"
	}
	var b strings.Builder
	for _, run := range runs(name) {
		if run[0] >= '0' && run[0] <= '9' {
			run = "*"
		}
		b.WriteString(run)
	}
	return b.String()
}

// uuid is an identifier as RFC 9562, 4, writes it.
var uuid = regexp.MustCompile(`[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}`)

// foldName is a file's name without what tells it from the next: numbers, identifiers, and words that few share.
func foldName(stem string, frequent func(word string) bool) string {
	var b strings.Builder
	last := ""
	put := func(s string) {
		if (s == "~" || s == " ") && (last == "~" || last == " ") {
			return
		}
		b.WriteString(s)
		last = s
	}
	between := func(r rune) bool { return strings.ContainsRune(" _-@.()+,'", r) }
	for _, word := range strings.FieldsFunc(uuid.ReplaceAllString(stem, "*"), between) {
		if isID(word) || hexOnly(word) && digits(word) > 0 {
			put("*")
			continue
		}
		for _, run := range runs(word) {
			switch {
			case frequent(strings.ToLower(run)):
				put(strings.ToLower(run))
			case run[0] >= '0' && run[0] <= '9' || run == "*":
				put("*")
			default:
				put("~")
			}
		}
		put(" ")
	}
	return b.String()
}

// runs parts a text into runs of digits, of letters, and of all else.
func runs(text string) (list []string) {
	class := func(r byte) int {
		switch {
		case r >= '0' && r <= '9':
			return 0
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80:
			return 1
		}
		return 2
	}
	from := 0
	for i := 1; i <= len(text); i++ {
		if i == len(text) || class(text[i]) != class(text[from]) {
			list = append(list, text[from:i])
			from = i
		}
	}
	return list
}

// isID tells a name that does not come again by chance: an identifier of many hexadecimal digits, or letters and
// digits mixed, as programs make them, or a time to the second and more.
func isID(name string) bool {
	plain := strings.NewReplacer("-", "", "_", "").Replace(name)
	switch n := digits(plain); {
	case len(plain) < 12:
		return false
	case n == len(plain):
		return true
	case hexOnly(plain):
		return n > 0
	default:
		return len(plain) >= 16 && mixed(plain) || n >= 14
	}
}

// mixed tells letters and digits that change places often.
func mixed(text string) bool {
	parts := runs(text)
	return len(parts) >= 6 && digits(text) >= 3
}

func hexOnly(text string) bool {
	for i := range len(text) {
		c := text[i] | 0x20
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return text != ""
}

func digits(text string) (n int) {
	for i := range len(text) {
		if text[i] >= '0' && text[i] <= '9' {
			n++
		}
	}
	return n
}

package plan_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
)

// written are lists of sources as people write them.
var written = map[string]string{
	"on one line":       "    sources: [{folder: DCIM, rule: everyday}, {folder: Other, rule: everyday}]\n",
	"with commas":       "    sources: [ {folder: DCIM, rule: everyday} , {folder: Other, rule: everyday}, ] # both\n",
	"on lines":          "    sources:\n      - folder: DCIM # the camera's\n        rule: everyday\n\n      # and the rest\n      - folder: Other\n        rule: everyday\n",
	"on lines, flow":    "    sources:\n      - {folder: DCIM, rule: everyday} # the camera's\n      - {folder: Other, rule: everyday}\n      # no more\n",
	"not indented":      "    sources:\n    - folder: DCIM\n      rule: everyday\n    - rule: everyday\n      folder: Other\n",
	"dashes alone":      "    sources:\n      -\n        folder: DCIM\n        rule: everyday\n      -\n        folder: Other\n        rule: everyday\n",
	"quoted":            "    sources: [{\"folder\": 'DCIM', rule: \"everyday\"}, {folder: \"Other\", rule: everyday}]\n",
	"over several":      "    sources: [\n      {folder: DCIM, rule: everyday},\n      {folder: Other,\n       rule: everyday},\n    ]\n",
	"with other script": "    sources: [{folder: DCIM, rule: everyday}, {folder: Other, rule: everyday}] # фото, 写真\n",
}

func around(sources string) string {
	return "# ours\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  desk:\n    sources: [{folder: x, rule: everyday}]\n  phone:\n" + sources +
		"    timezone: Europe/Lisbon # hers\nrules:\n  everyday: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n  slow: {take: [photo, video], to: [shed], lanes: [{over: wifi}]}\n"
}

// However the list is written, a source is added and taken out, every other byte stays,
// and taking out what was added gives the bytes before.
func TestSourcesAreChangedAndTheRestStays(t *testing.T) {
	for how, sources := range written {
		t.Run(how, func(t *testing.T) {
			before := around(sources)
			for _, folder := range []string{"Pictures", "with: colon, [x] {y} #z", "ünï/写真", "'quoted'", "-dash", "yes"} {
				with, err := plan.WithSource(before, "phone", plan.Source{Folder: folder, Rules: []string{"slow"}})
				require.NoError(t, err, folder)
				p, err := plan.Parse("p", []byte(with))
				require.NoError(t, err)
				require.Len(t, p.Devices["phone"].Sources, 3)
				assert.Equal(t, plan.Source{Folder: folder, Rules: []string{"slow"}}, p.Devices["phone"].Sources[2])
				for line := range strings.Lines(strings.Replace(before, sources, "", 1)) {
					assert.Contains(t, with, line)
				}
				again, err := plan.WithoutSource(with, "phone", folder)
				require.NoError(t, err, with)
				atEnd := regexp.MustCompile(`,?\s*\]`)
				assert.Equal(t, atEnd.ReplaceAllString(before, "]"), atEnd.ReplaceAllString(again, "]"), "only a comma at the end may go")
			}
			for _, folder := range []string{"DCIM", "Other"} {
				without, err := plan.WithoutSource(before, "phone", folder)
				require.NoError(t, err)
				p, err := plan.Parse("p", []byte(without))
				require.NoError(t, err)
				assert.Len(t, p.Devices["phone"].Sources, 1)
				assert.NotEqual(t, folder, p.Devices["phone"].Sources[0].Folder)
				for _, comment := range []string{"# ours", "# hers", "# and the rest", "# no more"} {
					assert.Equal(t, strings.Count(before, comment), strings.Count(without, comment), comment)
				}
			}
		})
	}
}

func TestSourcesThatCannotBeChangedSaySo(t *testing.T) {
	good := around(written["on lines"])
	for name, c := range map[string]struct {
		do   func() (string, error)
		says string
	}{
		"no such device": {func() (string, error) {
			return plan.WithSource(good, "tablet", plan.Source{Folder: "a", Rules: []string{"slow"}})
		}, `no device "tablet"`},
		"no such rule": {func() (string, error) {
			return plan.WithSource(good, "phone", plan.Source{Folder: "a", Rules: []string{"none"}})
		}, `there is no rule "none"`},
		"there already": {func() (string, error) {
			return plan.WithSource(good, "phone", plan.Source{Folder: "DCIM", Rules: []string{"slow"}})
		}, "DCIM"},
		"inside another": {func() (string, error) {
			return plan.WithSource(good, "phone", plan.Source{Folder: "DCIM/Camera", Rules: []string{"slow"}})
		}, "DCIM"},
		"no folder":        {func() (string, error) { return plan.WithSource(good, "phone", plan.Source{Rules: []string{"slow"}}) }, "folder"},
		"not there":        {func() (string, error) { return plan.WithoutSource(good, "phone", "a") }, `no source "a"`},
		"the only one":     {func() (string, error) { return plan.WithoutSource(good, "desk", "x") }, "the only source"},
		"a plan in pieces": {func() (string, error) { return plan.WithSource("yard: [", "phone", plan.Source{}) }, ""},
		"aliases": {func() (string, error) {
			return plan.WithSource(strings.Replace(around("    sources: *s\n"), "sources: [{folder: x", "sources: &s [{folder: x", 1), "phone", plan.Source{Folder: "a", Rules: []string{"slow"}})
		}, ""},
	} {
		_, err := c.do()
		assert.ErrorContains(t, err, c.says, name)
	}
}

// Any row of changes gives a plan that means what was asked, with all comments.
func TestAnyRowOfSourceChangesMeansWhatWasAsked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		hows := []string{"on one line", "with commas", "on lines", "on lines, flow", "not indented", "dashes alone", "quoted", "over several"}
		text := around(written[rapid.SampledFrom(hows).Draw(t, "how")])
		want := []plan.Source{{Folder: "DCIM", Rules: []string{"everyday"}}, {Folder: "Other", Rules: []string{"everyday"}}}
		comments := strings.Count(text, "#")
		for i := range rapid.IntRange(1, 8).Draw(t, "changes") {
			if len(want) > 1 && rapid.Bool().Draw(t, "remove") {
				n := rapid.IntRange(0, len(want)-1).Draw(t, "which")
				next, err := plan.WithoutSource(text, "phone", want[n].Folder)
				require.NoError(t, err, text)
				text, want = next, append(want[:n:n], want[n+1:]...)
			} else {
				s := plan.Source{Folder: fmt.Sprintf("%s %d", rapid.StringMatching(`[a-zé:{},#'" -]{1,8}x`).Draw(t, "folder"), i), Rules: []string{rapid.SampledFrom([]string{"everyday", "slow"}).Draw(t, "rule")}}
				next, err := plan.WithSource(text, "phone", s)
				require.NoError(t, err, text)
				text, want = next, append(want, s)
				comments += strings.Count(s.Folder, "#")
			}
			p, err := plan.Parse("p", []byte(text))
			require.NoError(t, err)
			require.Equal(t, want, p.Devices["phone"].Sources)
		}
		require.GreaterOrEqual(t, strings.Count(text, "#"), 2, "what stood around it")
	})
}

package plantext_test

import (
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
	"yardtide/core/plantext"
)

// put has one key of a plan say something else.
func put(text string, value any, path ...string) (string, error) {
	return plantext.Set(text, plan.Edit{Path: path, Value: value})
}

// says is what a plan says at a path, nil for nothing.
func says(t require.TestingT, text string, path ...string) any {
	p, err := plantext.Parse("p", []byte(text))
	require.NoError(t, err, text)
	var at any = plantext.Value(p)
	for _, name := range path {
		part, isPart := at.(map[string]any)
		if !isPart {
			return nil
		}
		at = part[name]
	}
	return at
}

// without is what a plan says, but for a path.
func without(v map[string]any, path ...string) map[string]any {
	v = maps.Clone(v)
	if len(path) == 1 {
		delete(v, path[0])
	} else if part, isPart := v[path[0]].(map[string]any); isPart {
		if v[path[0]] = without(part, path[1:]...); len(v[path[0]].(map[string]any)) == 0 {
			delete(v, path[0])
		}
	}
	return v
}

// writtenRules are a rule as people write it.
var writtenRules = map[string]string{
	"on one line": "  everyday: {take: [photo], to: [shed, loft], lanes: [{over: wifi}], gates: {power: charging, " +
		"hours: '22:00-06:00'}} # by night\n",
	"without gates": "  everyday: {take: [photo], to: [shed, loft], lanes: [{over: wifi}]}\n",
	"on lines": "  everyday:\n    take: [photo] # no clips\n    to: [shed, loft] # both\n    # by the home network\n " +
		"   lanes:\n      - over: wifi # only\n    gates:\n      power: charging # at the quay\n" +
		"      hours: 22:00-06:00, 12:00-13:00\n    order: oldest\n",
	"lists on lines": "  everyday:\n    take: # no clips\n      - photo\n    to:\n      - shed # the near one\n      " +
		"- loft\n    lanes:\n      - over: wifi\n    gates: {hours: \"22:00-06:00\"}\n\n",
	"gates first": "  everyday:\n    gates:\n      power: charging or at least 40%\n      idle: true\n    take: " +
		"[photo]\n    to: [shed, loft]\n    lanes: [{over: wifi, gates: {power: any}}]\n",
}

func withRule(rule string) string {
	return "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\n  loft: " +
		"{kind: folder, path: /l}\ndevices:\n  desk:\n    sources: [{folder: x, rule: everyday}]\nrules:\n" + rule +
		"  # the other\n  slow: {take: [photo, video], to: [shed], lanes: [{over: wifi}]} # slow\n"
}

var ruleEdits = map[string]struct {
	value any
	path  []string
}{
	"kinds":      {[]any{"photo", "video"}, []string{"take"}},
	"all kinds":  {[]any{"photo", "raw", "graphic", "video", "audio", "document", "other"}, []string{"take"}},
	"places":     {[]any{"loft"}, []string{"to"}},
	"power":      {"charging or at least 60%", []string{"gates", "power"}},
	"no power":   {nil, []string{"gates", "power"}},
	"hours":      {"01:00-02:00", []string{"gates", "hours"}},
	"no hours":   {nil, []string{"gates", "hours"}},
	"unused":     {"10 min", []string{"gates", "unused-for"}},
	"order":      {"oldest", []string{"order"}},
	"as if none": {"newest", []string{"order"}},
	"longer":     {"10 min", []string{"longer-than"}},
	"larger":     {"2 GB", []string{"larger-than"}},
	"each":       {true, []string{"store-each"}},
	"not each":   {false, []string{"store-each"}},
	"with it":    {[]any{"raw", "sidecar"}, []string{"companions"}},
	"picks":      {[]any{map[string]any{"when": "rated 4", "layout": "best/{year}/{caption}"}}, []string{"also"}},
	"all gates":  {map[string]any{"power": "at least 20%", "hours": "01:00-02:00", "rest": "30 min"}, []string{"gates"}},
	"no gates":   {nil, []string{"gates"}},
	"its lane":   {[]any{map[string]any{"over": "wired", "metered": true}}, []string{"lanes"}},
	"three lanes": {[]any{map[string]any{"over": "wifi", "named": []any{"Slip"}}, map[string]any{"over": "wired"},
		map[string]any{"over": "cellular", "allowance": "45 MB per day"}}, []string{"lanes"}},
}

// However a rule is written, each key is set, and nothing else changes: neither what the plan says, nor a
// comment. What is set to what it was changes no byte.
func TestAKeyIsSetAndTheRestStays(t *testing.T) {
	for how, rule := range writtenRules {
		before := withRule(rule)
		for name, e := range ruleEdits {
			t.Run(how+"/"+name, func(t *testing.T) {
				path := append([]string{"rules", "everyday"}, e.path...)
				after, err := put(before, e.value, path...)
				require.NoError(t, err)
				want := e.value
				if want == "newest" || want == false {
					want = nil
				}
				assert.Equal(t, want, says(t, after, path...))
				was, is := says(t, before).(map[string]any), says(t, after).(map[string]any)
				assert.Equal(t, without(was, path...), without(is, path...))
				for _, comment := range []string{"# ours", "# by night", "# by the home network", "# the other", "# slow"} {
					assert.Equal(t, strings.Count(before, comment), strings.Count(after, comment), comment)
				}
				same, err := put(after, e.value, path...)
				require.NoError(t, err)
				assert.Equal(t, after, same)
				back, err := put(after, says(t, before, path...), path...)
				require.NoError(t, err)
				assert.Equal(t, was, says(t, back))
			})
		}
	}
}

func TestWhatCannotBeSetSaysSo(t *testing.T) {
	good := withRule(writtenRules["on lines"])
	rule := func(key ...string) []string { return append([]string{"rules", "slow"}, key...) }
	films := map[string]any{"take": []string{"video"}, "to": []string{"loft"},
		"lanes": []any{map[string]any{"over": "wifi"}}}
	for name, c := range map[string]struct {
		value any
		path  []string
		says  string
	}{
		"no such rule":        {"oldest", []string{"rules", "none", "order"}, `no rule "none"`},
		"no such device":      {"1 MB/s", []string{"devices", "none", "limit"}, `no device "none"`},
		"no such place":       {[]string{"attic"}, rule("to"), `no destination "attic"`},
		"no such key":         {"x", rule("colour"), `has no key "colour"`},
		"no such part":        {"x", []string{"boats", "wren"}, `has no key "boats"`},
		"too deep":            {"x", rule("order", "first"), "has no key"},
		"nothing":             {"x", nil, "say which key"},
		"no kind":             {[]string{"sound"}, rule("take"), "sound"},
		"nothing taken":       {[]string{}, rule("take"), "take is empty"},
		"taken out":           {nil, rule("take"), "take is needed"},
		"a word for a list":   {"photo", rule("take"), "take is text"},
		"a list for a word":   {[]string{"oldest"}, rule("order"), "order is a list"},
		"a word for a yes":    {"often", rule("store-each"), "store-each is text"},
		"a number for text":   {7, rule("gates", "power"), "power is a number"},
		"odd power":           {"sometimes", rule("gates", "power"), "sometimes"},
		"odd hours":           {"25:00-26:00", rule("gates", "hours"), "25:00"},
		"odd length":          {"an hour", rule("longer-than"), "an hour"},
		"odd size":            {"45 mobi", rule("larger-than"), "45 mobi"},
		"odd order":           {"random", rule("order"), "random"},
		"two lines":           {"oldest\nyard: x", rule("order"), "control character"},
		"odd lane":            {[]any{map[string]any{"over": "pigeon"}}, rule("lanes"), "pigeon"},
		"no lane":             {[]any{}, rule("lanes"), "lanes is empty"},
		"a lane's odd key":    {[]any{map[string]any{"over": "wifi", "speed": 3}}, rule("lanes"), `no key "speed"`},
		"a place past a list": {"cellular", rule("lanes", "#7", "over"), "cannot be changed by program"},
		"no place in a list":  {"cellular", rule("lanes", "first", "over"), "is no place in a list"},
		"the last lane":       {nil, rule("lanes", "#0"), "is the only lane"},
		"one too deep":        {strings.Repeat("x", plantext.MaxSize), []string{"yard"}, "bytes long"},
		"an odd name":         {films, []string{"rules", "a b"}, "cannot be the name"},
		"a kept name":         {films, []string{"rules", ""}, "cannot be the name"},
		"no such rule to go":  {nil, []string{"rules", "none"}, `no rule "none"`},
		"one followed":        {nil, []string{"rules", "everyday"}, "x of desk follows everyday"},
		"one sent to":         {nil, []string{"destinations", "loft"}, "the rule everyday sends to loft"},
		"the only device":     {nil, []string{"devices", "desk"}, "is the only device"},
		"the only source":     {nil, []string{"devices", "desk", "sources", "#0"}, "x is the only source"},
		"a folder twice": {map[string]any{"folder": "x/y", "rules": []string{"slow"}},
			[]string{"devices", "desk", "sources", "+"}, "lie in one another"},
		"no such zone":  {"Europe/Lisboa", []string{"devices", "desk", "timezone"}, "no time zone"},
		"no limit":      {"fast", []string{"devices", "desk", "limit"}, "is not a limit"},
		"a slow limit":  {"1 kB/s", []string{"devices", "desk", "limit"}, "too slow"},
		"an odd layout": {"{caption}", []string{"destinations", "shed", "layout"}, "{caption} is for picks"},
		"no rendition":  {map[string]any{"quality": 70}, []string{"renditions", "web"}, "has no limit"},
		"an odd rendition": {map[string]any{"long-edge": 3}, []string{"renditions", "web"},
			"long-edge is not such a number"},
		"an odd quality": {map[string]any{"long-edge": 100, "quality": 300}, []string{"renditions", "web"},
			"quality is not such a number"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := put(good, c.value, c.path...)
			assert.ErrorContains(t, err, c.says)
		})
	}
	_, err := plantext.Set(good, plan.Edit{Path: []string{"rules", "slow"}, Value: films, New: true})
	assert.ErrorContains(t, err, `the plan has a rule "slow" already`)
	for _, broken := range []string{"", "a: [", "yard: ["} {
		_, err := put(broken, "x", "yard")
		var problems plantext.Problems
		assert.ErrorAs(t, err, &problems)
	}
}

// Any plan becomes any other by edits, a key at a time, in whatever way it is written: it then says what was
// asked and keeps its comment, or it is left as it was with a word why.
func TestAnyPlanIsEditedIntoAnyOther(t *testing.T) {
	refused, done := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		text, other := drawn.Draw(t, "plan"), drawn.Draw(t, "other")
		is, want := says(t, text).(map[string]any), says(t, other).(map[string]any)
		same, err := plantext.Set(text, edits(is, is)...)
		require.NoError(t, err)
		require.Equal(t, text, same, "forms that change nothing change no byte")
		after, err := plantext.Set(text, edits(is, want)...)
		if err != nil {
			var edit plantext.EditError
			require.ErrorAs(t, err, &edit, text)
			refused++
			return
		}
		done++
		require.True(t, strings.HasPrefix(after, "# ours\n"), after)
		require.Equal(t, without(want, "format"), without(says(t, after).(map[string]any), "format"))
	})
	assert.Greater(t, done, 3*refused, "hardly one is refused")
}

// edits are those that have a plan say what another says.
func edits(is, want map[string]any) (list []plan.Edit) {
	for _, key := range slices.Sorted(maps.Keys(want)) {
		if key != "format" {
			list = append(list, plan.Edit{Path: []string{key}, Value: want[key]})
		}
	}
	for _, key := range slices.Sorted(maps.Keys(is)) {
		if _, stays := want[key]; !stays && key != "format" {
			list = append(list, plan.Edit{Path: []string{key}})
		}
	}
	return list
}

func TestWhatANewValueBringsWithIt(t *testing.T) {
	text := withRule(writtenRules["on lines"])
	with, err := put(text, "ines", "devices", "desk", "person")
	require.NoError(t, err)
	assert.Equal(t, []any{"ines"}, says(t, with, "people"), "who is new is one of the people then")
	reduced, err := plantext.Set(text, plan.Edit{Path: []string{"renditions", "web"},
		Value: map[string]any{"long-edge": 1200}},
		plan.Edit{Path: []string{"rules", "everyday", "send", "photo"}, Value: "web"})
	require.NoError(t, err)
	assert.Equal(t, "web", says(t, reduced, "rules", "everyday", "send", "photo"))
	_, err = put(reduced, nil, "renditions", "web")
	require.ErrorContains(t, err, "the rule everyday sends as web")
	clips, err := put(reduced, []string{"video"}, "rules", "everyday", "take")
	require.NoError(t, err)
	assert.Nil(t, says(t, clips, "rules", "everyday", "send"), "what is no longer taken has no form either")
	back, err := plantext.Set(reduced, plan.Edit{Path: []string{"rules", "everyday", "send", "photo"}},
		plan.Edit{Path: []string{"renditions", "web"}})
	require.NoError(t, err)
	assert.Equal(t, text, back, "byte for byte")
}

// A form leaves fields empty: they say nothing.
func TestWhatIsLeftEmptySaysNothing(t *testing.T) {
	text := withRule(writtenRules["on lines"])
	lane := map[string]any{"over": "wifi", "allowance": "", "metered": false, "take": []string{}, "named": nil,
		"gates": map[string]any{"power": ""}}
	after, err := put(text, []any{lane}, "rules", "everyday", "lanes")
	require.NoError(t, err)
	assert.Equal(t, text, after)
	_, err = put(text, map[string]any{"take": "", "to": []string{"shed"}, "lanes": []any{lane}}, "rules", "films")
	assert.ErrorContains(t, err, "has no take")
}

func TestANewPartStandsOnLinesOfItsOwn(t *testing.T) {
	text := withRule(writtenRules["on one line"])
	barn := map[string]any{"kind": "sftp", "address": "shed.example:22", "host-key": shed.HostKey,
		"user": "o'brien \"x\"", "key-from": "kept:shed", "keep-free": "20 GB"}
	with, err := plantext.Set(text, plan.Edit{Path: []string{"destinations", "barn"}, Value: barn, New: true})
	require.NoError(t, err)
	assert.Contains(t, with, "\n  barn:\n    kind: sftp\n    address: shed.example:22\n")
	assert.Equal(t, barn, says(t, with, "destinations", "barn"))
	films := map[string]any{"take": []any{"video"}, "to": []any{"barn"},
		"lanes": []any{map[string]any{"over": "wired", "metered": true}}, "gates": map[string]any{"hours": "22:00-06:00"}}
	both, err := plantext.Set(with, plan.Edit{Path: []string{"rules", "films"}, Value: films})
	require.NoError(t, err)
	assert.Contains(t, both, "\n  films:\n    take: [video]\n    to: [barn]\n    lanes:\n      - over: wired\n       "+
		" metered: true\n    gates:\n      hours: \"22:00-06:00\"\n")
	joined, err := plantext.Set(both, plan.Edit{Path: []string{"devices", "loft-tablet"},
		Value: map[string]any{"sources": []any{map[string]any{"folder": "Pictures", "rules": []string{"films"}}}}})
	require.NoError(t, err)
	assert.Contains(t, joined, "\n  loft-tablet:\n    sources:\n      - folder: Pictures\n        rule: films\n")
	back, err := plantext.Set(joined, plan.Edit{Path: []string{"devices", "loft-tablet"}},
		plan.Edit{Path: []string{"rules", "films"}}, plan.Edit{Path: []string{"destinations", "barn"}})
	require.NoError(t, err)
	assert.Equal(t, text, back)
	flow := "{yard: T, timezone: UTC, format: 2, destinations: {shed: {kind: folder, path: /s}}, devices: {desk: " +
		"{sources: [{folder: x, rule: r}]}}, rules: {r: {take: [photo], to: [shed], lanes: [{over: wifi}]}}}"
	with, err = plantext.Set(flow, plan.Edit{Path: []string{"destinations", "barn"}, Value: barn})
	require.NoError(t, err, "however it is written")
	assert.Equal(t, barn, says(t, with, "destinations", "barn"))
}

// A device gets lanes and gates of its own of a rule, and none again; what is around them goes with the last.
func TestADevicesOwnOfARuleIsSet(t *testing.T) {
	text := "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  " +
		"desk:\n    # hers\n    sources: [{folder: x, rule: everyday}] # one\n  phone: {sources: [{folder: x, rule: " +
		"everyday}]} # his\nrules:\n  everyday: {take: [photo], to: [shed], lanes: [{over: wifi}], gates: {power: " +
		"charging, hours: '22:00-06:00'}} # last\n  slow: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n"
	for _, device := range []string{"desk", "phone"} {
		own := func(rule string, key ...string) []string {
			return append([]string{"devices", device, "rules", rule}, key...)
		}
		one, err := plantext.Set(text, plan.Edit{Path: own("everyday", "gates", "power"), Value: "any"},
			plan.Edit{Path: own("everyday", "gates", "hours"), Value: "01:00-02:00"})
		require.NoError(t, err)
		p, err := plantext.Parse("p", []byte(one))
		require.NoError(t, err)
		assert.Equal(t, plan.Gates{Hours: plan.Hours{{Start: 60, End: 120}}}, p.On(device).Rules["everyday"].Gates)
		two, err := plantext.Set(one, plan.Edit{Path: own("everyday", "lanes"),
			Value: []any{map[string]any{"over": "wired"}, map[string]any{"over": "cellular", "allowance": "45 MB per day"}}},
			plan.Edit{Path: own("slow", "gates", "hours"), Value: "any"})
		require.NoError(t, err)
		assert.Equal(t, "45 MB per day", says(t, two, own("everyday", "lanes")...).([]any)[1].(map[string]any)["allowance"])
		back, err := plantext.Set(two, plan.Edit{Path: own("slow", "gates", "hours"), Value: ""},
			plan.Edit{Path: own("everyday")})
		require.NoError(t, err)
		assert.Equal(t, text, back)
	}
}

// However lanes are written, one is changed, added and taken out; the rest, comments and gates too, stays.
func TestLanesAreSetAndTheRestStays(t *testing.T) {
	around := func(lanes string) string {
		return "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  " +
			"desk:\n    sources: [{folder: x, rule: everyday}]\nrules:\n  everyday:\n    take: [photo, video]\n    to: " +
			"[shed]\n" + lanes + "    order: oldest # last\n"
	}
	for _, text := range []string{
		around("    lanes: # both\n      - over: wifi # at home\n        gates: {rest: 30 min} # at rest\n      - over: " +
			"cellular # outside\n        allowance: 45 MB per day # a day\n"),
		around("    lanes: [{over: wifi, gates: {rest: 30 min}}, {over: cellular, allowance: 45 MB per day}] # at home, " +
			"outside\n"),
	} {
		lanes := []string{"rules", "everyday", "lanes"}
		lane := func(n string, key ...string) []string { return append(append(slices.Clone(lanes), n), key...) }
		after, err := plantext.Set(text, plan.Edit{Path: lane("#1", "allowance"), Value: "200 MB per month"},
			plan.Edit{Path: lane("#1", "take"), Value: []string{"photo"}}, plan.Edit{Path: lane("#1", "roaming"), Value: true})
		require.NoError(t, err)
		is := says(t, after, lanes...).([]any)
		assert.Equal(t, map[string]any{"over": "cellular", "take": []any{"photo"}, "allowance": "200 MB per month",
			"roaming": true}, is[1])
		for _, comment := range []string{"# ours", "# both", "# at home", "# at rest", "# outside", "# a day", "# last"} {
			assert.Equal(t, strings.Count(text, comment), strings.Count(after, comment), comment)
		}
		back, err := put(after, says(t, text, lanes...), lanes...)
		require.NoError(t, err)
		assert.Equal(t, text, back, "back is as it was")
		with, err := put(text, map[string]any{"over": "wired"}, lane("+")...)
		require.NoError(t, err)
		gone, err := put(with, nil, lane("#0")...)
		require.NoError(t, err)
		assert.Equal(t, []any{is[1].(map[string]any)["over"], "wired"},
			[]any{says(t, gone, lanes...).([]any)[0].(map[string]any)["over"],
				says(t, gone, lanes...).([]any)[1].(map[string]any)["over"]})
		assert.Contains(t, gone, "# last")
	}
}

// written are lists of sources as people write them.
var written = map[string]string{
	"on one line": "    sources: [{folder: DCIM, rule: everyday}, {folder: Other, rule: everyday}]\n",
	"with commas": "    sources: [ {folder: DCIM, rule: everyday} , {folder: Other, rule: everyday}, ] # both\n",
	"on lines": "    sources:\n      - folder: DCIM # the camera's\n        rule: everyday\n\n      # and " +
		"the rest\n      - folder: Other\n        rule: everyday\n",
	"on lines, flow": "    sources:\n      - {folder: DCIM, rule: everyday} # the camera's\n      - {folder: " +
		"Other, rule: everyday}\n      # no more\n",
	"not indented": "    sources:\n    - folder: DCIM\n      rule: everyday\n    - rule: everyday\n      " +
		"folder: Other\n",
	"dashes alone": "    sources:\n      -\n        folder: DCIM\n        rule: everyday\n      -\n        " +
		"folder: Other\n        rule: everyday\n",
	"quoted": "    sources: [{\"folder\": 'DCIM', rule: \"everyday\"}, {folder: \"Other\", rule: everyday}]\n",
	"over several": "    sources: [\n      {folder: DCIM, rule: everyday},\n      {folder: Other,\n       rule: " +
		"everyday},\n    ]\n",
	"with other script": "    sources: [{folder: DCIM, rule: everyday}, {folder: Other, rule: everyday}] # фото, " +
		"写真\n",
}

func around(sources string) string {
	return "# ours\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  desk:\n    " +
		"sources: [{folder: x, rule: everyday}]\n  phone:\n" + sources +
		"    timezone: Europe/Lisbon # hers\nrules:\n  everyday: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n  " +
		"slow: {take: [photo, video], to: [shed], lanes: [{over: wifi}]}\n"
}

// However the list is written, a source is added and taken out, every other byte stays,
// and taking out what was added gives the bytes before.
func TestSourcesAreSetAndTheRestStays(t *testing.T) {
	list := []string{"devices", "phone", "sources"}
	for how, sources := range written {
		t.Run(how, func(t *testing.T) {
			before := around(sources)
			for _, folder := range []string{"Pictures", "with: colon, [x] {y} #z", "ünï/写真", "'quoted'", "-dash", "yes"} {
				with, err := put(before, map[string]any{"folder": folder, "rules": []string{"slow"}}, append(list, "+")...)
				require.NoError(t, err, folder)
				is := says(t, with, list...).([]any)
				require.Len(t, is, 3)
				assert.Equal(t, map[string]any{"folder": folder, "rules": []any{"slow"}}, is[2])
				for line := range strings.Lines(strings.Replace(before, sources, "", 1)) {
					assert.Contains(t, with, line)
				}
				again, err := put(with, nil, append(list, "#2")...)
				require.NoError(t, err, with)
				atEnd := regexp.MustCompile(`,?\s*\]`)
				assert.Equal(t, atEnd.ReplaceAllString(before, "]"), atEnd.ReplaceAllString(again, "]"),
					"only a comma at the end may go")
			}
			for n, folder := range []string{"DCIM", "Other"} {
				without, err := put(before, nil, append(list, fmt.Sprintf("#%d", n))...)
				require.NoError(t, err)
				left := says(t, without, list...).([]any)
				require.Len(t, left, 1)
				assert.NotEqual(t, folder, left[0].(map[string]any)["folder"])
				for _, comment := range []string{"# ours", "# hers", "# and the rest", "# no more"} {
					assert.Equal(t, strings.Count(before, comment), strings.Count(without, comment), comment)
				}
			}
		})
	}
}

// Any row of changes of a source means what was asked, and changing it back gives the plan before.
func TestAnyRowOfSourceEditsMeansWhatWasAsked(t *testing.T) {
	word := rapid.SampledFrom([]string{"*.tmp", "Screenshots/", "!kept", "a, b", `it's "so"`, "ünï/**", "- x", "{y}",
		"[ab]c"})
	source := rapid.Custom(func(t *rapid.T) map[string]any {
		s := map[string]any{"folder": "in", "rules": rapid.SampledFrom([][]any{{"rest"}, {"raws", "rest"},
			{"films", "raws", "rest"}}).Draw(t, "rules")}
		maybe := func(key string, value func() any) {
			if rapid.Bool().Draw(t, key) {
				s[key] = value()
			}
		}
		patterns := func() any {
			var list []any
			for _, w := range rapid.SliceOfN(word, 1, 3).Draw(t, "patterns") {
				list = append(list, w)
			}
			return list
		}
		maybe("only", patterns)
		maybe("leave-out", patterns)
		maybe("hidden", func() any { return true })
		maybe("smallest", func() any { return rapid.SampledFrom([]string{"1 B", "1500 B", "10 kB"}).Draw(t, "smallest") })
		maybe("largest", func() any { return rapid.SampledFrom([]string{"10001 B", "4 GB"}).Draw(t, "largest") })
		maybe("taken-from", func() any { return "2020-02-29" })
		maybe("taken-until", func() any { return "2026-12-31" })
		maybe("new-since", func() any { return "2026-11-25" })
		return s
	})
	around := []string{
		"    sources: [{folder: x, rule: rest}, {folder: in, rule: rest}] # ours\n",
		"    sources:\n      # the inbox\n      - folder: x # first\n        rule: rest\n      - folder: in # second\n  " +
			"      # by the rest\n        rule: rest\n    timezone: UTC\n",
		"    sources:\n      - {folder: x, rules: [raws, rest]} # both\n      - rule: rest\n        folder: in\n",
	}
	path := []string{"devices", "desk", "sources"}
	rapid.Check(t, func(t *rapid.T) {
		text := "# top\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\n  loft: " +
			"{kind: folder, path: /l}\ndevices:\n  desk:\n" + rapid.SampledFrom(around).Draw(t, "written") +
			"rules:\n  raws: {take: [raw], to: [shed], lanes: [{over: wifi}]}\n  films: {take: [video], to: [loft], lanes: " +
			"[{over: wifi}]}\n  rest: {take: [photo, video], to: [shed, loft], lanes: [{over: wifi}]} # end\n"
		now := text
		for range rapid.IntRange(1, 4).Draw(t, "changes") {
			want := source.Draw(t, "source")
			var err error
			now, err = put(now, want, append(path, "#1")...)
			require.NoError(t, err, now)
			require.Equal(t, want, says(t, now, path...).([]any)[1])
			for _, comment := range []string{"# top", "# ours", "# the inbox", "# first", "# second", "# both", "# end"} {
				require.Equal(t, strings.Count(text, comment), strings.Count(now, comment), comment)
			}
		}
		back, err := put(now, says(t, text, path...), path...)
		require.NoError(t, err, now)
		require.True(t, reflect.DeepEqual(says(t, text), says(t, back)), back)
	})
}

// A new device's name may be any that devices have.
func TestADeviceIsCalledOtherwise(t *testing.T) {
	for _, key := range []string{"phone:", `"phone":`, "'phone' :", "phone: # Ines's, not the phone: of work"} {
		text := strings.Replace(around("    limit: 2 MB/s\n    sources: [{folder: phone, rule: everyday}]\n"), "phone:", key,
			1)
		after, err := plantext.WithRenamedDevice(text, "phone", "galley.phone-2")
		require.NoError(t, err, key)
		was, err := plantext.Parse("p", []byte(text))
		require.NoError(t, err)
		is, err := plantext.Parse("p", []byte(after))
		require.NoError(t, err)
		assert.Equal(t, was.Devices["phone"], is.Devices["galley.phone-2"])
		assert.Len(t, is.Devices, len(was.Devices))
		back, err := plantext.WithRenamedDevice(after, "galley.phone-2", "phone")
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer(`"phone"`, "phone", `'phone'`, "phone").Replace(text), back,
			"the rest stays byte for byte")
	}
	text := around("    sources: [{folder: DCIM, rule: everyday}]\n")
	for _, to := range []string{"", "a b", "x: y", "a\nb", "phone", "{person}", strings.Repeat("a", 64), "-a", "#"} {
		_, err := plantext.WithRenamedDevice(text, "phone", to)
		require.Error(t, err, to)
	}
	for _, to := range []string{"yes", "null", "12", "1e3", "0x1f", "2026-11-26"} { // words that YAML may read otherwise
		after, err := plantext.WithRenamedDevice(text, "phone", to)
		require.NoError(t, err, to)
		is, err := plantext.Parse("p", []byte(after))
		require.NoError(t, err, to)
		assert.Contains(t, is.Devices, to)
	}
	_, err := plantext.WithRenamedDevice(text, "none", "other")
	assert.ErrorContains(t, err, `no device "none"`)
}

// wild are values that an edit may have, of every form and size.
var wild = rapid.OneOf(
	rapid.Map(rapid.SampledFrom([]string{"", "wifi", "photo", "shed", "everyday", "10 min", "any", "- x: [", "#1", "+",
		"a: {b", "\n", "'", "ünï", "at least 40%", "2 GB per month"}), func(s string) any { return s }),
	rapid.Map(rapid.Bool(), func(b bool) any { return b }),
	rapid.Map(rapid.Float64(), func(n float64) any { return n }),
	rapid.Just(any([]any{"photo", "video"})),
	rapid.Just(any([]any{nil, 7.0, m{}, []any{}})),
	rapid.Just(any(m{"take": []any{"photo"}, "to": []any{"shed"}, "lanes": []any{m{"over": "wifi"}}})),
	rapid.Just(any(m{"photo": "family"})),
	rapid.Just(any(m{"": m{"x": nil}})),
	rapid.Just(any([]any{m{"over": "wired"}, m{"over": "cellular"}})),
	rapid.Just(any(m{"sources": []any{m{"folder": "in", "rule": "everyday"}}})),
)

// there is a path to something that a plan says.
func there(t *rapid.T, says any) (path []string) {
	for {
		var next []string
		switch is := says.(type) {
		case map[string]any:
			next = slices.Sorted(maps.Keys(is))
		case []any:
			for i := range is {
				next = append(next, fmt.Sprintf("#%d", i))
			}
		}
		if len(next) == 0 || len(path) > 1 && rapid.IntRange(0, 2).Draw(t, "stop") == 0 {
			return path
		}
		i := rapid.IntRange(0, len(next)-1).Draw(t, "key")
		path = append(path, next[i])
		switch is := says.(type) {
		case map[string]any:
			says = is[next[i]]
		case []any:
			says = is[i]
		}
	}
}

// Whatever is asked of a plan, or of one that is being made, in whatever row: it is done or refused, never a fault.
func TestNoEditIsAFault(t *testing.T) {
	words := []string{"+", "#0", "#1", "#9", "#-1", "#x", "", "everyday", "films", "phone", "desk", "shed", "none",
		"family"}
	var all func(keys []plantext.Key)
	all = func(keys []plantext.Key) {
		for _, k := range keys {
			if !slices.Contains(words, k.Name) {
				words = append(words, k.Name)
				all(k.Keys)
			}
		}
	}
	all(plantext.Keys())
	rapid.Check(t, func(t *rapid.T) {
		text := drawn.Draw(t, "plan")
		draft := rapid.Bool().Draw(t, "draft")
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			var list []plan.Edit
			for range rapid.IntRange(1, 3).Draw(t, "edits") {
				path := rapid.SliceOfN(rapid.SampledFrom(words), 0, 6).Draw(t, "path")
				if rapid.IntRange(0, 4).Draw(t, "likely") > 0 {
					path = there(t, plantext.Value(plantext.Draft(text)))
				}
				e := plan.Edit{Path: path, New: rapid.Bool().Draw(t, "new")}
				if !rapid.Bool().Draw(t, "out") {
					e.Value = wild.Draw(t, "value")
				}
				list = append(list, e)
			}
			set := plantext.Set
			if draft {
				set = plantext.SetDraft
			}
			if next, err := set(text, list...); err == nil {
				text = next
			}
		}
	})
}

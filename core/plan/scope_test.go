package plan_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
)

func source(t testing.TB, fields string) (*plan.Plan, plan.Source) {
	t.Helper()
	p, err := plantext.Parse("p", []byte("format: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, "+
		"path: /s}\n  loft: {kind: folder, path: /l}\ndevices:\n  desk:\n    sources: [{folder: in, "+fields+"}]\n"+
		"rules:\n  raws: {take: [raw], to: [shed], lanes: [{over: wifi}]}\n  films: {take: [video], longer-than: 10 "+
		"min, larger-than: 2 GB, to: [loft], lanes: [{over: wifi}]}\n  rest: {take: [photo, graphic, video], to: [shed, "+
		"loft], lanes: [{over: wifi}]}\n"))
	require.NoError(t, err)
	return p, p.Devices["desk"].Sources[0]
}

func day(text string) time.Time {
	d, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return d.Add(12 * time.Hour)
}

func TestTheFirstRuleThatTakesAFileCounts(t *testing.T) {
	p, s := source(t, "rules: [raws, films, rest]")
	c := p.Chooser(s, time.UTC)
	for want, f := range map[string]plan.File{
		"raws":  {Path: "a.dng", Kind: media.Raw, Bytes: 1},
		"rest":  {Path: "b.mp4", Kind: media.Video, Bytes: 2_000_000_000, Seconds: 600},
		"films": {Path: "c.mp4", Kind: media.Video, Bytes: 2_000_000_001},
	} {
		rule, why := c.Choose(f)
		assert.Equal(t, want, rule)
		assert.Empty(t, why)
	}
	rule, _ := c.Choose(plan.File{Path: "d.mp4", Kind: media.Video, Bytes: 5, Seconds: 601})
	assert.Equal(t, "films", rule, "long is enough")
	rule, why := c.Choose(plan.File{Path: "e.pdf", Kind: media.Document})
	assert.Empty(t, rule)
	assert.Equal(t, "No rule of the source takes documents like it.", why)

	assert.True(t, p.Wants("desk", "in", plan.File{Path: "a.dng", Kind: media.Raw}, "shed", plan.Main))
	assert.False(t, p.Wants("desk", "in", plan.File{Path: "a.dng", Kind: media.Raw}, "loft", plan.Main))
	assert.False(t, p.Wants("desk", "out", plan.File{Path: "a.dng", Kind: media.Raw}, "shed", plan.Main))
}

func TestAScopeSaysWhatItLeavesOutAndByWhat(t *testing.T) {
	file := plan.File{Path: "Boats/keel.jpg", Kind: media.Photo, Bytes: 50_000, Taken: day("2025-06-01"),
		Came: day("2026-11-25")}
	named := func(path string) plan.File { f := file; f.Path = path; return f }
	for fields, cases := range map[string]map[string]plan.File{
		"rule: rest":               {"": named(".hidden.jpg/x.jpg"), "Hidden files are left out.": named(".trash/keel.jpg")},
		"rule: rest, hidden: true": {"": named(".trash/keel.jpg")},
		`rule: rest, leave-out: ["*.png", Trips/, "!Trips/kept.jpg"]`: {
			`Left out by "*.png".`: named("Boats/shot.png"), `Left out by "Trips/".`: named("a/Trips/b/keel.jpg"),
			"": named("Trips/kept.jpg"),
		},
		`rule: rest, leave-out: [/Boats/old]`: {`Left out by "/Boats/old".`: named("Boats/old/keel.jpg"),
			"": named("x/Boats/old/keel.jpg")},
		`rule: rest, only: ["*.jpg", "!*x.jpg"]`: {"": named("keel.jpg"),
			`It is not among what "only" names.`: named("keelx.jpg")},
		"rule: rest, smallest: 50 kB, largest: 50 kB":                 {"": file},
		"rule: rest, smallest: 51 kB":                                 {"It is smaller than 51 kB.": file},
		"rule: rest, largest: 49 kB":                                  {"It is larger than 49 kB.": file},
		"rule: rest, taken-from: 2025-06-01, taken-until: 2025-06-01": {"": file},
		"rule: rest, taken-from: 2025-06-02":                          {"It was taken before 2025-06-02.": file},
		"rule: rest, taken-until: 2025-05-31":                         {"It was taken after 2025-05-31.": file},
		"rule: rest, new-since: 2026-11-25":                           {"": file},
		"rule: rest, new-since: 2026-11-26":                           {"It was there before 2026-11-26.": file},
	} {
		p, s := source(t, fields)
		c := p.Chooser(s, time.UTC)
		for why, f := range cases {
			if fields == "rule: rest" && why == "" {
				f.Path = "a.hidden/x.jpg"
			}
			rule, says := c.Choose(f)
			assert.Equal(t, why, says, "%s: %s", fields, f.Path)
			assert.Equal(t, why == "", rule == "rest", fields)
		}
	}
}

func TestOfALibraryOnlyOriginalsAreTaken(t *testing.T) {
	p, s := source(t, "rules: [rest], originals-only: [Old.case/, deep/er]")
	c := p.Chooser(s, time.UTC)
	for _, one := range []struct {
		f   plan.File
		why string
	}{
		{plan.File{Path: "Old.case/a.jpg", Kind: media.Photo}, "It is not known yet whether it is a smaller version of another."},
		{plan.File{Path: "Old.case/a.jpg", Kind: media.Photo, Sorted: true}, ""},
		{plan.File{Path: "Old.case/a.jpg", Kind: media.Photo, Sorted: true, MadeFrom: "Old.case/b.jpg"},
			`It is a smaller version of "Old.case/b.jpg".`},
		{plan.File{Path: "deep/er/x/a.mp4", Kind: media.Video, Sorted: true, MadeFrom: "deep/er/x/CACHEDIR.TAG"},
			"It lies in a cache, which says so itself."},
		{plan.File{Path: "deep/era/a.jpg", Kind: media.Photo}, ""},
		{plan.File{Path: "Old.case.jpg", Kind: media.Photo}, ""},
	} {
		assert.Equal(t, one.why, c.LeavesOut(one.f), one.f.Path)
	}
	assert.True(t, c.ByOrigin())
	assert.False(t, c.ByKind())
	_, s = source(t, "rules: [rest], originals-only: [.]")
	assert.NotEmpty(t, p.Chooser(s, time.UTC).LeavesOut(plan.File{Path: "any/a.jpg", Kind: media.Photo}))
	_, s = source(t, "rules: [rest]")
	assert.Empty(t, p.Chooser(s, time.UTC).LeavesOut(plan.File{Path: "any/a.jpg", Kind: media.Photo, MadeFrom: "b.jpg"}),
		"it matters only where the plan asks for it")
}

func TestScopesThatCannotBeMeantAreRefused(t *testing.T) {
	for fields, says := range map[string]string{
		"rule: rest, rules: [rest]":                                   "has rule and rules",
		"hidden: true":                                                "has no rule",
		"rules: []":                                                   "rules is empty",
		"rules: [rest, rest]":                                         "stands here twice",
		"rules: [none]":                                               `no rule "none"`,
		"rule: rest, leave-out: ['#x']":                               "is a comment",
		"rule: rest, leave-out: ['!']":                                "fits nothing",
		"rule: rest, only: ['[a']":                                    "bracket is not closed",
		"rule: rest, only: x":                                         "is text",
		"rule: rest, smallest: 5 GB, largest: 4 GB":                   "takes nothing",
		"rule: rest, smallest: 0":                                     "a number",
		"rule: rest, largest: '4,5 GB'":                               "is not a size",
		"rule: rest, taken-from: 2025-13-01":                          "is not a day",
		"rule: rest, taken-from: 1.2.2025":                            "is not a day",
		"rule: rest, taken-from: 2026-01-02, taken-until: 2026-01-01": "takes nothing",
		"rule: rest, hidden: sometimes":                               "hidden is text",
		"rule: rest, originals-only: [../else]":                       "is no folder below the source",
		"rule: rest, originals-only: [/abs]":                          "is no folder below the source",
		"rule: rest, originals-only: [a, a]":                          "stands here twice",
	} {
		_, err := plantext.Parse("p", []byte("yard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: "+
			"/s}\ndevices:\n  desk:\n    sources: [{folder: in, "+fields+
			"}]\nrules:\n  rest: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n"))
		assert.ErrorContains(t, err, says, fields)
	}
}

func TestADeviceHasItsOwnOfARule(t *testing.T) {
	text, err := os.ReadFile("../plantext/testdata/good.yaml")
	require.NoError(t, err)
	p, err := plantext.Parse("p", text)
	require.NoError(t, err)
	own := p.On("chart-table")
	assert.Equal(t, []plan.Lane{{Over: plan.WiFi}}, own.Rules["slow"].Lanes)
	assert.Empty(t, own.Rules["slow"].Gates.Hours, "any hour")
	assert.Equal(t, plan.MustBeIdle, own.Rules["slow"].Gates.Idle, "what it does not name stays")
	assert.Equal(t, p.Rules["everyday"], own.Rules["everyday"])
	assert.NotEmpty(t, p.Rules["slow"].Gates.Hours, "the rule itself is as it was")
	assert.Same(t, p, p.On("galley-phone"))
}

// A plan of the first format takes what it took; one of the second says each kind.
func TestPhotoKeepsItsMeaningInTheFirstFormat(t *testing.T) {
	text := "yard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  desk: {sources: " +
		"[{folder: in, rule: all}], rules: {all: {lanes: [{over: wired, take: [photo]}]}}}\nrules:\n  all: {take: " +
		"[video, photo], to: [shed], lanes: [{over: wifi, take: [photo]}]}\n"
	pictures := media.Pictures
	for format, want := range map[string][]media.Kind{"": pictures, "format: 1\n": pictures,
		"format: 2\n": {media.Photo}} {
		p, err := plantext.Parse("p", []byte(format+text))
		require.NoError(t, err)
		assert.Equal(t, append(want[:len(want):len(want)], media.Video), p.Rules["all"].Take)
		assert.Equal(t, want, p.Rules["all"].Lanes[0].Take)
		assert.Equal(t, want, p.On("desk").Rules["all"].Lanes[0].Take)
	}
	for _, format := range []string{"format: 3\n", "format: two\n", "format: -1\n"} {
		_, err := plantext.Parse("p", []byte(format+text))
		assert.ErrorContains(t, err, "format is not such a number")
	}
	after, err := plantext.Set(text, plan.Edit{Path: []string{"rules", "all", "take"},
		Value: []string{"raw", "photo", "video"}})
	require.Error(t, err, "its lane takes what the rule no longer would: %s", after)
	after, err = plantext.Set(text, plan.Edit{Path: []string{"rules", "all", "take"}, Value: media.Kinds})
	require.NoError(t, err)
	assert.Contains(t, after, "format: 2\nyard: T\n")
	assert.Contains(t, after, "take: [everything], to")
	assert.Contains(t, after, "{over: wired, take: [photo, raw, graphic]}")
}

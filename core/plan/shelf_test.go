package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
)

const shelved = `format: 2
yard: Test
timezone: UTC
renditions:
  quick: {long-edge: 800}
  tiny: {long-edge: 200, facts: no place}
  open: {format: both, long-edge: 2000, colours: srgb}
  films: {height: 720, bitrate: 4 Mbit/s, facts: time only}
destinations:
  locker: {kind: folder, path: /x, layout: "{year}/{name}"}
devices:
  phone:
    sources: [{folder: DCIM, rule: all}]
rules:
  all: # everything
    take: [photo, raw, video]
    send: {photo: open, video: films}
    to: [locker]
    lanes:
      - over: wifi
      - {over: cellular, send: quick, take: [photo]}
    previews: tiny
    companions: [raw, sidecar]
    on-clash: skip
    also:
      - {when: rated 4, layout: "best/{year}/{name}"}
      - {when: keyword Regatta Day, layout: "regatta/{caption}"}
`

func TestWhatARuleWantsBesideTheCopies(t *testing.T) {
	p, err := plantext.Parse("plan", []byte(shelved))
	require.NoError(t, err)
	best := plan.PickShelf("best/{year}/{name}")
	var shelves []plan.Shelf
	for _, s := range p.Shelves("all", "locker") {
		shelves = append(shelves, s.Shelf)
	}
	assert.Equal(t, []plan.Shelf{plan.Small, plan.Preview, plan.Beside, best, plan.PickShelf("regatta/{caption}")},
		shelves)
	assert.True(t, p.Wanted("all", media.Photo, "locker", plan.Small))
	assert.False(t, p.Wanted("all", media.Video, "locker", plan.Small), "the lane takes photos only")
	assert.False(t, p.Wanted("all", media.Raw, "locker", plan.Preview))
	assert.True(t, p.Wanted("all", media.Document, "locker", plan.Main), "sidecars go along")
	assert.Equal(t, "small/{year}/{name}", p.Layout("locker", "all", plan.Small))
	assert.Equal(t, "previews/{year}/{name}", p.Layout("locker", "all", plan.Preview))
	assert.Equal(t, "{year}/{name}", p.Layout("locker", "all", plan.Beside))
	assert.Equal(t, "best/{year}/{name}", p.Layout("locker", "all", best))
	r, made := p.Form("all", media.Photo, "locker", plan.Beside)
	assert.True(t, made)
	assert.Equal(t, plan.JPEG, r.Format)
	assert.True(t, plan.Mark{Keyword: "Regatta Day"}.Fits(media.Marks{Keywords: []string{" regatta day"}}))
	assert.False(t, plan.Mark{Captioned: true}.Fits(media.Marks{Caption: " \n"}))
	assert.True(t, plan.Mark{Rated: 3}.Fits(media.Marks{Rating: 4}))

	// What a device is sent of it, and a plan that is written anew, mean the same.
	part := p.PartOf("phone")
	again, err := plantext.Parse("part", []byte(plantext.Write(part)))
	require.NoError(t, err, plantext.Write(part))
	assert.Equal(t, p.Shelves("all", "locker"), again.Shelves("all", "locker"))
	assert.Equal(t, p.Rules["all"], again.Rules["all"])
	assert.Equal(t, p.Renditions, again.Renditions)
}

// What the copy itself does not tell, nothing that goes with it or beside it tells.
func TestNothingBesideTellsWhatIsWithheld(t *testing.T) {
	text := strings.NewReplacer("open: {format: both, long-edge: 2000, colours: srgb}",
		"open: {long-edge: 2000, facts: no place}", "    companions: [raw, sidecar]\n", "", "tiny: {long-edge: 200, "+
			"facts: no place}", "tiny: {long-edge: 200}").Replace(shelved)
	p, err := plantext.Parse("plan", []byte(text))
	require.NoError(t, err)
	for _, on := range []plan.Shelf{plan.Main, plan.Small, plan.Preview, plan.PickShelf("best/{year}/{name}")} {
		r, made := p.Form("all", media.Photo, "locker", on)
		require.True(t, made, on)
		assert.Equal(t, plan.NoPlace, r.Facts, on)
	}
	assert.False(t, p.GoesAlong("all", media.Photo, media.Document, true), "a sidecar tells the place, too")
	assert.False(t, p.GoesAlong("all", media.Photo, media.Raw, false))
	assert.True(t, p.GoesAlong("all", media.Photo, media.Video, false), "the clip does not tell it either")
	assert.True(t, p.GoesAlong("all", media.Raw, media.Document, true))
	named, err := plantext.Parse("plan", []byte(strings.Replace(text, "    on-clash: skip\n", "    companions: [raw]\n",
		1)))
	require.NoError(t, err)
	assert.True(t, named.GoesAlong("all", media.Photo, media.Raw, false), "who names it means it")
	assert.False(t, named.GoesAlong("all", media.Photo, media.Document, true))
}

func TestWhatIsBesideIsChangedInTheText(t *testing.T) {
	rule := []string{"rules", "all"}
	after, err := plantext.Set(shelved, plan.Edit{Path: append(rule, "previews")},
		plan.Edit{Path: append(rule, "also"), Value: []any{map[string]any{"when": "captioned", "layout": "picks/{caption}"}}},
		plan.Edit{Path: append(rule, "on-clash")}, plan.Edit{Path: append(rule, "companions"), Value: []string{}})
	require.NoError(t, err)
	assert.Contains(t, after, "all: # everything")
	assert.Contains(t, after, `picks/{caption}`)
	assert.NotContains(t, after, "previews:")
	assert.NotContains(t, after, "companions:")
	_, err = plantext.Set(shelved, plan.Edit{Path: []string{"renditions", "quick"}, Value: nil})
	assert.ErrorContains(t, err, "the rule all sends as quick")
	moved, err := plantext.Set(shelved, plan.Edit{Path: []string{"destinations", "locker", "layout"},
		Value: "{camera}/{name}"})
	require.NoError(t, err)
	assert.Contains(t, moved, `layout: "{camera}/{name}"`)
}

func TestMistakesInWhatIsBesideAreTold(t *testing.T) {
	for what, c := range map[string]struct{ of, by, says string }{
		"a preview that is no rendition":  {"previews: tiny", "previews: huge", `there is no rendition "huge"`},
		"a preview of clips":              {"previews: tiny", "previews: films2", `there is no rendition "films2"`},
		"a lane that sends nothing known": {"send: quick", "send: slow", `there is no rendition "slow"`},
		"no lane for the whole":           {"      - over: wifi\n", "", "every lane of rule all carries small copies only"},
		"two forms of small copies": {"      - over: wifi\n",
			"      - over: wifi\n      - {over: wired, send: tiny}\n", "two lanes of rule all carry small copies of two forms"},
		"a mark that is none":     {"rated 4", "rated 9", `"rated 9" is no rating`},
		"no mark":                 {"when: rated 4", "when: liked", `"liked" is no mark`},
		"two picks of one layout": {"regatta/{caption}", "best/{year}/{name}", "two of them land under"},
		"a layout that tells nothing": {"regatta/{caption}", "regatta/{year}",
			"does not end with what tells one item from another"},
		"a clash of another sort": {"on-clash: skip", "on-clash: replace",
			`"replace" is not what happens on a clash`},
		"a companion of another sort": {"[raw, sidecar]", "[raw, thumbs]", `"thumbs" is no companion`},
		"none beside others":          {"[raw, sidecar]", "[raw, none]", "none"},
		"facts of another sort":       {"facts: no place", "facts: nothing", `"nothing" is not what is told`},
		"colours of another sort":     {"colours: srgb", "colours: grey", `"grey" is not what colours become`},
		"a bitrate without a unit":    {"4 Mbit/s", "4 MB", "is no number of bits a second"},
		"a bitrate out of reach":      {"4 Mbit/s", "4000 Mbit/s", "is out of reach"},
		"captions of everything": {`layout: "{year}/{name}"}`, `layout: "{year}/{caption}"}`,
			"{caption} is for picks"},
	} {
		_, err := plantext.Parse("plan", []byte(strings.Replace(shelved, c.of, c.by, 1)))
		if assert.Error(t, err, what) {
			assert.ErrorContains(t, err, c.says, what)
		}
	}
}

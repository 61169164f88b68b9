package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// writtenRules are a rule as people write it.
var writtenRules = map[string]string{
	"on one line":   "  everyday: {take: [photo], to: [shed, loft], lanes: [{over: wifi}], gates: {power: charging, hours: '22:00-06:00'}} # by night\n",
	"without gates": "  everyday: {take: [photo], to: [shed, loft], lanes: [{over: wifi}]}\n",
	"on lines": "  everyday:\n    take: [photo] # no clips\n    to: [shed, loft] # both\n    # by the home network\n    lanes:\n      - over: wifi # only\n    gates:\n      power: charging # at the quay\n" +
		"      hours: 22:00-06:00, 12:00-13:00\n    order: oldest\n",
	"lists on lines": "  everyday:\n    take: # no clips\n      - photo\n    to:\n      - shed # the near one\n      - loft\n    lanes:\n      - over: wifi\n    gates: {hours: \"22:00-06:00\"}\n\n",
	"gates first":    "  everyday:\n    gates:\n      power: charging or at least 40%\n      idle: true\n    take: [photo]\n    to: [shed, loft]\n    lanes: [{over: wifi, gates: {power: any}}]\n",
}

func withRule(rule string) string {
	return "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\n  loft: {kind: folder, path: /l}\ndevices:\n  desk:\n    sources: [{folder: x, rule: everyday}]\nrules:\n" + rule +
		"  # the other\n  slow: {take: [photo, video], to: [shed], lanes: [{over: wifi}]} # slow\n"
}

func TestARuleIsChangedAndTheRestStays(t *testing.T) {
	power, hours, none := "charging or at least 60%", "01:00-02:00", ""
	oldest := plan.OldestFirst
	for how, rule := range writtenRules {
		before := withRule(rule)
		for name, c := range map[string]plan.RuleChange{
			"kinds":     {Take: []media.Kind{media.Photo, media.Video}},
			"places":    {To: []string{"loft"}},
			"power":     {Power: &power},
			"no power":  {Power: &none},
			"hours":     {Hours: &hours},
			"no hours":  {Hours: &none},
			"order":     {Order: &oldest},
			"longer":    {Longer: new("10 min"), Larger: new("2 GB")},
			"all kinds": {Take: media.Kinds},
			"at rest":   {Idle: new(true), StoreEach: new(true)},
			"all":       {Take: []media.Kind{media.Video}, To: []string{"loft", "shed"}, Power: &power, Hours: &hours, Order: &oldest},
			"nothing":   {},
		} {
			t.Run(how+"/"+name, func(t *testing.T) {
				after, err := plan.WithRule(before, "everyday", c)
				var edit plan.EditError
				if err != nil && assert.ErrorAs(t, err, &edit) {
					assert.Contains(t, edit.Says, "text", "what a program cannot do is said, and left")
					return
				}
				p, err := plan.Parse("p", []byte(after))
				require.NoError(t, err)
				r := p.Rules["everyday"]
				if c.Take != nil {
					assert.Equal(t, c.Take, r.Take)
				}
				if c.To != nil {
					assert.Equal(t, c.To, r.To)
				}
				if c.Power != nil {
					assert.Equal(t, *c.Power, r.Gates.Power.String())
				}
				if c.Hours != nil {
					assert.Equal(t, *c.Hours, r.Gates.Hours.String())
				}
				for _, comment := range []string{"# ours", "# by night", "# no clips", "# by the home network", "# only", "# the other", "# slow"} {
					assert.Equal(t, strings.Count(before, comment), strings.Count(after, comment), comment)
				}
				if name == "nothing" {
					assert.Equal(t, before, after)
				}
			})
		}
	}
	good := withRule(writtenRules["on lines"])
	for name, c := range map[string]struct {
		rule string
		plan.RuleChange
		says string
	}{
		"no such rule":  {"none", plan.RuleChange{}, `no rule "none"`},
		"no such place": {"slow", plan.RuleChange{To: []string{"attic"}}, `no destination "attic"`},
		"no kind":       {"slow", plan.RuleChange{Take: []media.Kind{"sound"}}, "sound"},
		"nothing taken": {"slow", plan.RuleChange{Take: []media.Kind{}}, "take"},
		"odd power":     {"slow", plan.RuleChange{Power: new("sometimes")}, "sometimes"},
		"odd hours":     {"slow", plan.RuleChange{Hours: new("25:00-26:00")}, "25:00"},
		"odd length":    {"slow", plan.RuleChange{Longer: new("an hour")}, "an hour"},
		"odd size":      {"slow", plan.RuleChange{Larger: new("45 mobi")}, "45 mobi"},
		"odd order":     {"slow", plan.RuleChange{Order: new(plan.Order("random"))}, "random"},
	} {
		_, err := plan.WithRule(good, c.rule, c.RuleChange)
		assert.ErrorContains(t, err, c.says, name)
	}
}

// Any row of changes either means what was asked, or is refused and changes nothing.
func TestAnyRowOfRuleChangesMeansWhatWasAsked(t *testing.T) {
	hows := []string{"on one line", "without gates", "on lines", "lists on lines", "gates first"}
	rapid.Check(t, func(t *rapid.T) {
		text := withRule(writtenRules[rapid.SampledFrom(hows).Draw(t, "how")])
		if rapid.Bool().Draw(t, "first format") {
			text = strings.Replace(text, "format: 2\n", "", 1)
		}
		before, err := plan.Parse("p", []byte(text))
		require.NoError(t, err)
		for range rapid.IntRange(1, 6).Draw(t, "changes") {
			var c plan.RuleChange
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 5:
				for _, over := range rapid.SliceOfNDistinct(rapid.SampledFrom([]plan.Network{plan.WiFi, plan.Wired, plan.Cellular}), 1, 3, rapid.ID).Draw(t, "over") {
					lane := plan.Lane{Over: over, Metered: over != plan.Cellular && rapid.Bool().Draw(t, "metered"), Roaming: over == plan.Cellular && rapid.Bool().Draw(t, "roaming")}
					if rapid.Bool().Draw(t, "allowance") {
						lane.Allowance = plan.Allowance{Bytes: rapid.SampledFrom([]int64{45_000_000, 1}).Draw(t, "bytes"), Per: plan.Week}
					}
					c.Lanes = append(c.Lanes, lane)
				}
			case 0:
				c.Take = rapid.SampledFrom([][]media.Kind{{media.Photo}, {media.Video}, {media.Photo, media.Video}}).Draw(t, "take")
			case 1:
				c.To = rapid.SampledFrom([][]string{{"shed"}, {"loft"}, {"loft", "shed"}}).Draw(t, "to")
			case 2:
				c.Power = new(rapid.SampledFrom([]string{"", "charging", "at least 20%", "charging and at least 30%"}).Draw(t, "power"))
			case 3:
				c.Hours = new(rapid.SampledFrom([]string{"", "01:00-02:00", "22:00-06:00, 12:00-13:00"}).Draw(t, "hours"))
			case 4:
				c.Order = new(rapid.SampledFrom([]plan.Order{plan.NewestFirst, plan.OldestFirst, plan.SmallestFirst}).Draw(t, "order"))
			}
			after, err := plan.WithRule(text, "everyday", c)
			if err != nil {
				var edit plan.EditError
				require.ErrorAs(t, err, &edit, text)
				continue
			}
			p, err := plan.Parse("p", []byte(after))
			require.NoError(t, err)
			require.Equal(t, before.Rules["slow"], p.Rules["slow"], "the others mean the same")
			if p.Format == before.Format {
				require.Contains(t, after, "# the other\n  slow: {take: [photo, video], to: [shed], lanes: [{over: wifi}]} # slow\n")
			}
			if c.Take != nil {
				require.Equal(t, c.Take, p.Rules["everyday"].Take)
			}
			if c.Hours != nil {
				require.Equal(t, *c.Hours, p.Rules["everyday"].Gates.Hours.String())
			}
			if c.Lanes != nil {
				lanes := p.Rules["everyday"].Lanes
				require.Len(t, lanes, len(c.Lanes))
				for i, want := range c.Lanes {
					want.Gates = lanes[i].Gates
					require.Equal(t, want, lanes[i])
				}
			}
			text = after
		}
	})
}

// However a rule's lanes are written, one is changed, added and taken out, and the rest,
// comments and gates too, stays.
func TestLanesAreChangedAndTheRestStays(t *testing.T) {
	around := func(lanes string) string {
		return "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  desk:\n    sources: [{folder: x, rule: everyday}]\nrules:\n  everyday:\n    take: [photo, video]\n    to: [shed]\n" + lanes + "    order: oldest # last\n"
	}
	block := around("    lanes: # both\n      - over: wifi # at home\n        gates: {idle: true} # at rest\n      - over: cellular # outside\n        allowance: 45 MB per day # a day\n")
	flow := around("    lanes: [{over: wifi, gates: {idle: true}}, {over: cellular, allowance: 45 MB per day}] # at home, outside\n")
	atHome := plan.Lane{Over: plan.WiFi}
	outside := plan.Lane{Over: plan.Cellular, Allowance: plan.Allowance{Bytes: 200_000_000, Per: plan.Month}, Take: []media.Kind{media.Photo}, Roaming: true}
	for _, text := range []string{block, flow} {
		after, err := plan.WithRule(text, "everyday", plan.RuleChange{Lanes: []plan.Lane{atHome, outside}})
		require.NoError(t, err)
		p, err := plan.Parse("p", []byte(after))
		require.NoError(t, err)
		lanes := p.Rules["everyday"].Lanes
		assert.Equal(t, plan.MustBeIdle, lanes[0].Gates.Idle, "its gates stay")
		assert.Equal(t, outside, lanes[1])
		for _, comment := range []string{"# ours", "# both", "# at home", "# at rest", "# outside", "# a day", "# last"} {
			assert.Equal(t, strings.Count(text, comment), strings.Count(after, comment), comment)
		}
		again, err := plan.WithRule(after, "everyday", plan.RuleChange{Lanes: []plan.Lane{atHome, {Over: plan.Cellular, Allowance: plan.Allowance{Bytes: 45_000_000, Per: plan.Day}}}})
		require.NoError(t, err)
		assert.Equal(t, text, again, "back is as it was")
		with, err := plan.WithRule(text, "everyday", plan.RuleChange{Lanes: []plan.Lane{atHome, lanes[1], {Over: plan.Wired}}})
		require.NoError(t, err)
		without, err := plan.WithRule(with, "everyday", plan.RuleChange{Lanes: []plan.Lane{lanes[1], {Over: plan.Wired}}})
		require.NoError(t, err)
		p, err = plan.Parse("p", []byte(without))
		require.NoError(t, err)
		assert.Equal(t, []plan.Lane{outside, {Over: plan.Wired}}, p.Rules["everyday"].Lanes)
		assert.Contains(t, without, "# last")
	}
	_, err := plan.WithRule(block, "everyday", plan.RuleChange{Lanes: []plan.Lane{}})
	require.Error(t, err, "a rule needs a lane")
	_, err = plan.WithRule(block, "everyday", plan.RuleChange{Lanes: []plan.Lane{{Over: "pigeon"}}})
	assert.ErrorContains(t, err, "pigeon")
}

func TestRulesAreAddedAndTakenOut(t *testing.T) {
	films := plan.Rule{Take: []media.Kind{media.Video}, LargerThan: 2_000_000_000, To: []string{"loft"}, Lanes: []plan.Lane{{Over: plan.Wired, Metered: true}}, Gates: plan.Gates{Hours: plan.Hours{{Start: 1320, End: 360}}}, Order: plan.SmallestFirst}
	for how, rule := range writtenRules {
		text := withRule(rule)
		with, err := plan.WithNewRule(text, "films", films)
		require.NoError(t, err, how)
		p, err := plan.Parse("p", []byte(with))
		require.NoError(t, err)
		assert.Equal(t, films, p.Rules["films"])
		for line := range strings.Lines(text) {
			assert.Contains(t, with, strings.TrimRight(line, "\n"))
		}
		without, err := plan.WithoutRule(with, "films")
		require.NoError(t, err)
		assert.Equal(t, strings.TrimRight(text, "\n"), strings.TrimRight(without, "\n"), how)
		without, err = plan.WithoutRule(text, "slow")
		require.NoError(t, err, how)
		assert.NotContains(t, without, "slow: {")
	}
	text := withRule(writtenRules["on lines"])
	for name, c := range map[string]struct {
		do   func() (string, error)
		says string
	}{
		"a name that is taken": {func() (string, error) { return plan.WithNewRule(text, "slow", films) }, "already"},
		"an odd name":          {func() (string, error) { return plan.WithNewRule(text, "a b", films) }, "cannot be the name"},
		"no such place":        {func() (string, error) { f := films; f.To = []string{"attic"}; return plan.WithNewRule(text, "f", f) }, "attic"},
		"nothing taken":        {func() (string, error) { f := films; f.Take = nil; return plan.WithNewRule(text, "f", f) }, "take is empty"},
		"one that is followed": {func() (string, error) { return plan.WithoutRule(text, "everyday") }, "x of desk follows everyday"},
		"no such rule":         {func() (string, error) { return plan.WithoutRule(text, "none") }, `no rule "none"`},
	} {
		_, err := c.do()
		assert.ErrorContains(t, err, c.says, name)
	}
}

// A device gets lanes and gates of its own of a rule, other ones, and none again; the
// rest stays, and back is as it was.
func TestADevicesOwnOfARuleIsChanged(t *testing.T) {
	block := "# ours\nformat: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\ndevices:\n  desk:\n    # hers\n    sources: [{folder: x, rule: everyday}] # one\n  phone: {sources: [{folder: x, rule: everyday}]} # his\nrules:\n  everyday: {take: [photo], to: [shed], lanes: [{over: wifi}], gates: {power: charging, hours: '22:00-06:00'}} # last\n  slow: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n"
	lanes := []plan.Lane{{Over: plan.Wired}, {Over: plan.Cellular, Allowance: plan.Allowance{Bytes: 45_000_000, Per: plan.Day}}}
	none := []plan.Lane{}
	for _, device := range []string{"desk", "phone"} {
		one, err := plan.WithOverride(block, device, "everyday", plan.OverrideChange{Power: new("any"), Idle: new("true")})
		require.NoError(t, err, device)
		p, err := plan.Parse("p", []byte(one))
		require.NoError(t, err)
		assert.Equal(t, plan.Override{Gates: plan.Gates{NoPower: true, Idle: plan.MustBeIdle}}, p.Devices[device].Rules["everyday"])
		assert.Equal(t, plan.Power{}, p.On(device).Rules["everyday"].Gates.Power)
		assert.NotEmpty(t, p.On(device).Rules["everyday"].Gates.Hours)
		two, err := plan.WithOverride(one, device, "everyday", plan.OverrideChange{Lanes: &lanes, Power: new("at least 20%"), Hours: new("01:00-02:00")})
		require.NoError(t, err, one)
		p, err = plan.Parse("p", []byte(two))
		require.NoError(t, err)
		assert.Equal(t, lanes, p.On(device).Rules["everyday"].Lanes)
		both, err := plan.WithOverride(two, device, "slow", plan.OverrideChange{Hours: new("any")})
		require.NoError(t, err, two)
		again, err := plan.WithOverride(both, device, "slow", plan.OverrideChange{Hours: new("")})
		require.NoError(t, err, both)
		back, err := plan.WithOverride(again, device, "everyday", plan.OverrideChange{Lanes: &none, Power: new(""), Hours: new(""), Idle: new("")})
		require.NoError(t, err, again)
		p, err = plan.Parse("p", []byte(back))
		require.NoError(t, err)
		before, err := plan.Parse("p", []byte(block))
		require.NoError(t, err)
		assert.Equal(t, before, p)
		for _, comment := range []string{"# ours", "# hers", "# one", "# his", "# last"} {
			assert.Contains(t, back, comment)
		}
	}
	for name, c := range map[string]struct {
		device, rule string
		plan.OverrideChange
		says string
	}{
		"no such device": {"none", "everyday", plan.OverrideChange{}, `no device "none"`},
		"no such rule":   {"desk", "none", plan.OverrideChange{}, `no rule "none"`},
		"odd power":      {"desk", "everyday", plan.OverrideChange{Power: new("anytime")}, "not a power gate"},
		"odd idle":       {"desk", "everyday", plan.OverrideChange{Idle: new("sometimes")}, "sometimes"},
	} {
		_, err := plan.WithOverride(block, c.device, c.rule, c.OverrideChange)
		assert.ErrorContains(t, err, c.says, name)
	}
}

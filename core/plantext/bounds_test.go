package plantext_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/plantext"
)

// What is deep, long or refers to itself is refused before it is parsed: each of
// these took the parser half a minute and gigabytes, or its stack.
func TestWhatIsTooDeepOrTooMuchIsRefusedUnparsed(t *testing.T) {
	const n = 40_000
	steps := func(one string) string {
		var b strings.Builder
		for i := range 500 {
			b.WriteString(strings.Repeat(" ", i) + one + "\n")
		}
		return b.String()
	}
	for name, c := range map[string]struct{ text, says string }{
		"brackets":            {strings.Repeat("[", n), "too deep"},
		"braces":              {strings.Repeat("{a: ", n/2), "too deep"},
		"both":                {strings.Repeat("[{a: ", n/2), "too deep"},
		"dashes":              {strings.Repeat("- ", n), "too deep"},
		"questions":           {strings.Repeat("? ", n), "too deep"},
		"steps of keys":       {steps("a:"), "too deep"},
		"steps of dashes":     {steps("-"), "too deep"},
		"brackets in a value": {"yard: " + strings.Repeat("[", n), "too deep"},
		"anchors":             {strings.Repeat("a: &a b\n", 10), "anchor or alias"},
		"an alias bomb":       {"a: &a [x, x]\nb: &b [*a, *a]\nc: &c [*b, *b]\n", "anchor or alias"},
		"words":               {strings.Repeat("a: b\n", plantext.MaxSize/6), "words and signs"},
		"commas":              {"a: [" + strings.Repeat("a,", plantext.MaxSize/3), "words and signs"},
		"length":              {strings.Repeat("#", plantext.MaxSize+1), "bytes long"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := plantext.Parse("p", []byte(c.text))
			var problems plantext.Problems
			require.ErrorAs(t, err, &problems)
			assert.ErrorContains(t, err, c.says)
			assert.Len(t, problems, 1)
			_, err = put(c.text, "x", "yard")
			assert.Error(t, err)
		})
	}
	text := string(read(t, "good.yaml")) + strings.Repeat("# a long comment, such as a plan may have\n", 20_000)
	_, err := plantext.Parse("p", []byte(text))
	assert.NoError(t, err, "and what is only long is read")
}

var shed = plan.Destination{Kind: plan.SFTP, Address: "shed.example:22",
	HostKey: "SHA256:uNiVztksCsDhcc0u9e8BrrJlSV9OrFmvkHZtEEn2b3c", User: "o'brien \"x\"", KeyFrom: "kept:shed",
	Layout: plan.DefaultLayout, Senders: 2, KeepFree: 20e9, Size: 1500}

func FuzzParse(f *testing.F) {
	for _, name := range []string{"good.yaml", "ten-mistakes.yaml"} {
		f.Add(string(read(f, name)))
	}
	for _, text := range []string{"", "[", "a: &a b", "a: *a", "- - -", "? ?", "a: |\n b", "a: \"\\u0041\"",
		"--- a\n--- b", "!!map {}", "%YAML 1.2\n---", "a:\n\t- b", "\ufeffa: b", "{a: [b, {c: d}]}"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := plantext.Parse("p", []byte(text))
		if err != nil {
			var problems plantext.Problems
			require.ErrorAs(t, err, &problems)
			require.NotEmpty(t, problems)
			return
		}
		// What is read can be added to and taken back.
		with, err := put(text, map[string]any{"kind": "folder", "path": "/added"}, "destinations", "added-by-fuzz")
		if err != nil {
			return
		}
		q, err := plantext.Parse("p", []byte(with))
		require.NoError(t, err, with)
		require.Len(t, q.Destinations, len(p.Destinations)+1)
	})
}

func TestSourcesAndDestinationsLieApart(t *testing.T) {
	text := func(folder, path string) string {
		return fmt.Sprintf("yard: x\ntimezone: UTC\ndestinations: {d: {kind: folder, path: %q}}\ndevices: {c: {sources: "+
			"[{folder: %q, rule: r}]}}\nrules: {r: {take: [photo], to: [d], lanes: [{over: wifi}]}}\n", path, folder)
	}
	for _, bad := range [][2]string{{"/home/a", "/home/a"}, {"/home/a", "/home/a/"}, {"/home/a/b", "/home/a"},
		{"/home/a", "/home/a/b"}, {"/home/./a", "/home/a/b/.."}, {"/", "/mnt/x"}, {"/home//a", "/home/a"}} {
		_, err := plantext.Parse("p", []byte(text(bad[0], bad[1])))
		assert.ErrorContains(t, err, "lie in one another", "%v", bad)
	}
	for _, good := range [][2]string{{"/home/a", "/home/ab"}, {"Pictures", "/home/a/Pictures"}, {"/home/a", "/mnt/b"}} {
		_, err := plantext.Parse("p", []byte(text(good[0], good[1])))
		assert.NoError(t, err, "%v", good)
	}
	for _, twice := range [][2]string{{"Pictures", "./Pictures"}, {"Pictures", "~/Pictures"}, {"Pictures/", "Pictures"},
		{"a//b", "a/b"}, {"a/./b", "a/b/."}, {"/x/y", "/x//y/"}} {
		_, err := plantext.Parse("p", []byte(strings.Replace(text(twice[0], "/d"), "rule: r}]",
			fmt.Sprintf("rule: r}, {folder: %q, rule: r}]", twice[1]), 1)))
		assert.ErrorContains(t, err, "lie in one another", "%v", twice)
	}
}

func TestAGateCanBeUnsetSetOrSetToNothing(t *testing.T) {
	read := func(rule, lane string) plan.Gates {
		p, err := plantext.Parse("p", []byte(fmt.Sprintf("yard: x\ntimezone: UTC\ndestinations: {d: {kind: folder, "+
			"path: /d}}\ndevices: {c: {sources: [{folder: a, rule: r}]}}\nrules: {r: {take: [photo], to: [d], gates: {%s}, "+
			"lanes: [{over: wifi, gates: {%s}}]}}\n", rule, lane)))
		require.NoError(t, err)
		r := p.Rules["r"]
		return r.Gates.Under(r.Lanes[0].Gates)
	}
	assert.Equal(t, plan.MustBeIdle, read("idle: true", "").Idle)
	assert.Equal(t, plan.MayBeUsed, read("idle: true", "idle: false").Idle, "the lane's replaces the rule's")
	assert.Equal(t, plan.MustBeIdle, read("idle: false", "idle: true").Idle)
	assert.Equal(t, plan.IdleUnset, read("", "").Idle)
	assert.Empty(t, read("hours: 06:00-07:00", "hours: any").Hours)
	assert.NotEmpty(t, read("hours: 06:00-07:00", "").Hours)
	assert.Zero(t, read("power: charging", "power: any").Power)
	assert.True(t, read("power: any", "power: charging").Power.Charging)
}

func TestNamesAndUsersThatYAMLTakesForSomethingElse(t *testing.T) {
	for _, odd := range []string{"1001", "true", "null", "yes", "~", "0x10", "1e3", "2026-01-01", "-", "a: b", "#x", "'",
		"\"", "ü", " x", "x "} {
		with, err := put(string(read(t, "good.yaml")), odd, "destinations", "north-locker", "user")
		require.NoError(t, err)
		p, err := plantext.Parse("p", []byte(with))
		require.NoError(t, err, odd)
		assert.Equal(t, odd, p.Destinations["north-locker"].User)
	}
	for _, odd := range []string{"1001", "true", "null", "yes", "1e3", "0x10"} {
		p, err := plantext.Parse("p", []byte(plantext.First("Home", "UTC", odd, "Pictures", odd, shed)))
		require.NoError(t, err, odd)
		assert.Contains(t, p.Destinations, odd)
		assert.Contains(t, p.Devices, odd)
	}
}

func TestTheFirstPlanIsAPlan(t *testing.T) {
	p, err := plantext.Parse("p", []byte(plantext.First("Home: ours", "UTC", "desk", "Pictures/All of it", "shed", shed)))
	require.NoError(t, err)
	assert.Equal(t, shed, p.Destinations["shed"])
	assert.Equal(t, []string{"shed"}, p.Rules["everything"].To)
	assert.NoError(t, plantext.CheckDestination("shed", shed))
	bad := shed
	bad.HostKey = ""
	assert.ErrorContains(t, plantext.CheckDestination("shed", bad), "has no host-key")
}

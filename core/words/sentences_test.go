package words_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
)

const first = `format: 2
yard: Saltmarsh Slip
timezone: Europe/Lisbon
destinations:
  locker: {kind: webdav, url: 'http://locker/dav/', user: me, password-from: 'kept:locker'}
  shed: {kind: folder, path: /media/shed, keep-free: 2 GB}
devices:
  galley-phone:
    sources: [{folder: DCIM, rule: everyday}]
rules:
  everyday:
    take: [photo, raw, video]
    to: [locker, shed]
    lanes:
      - over: wifi
      - {over: cellular, take: [photo], allowance: 45 MB per day, gates: {power: at least 60%, idle: false}}
    gates: {power: charging or at least 40%, hours: '06:00-23:00'}
`

func parsed(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plantext.Parse("plan", []byte(text))
	require.NoError(t, err)
	return p
}

func TestARuleInASentence(t *testing.T) {
	assert.Equal(t, "Photos, raw files and videos go to locker and shed, over Wi-Fi, or over cellular up to 45 MB "+
		"per day (photos only), when the battery has at least 60%, also while it is used, when charging or the battery "+
		"has at least 40%, at 06:00-23:00.",
		words.Rule(parsed(t, first).Rules["everyday"]))
	p := parsed(t, strings.NewReplacer("- over: wifi\n",
		"- {over: wired, metered: true, gates: {power: any, hours: any}}\n", "take: [photo], ", "roaming: true, ",
		"    gates: {power", "    order: smallest\n    store-each: true\n    gates: {idle: true, power").Replace(first))
	assert.Equal(t, "Photos, raw files and videos go to locker and shed, over a wired network (also where it is "+
		"metered), on any power, at any hour, or over cellular up to 45 MB per day (also while roaming), when the "+
		"battery has at least 60%, also while it is used, when charging or the battery has at least 40%, at "+
		"06:00-23:00, while nobody uses the device, the smallest first; equal files are stored each.",
		words.Rule(p.Rules["everyday"]))
}

// Each phrase tells of a key that the rule has, by the path at which an edit finds it, and the phrases are
// the sentence.
func TestEachPhraseOfASentenceTellsOfAKey(t *testing.T) {
	text, err := os.ReadFile("testdata/rich.yaml")
	require.NoError(t, err)
	p := parsed(t, string(text))
	rule := p.Rules["everyday"]
	var said strings.Builder
	told := 0
	for _, phrase := range words.RulePhrases(rule) {
		said.WriteString(phrase.Says)
		if phrase.Of == nil {
			continue
		}
		told++
		after, err := plantext.Set(string(text), plan.Edit{Path: append([]string{"rules", "everyday"}, phrase.Of...)})
		if err == nil {
			assert.NotEqual(t, string(text), after, "%q is found at %q, and taken out", phrase.Says, phrase.Of)
		} else {
			assert.Regexp(t, "is needed|does not roam", err.Error(), "only what is needed cannot be taken out: %q", phrase.Of)
		}
	}
	assert.Equal(t, words.Rule(rule), said.String())
	assert.Greater(t, told, 25)
}

func TestWhatChangedInSentences(t *testing.T) {
	before := parsed(t, first)
	assert.Empty(t, words.Changes(before, before))
	for change, want := range map[string][]string{
		"Saltmarsh Slip\n=>Slip\n": {"The yard is called Slip."},
		"Europe/Lisbon=>Europe/Madrid": {"Hours and periods are those of " +
			"Europe/Madrid."},
		"/media/shed=>/media/other": {"shed stands for /media/other, " +
			"and for /media/shed before."},
		"keep-free: 2 GB=>keep-free: 3 GB": {"The room that is never filled " +
			"of shed is 3.0 GB, and was 2.0 GB."},
		", keep-free: 2 GB=>, senders: 2": {"The room that is never filled " +
			"of shed is none, and was 2.0 GB.", "The number of senders of shed is 2, and was 4."},
		"kept:locker=>env:LOCKER": {"locker is reached with another " +
			"key, password, certificate or spelling of its address."},
		"to: [locker, shed]=>to: [shed]": {"What follows everyday no longer " +
			"goes to locker; what is stored there stays."},
		"take: [photo, raw, video]\n=>take: [photo, raw]\n": {"everyday no longer takes videos."},
		"folder: DCIM=>folder: Pictures": {"DCIM of galley-phone is no " +
			"longer taken up; what is stored of it stays.", "Pictures of galley-phone is taken up, by everyday."},
		"  galley-phone:\n=>  hold-phone:\n": {"galley-phone is called hold-phone."},
		"  galley-phone:\n=>  galley-phone:\n    limit: 2 MB/s\n    timezone: UTC\n": {"Hours and periods of " +
			"galley-phone are those of UTC.", "galley-phone sends no faster than 2.0 MB/s."},
		"allowance: 45 MB=>allowance: 200 MB": {"everyday: Photos, raw files and " +
			"videos go to locker and shed, over Wi-Fi, or over cellular up to 200 MB per day (photos only), when the " +
			"battery has at least 60%, also while it is used, when charging or the battery has at least 40%, at 06:00-23:00."},
	} {
		from, to, _ := strings.Cut(change, "=>")
		text := strings.Replace(first, from, to, 1)
		require.NotEqual(t, first, text, change)
		assert.Equal(t, want, words.Changes(before, parsed(t, text)), change)
	}
	second := strings.NewReplacer("DCIM, rule: everyday", "DCIM, rule: bench", "  everyday:", "  bench:",
		"  galley-phone:", "  desk:\n    sources: [{folder: in, rule: bench}]\n  galley-phone:", "  shed: {",
		"  loft: {kind: folder, path: /loft}\n  shed: {").Replace(first)
	says := words.Changes(before, parsed(t, second))
	assert.Equal(t, []string{"loft is a new destination: folder, /loft.", "desk is a new device.",
		"in of desk is taken up, by bench.", "DCIM of galley-phone goes by bench; before, by everyday."}, says[:4])
	assert.Contains(t, says[4], "bench is a new rule: Photos, raw files and videos go to")
	assert.Equal(t, "The rule everyday is gone.", says[5])
	back := words.Changes(parsed(t, second), before)
	assert.Equal(t, []string{"loft is no longer a destination; what is stored there stays.",
		"desk is no longer in the plan."}, back[:2])
	all := words.Changes(nil, before)
	assert.Len(t, all, 7)
	for _, s := range append(all, says...) {
		assert.NotContains(t, s, "kept:", "no sentence has where a secret is kept")
		assert.True(t, strings.HasSuffix(s, "."), s)
	}
}

// Comments, order and spelling mean nothing, and are told as nothing.
func TestWhatMeansTheSameIsNoChange(t *testing.T) {
	text, err := os.ReadFile("../plantext/testdata/good.yaml")
	require.NoError(t, err)
	assert.Empty(t, words.Changes(parsed(t, string(text)), parsed(t, "# a note\n"+string(text)+"\n# the end\n")))
}

func TestWhatIsHardlyMeantIsTold(t *testing.T) {
	assert.Empty(t, words.Doubts(parsed(t, first)))
	for change, want := range map[string]string{
		"take: [photo, raw, video]\n=>take: [photo, raw]\n": "Of DCIM of galley-phone photos go, and no videos: " +
			"those go nowhere.",
		"to: [locker, shed]=>to: [locker]": "What is in DCIM of galley-phone goes to one place " +
			"only, locker: if that one is lost, so is the copy. Name a second under \"to\" of everyday.|Nothing goes to " +
			"shed: no rule sends there.",
		"45 MB per day=>2 MB per day": "The allowance of everyday over cellular, 2.0 MB, is " +
			"smaller than most pictures: hardly anything can go.",
		"take: [photo], allowance: 45 MB per day, =>": "everyday sends videos over cellular without an " +
			"allowance: a month's data may go in a day.",
		"- over: wifi\n=>- over: wifi\n      - {over: wired}\n": "The lane of everyday over a wired network is never " +
			"used: what it takes goes by the one before, whenever it could.",
		"- over: wifi\n=>- {over: wifi, take: [photo, raw]}\n": "everyday takes videos, and none of its lanes carries " +
			"them: they wait for ever.",
	} {
		from, to, _ := strings.Cut(change, "=>")
		text := strings.Replace(first, from, to, 1)
		require.NotEqual(t, first, text, change)
		assert.Equal(t, want, strings.Join(words.Said(words.Doubts(parsed(t, text))), "|"), change)
	}
	for change, want := range map[string]string{
		"take: [photo, raw, video]\n=>take: [photo, video]\n": "Of DCIM of galley-phone photos go, and no raw files: " +
			"those go nowhere.",
		"format: 2\n=>": "Under take of everyday, photo means raw files and graphics, too: so " +
			"it was when the plan was written. With \"format: 2\" at the top each is a kind of its own (photo, raw, graphic).",
		"rule: everyday}=>rules: [everyday, b]}": "b does nothing for DCIM of galley-phone: everyday, which stands " +
			"before it, takes all that it would.",
	} {
		from, to, _ := strings.Cut(change, "=>")
		text := strings.Replace(first, from, to, 1) + "  b: {take: [video], to: [locker, shed], lanes: [{over: wifi}]}\n"
		assert.Contains(t, words.Said(words.Doubts(parsed(t, text))), want, change)
	}
	reduced := strings.NewReplacer("rules:\n", "renditions: {small: {long-edge: 800}}\nrules:\n",
		"take: [photo, raw, video]\n", "take: [photo, raw, video]\n    send: {photo: small}\n").Replace(first)
	assert.Equal(t, []string{"Photos of everyday go as shot to no place: as they were shot they are on the device " +
		"alone."}, words.Said(words.Doubts(parsed(t, reduced))))
	assert.Contains(t, words.Rule(parsed(t, reduced).Rules["everyday"]), "; photos as small.")
	places := "to: [locker, shed]"
	require.Contains(t, first, places)
	for to, says := range map[string]string{
		"to: [locker as small, shed]": "What follows everyday goes to locker as small from now on; what is stored there stays.",
		"to: [locker as shot, shed]":  "What follows everyday goes to locker as shot from now on; what is stored there stays.",
	} {
		assert.Equal(t, []string{says},
			words.Changes(parsed(t, reduced), parsed(t, strings.Replace(reduced, places, to, 1))), to)
	}
	noSend := strings.Replace(reduced, "    send: {photo: small}\n", "", 1)
	shot := parsed(t, strings.Replace(noSend, places, "to: [locker as shot, shed as small]", 1))
	assert.Equal(t, []string{"What follows everyday goes to shed as small from now on; what is stored there stays."},
		words.Changes(parsed(t, noSend), shot), "it went to locker as shot before")
	assert.Contains(t, words.Rule(shot.Rules["everyday"]), "go to locker as shot and shed as small,")
	assert.Empty(t, words.Doubts(shot), "one place has it as shot")
	other := strings.Replace(reduced, "800", "900", 1)
	assert.Equal(t, []string{"small is at most 900 px, quality 82, and was at most 800 px, quality 82; what was sent " +
		"stays as it is."}, words.Changes(parsed(t, reduced), parsed(t, other)))
	assert.Equal(t, "small is a new rendition: at most 800 px, quality 82.",
		words.Changes(parsed(t, first), parsed(t, reduced))[0])
	unused := strings.Replace(first, "rules:\n", "rules:\n  spare: {take: [photo], to: [shed], lanes: [{over: wifi}]}\n",
		1)
	assert.Equal(t, []string{"No source follows the rule spare: it does nothing."}, words.Said(words.Doubts(parsed(t, unused))))
	for _, more := range []string{"{over: wifi, gates: {hours: any}}", "{over: wifi, metered: true}",
		"{over: wired, gates: {power: any}}"} {
		p := parsed(t, strings.Replace(first, "- over: wifi\n", "- over: wifi\n      - "+more+"\n", 1))
		assert.Empty(t, words.Doubts(p), "%s opens where the first does not", more)
	}
}

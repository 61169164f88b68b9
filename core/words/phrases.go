package words

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// Phrase is some words of a sentence about the plan. Of is the path of the keys that the words tell of,
// below the part that the sentence is about, as in an edit of the plan; it is empty for words between.
type Phrase struct {
	Says string   `json:"says"`
	Of   []string `json:"of,omitempty" doc:"The path of the key that it tells of, below the rule; absent for words between"`
}

// Rule tells what a rule does: "Photos and videos go to locker and shed, over Wi-Fi, or
// over cellular up to 45 MB per day (photos only), when charging or at least 40%,
// at 06:00-23:00."
func Rule(r plan.Rule) string { return join(RulePhrases(r)) }

// RulePhrases is the sentence of Rule, in phrases.
func RulePhrases(r plan.Rule) []Phrase {
	var s sentence
	s.tell(upper(kinds(r.Take)), "take")
	s.larger(r)
	if len(r.Take) == len(media.Kinds) {
		s.say(" goes to ")
	} else {
		s.say(" go to ")
	}
	s.tell(And(r.Places()), "to")
	s.say(", ")
	s.lanes(r.Lanes)
	s.conditions(r.Gates)
	if r.Order != "" && r.Order != plan.NewestFirst {
		s.say(", ")
		s.tell("the "+string(r.Order)+" first", "order")
	}
	also := func(some bool, text string, of ...string) {
		if some {
			s.say("; ")
			s.tell(text, of...)
		}
	}
	for _, k := range plan.Reducible {
		also(r.Send[k] != "", k.Plural()+" as "+r.Send[k], "send", string(k))
	}
	also(r.Versions == plan.NewestVersion, "of edited files the newest version alone counts", "versions")
	also(r.StoreEach, "equal files are stored each", "store-each")
	also(r.Companions != nil, "with them "+companions(r.Companions), "companions")
	also(r.Previews != "", "previews as "+r.Previews+" beside", "previews")
	also(r.Bursts, "shots in a row become a clip beside", "bursts")
	for _, a := range r.Also {
		also(true, "what is "+marked(a.When)+" also goes to "+a.Layout, "also")
	}
	also(r.OnClash == plan.SkipClash, "where something else has the name it is not sent", "on-clash")
	s.say(".")
	return s.phrases
}

// WayPhrases is how a rule's items go, in phrases: its lanes and its gates.
func WayPhrases(r plan.Rule) []Phrase {
	var s sentence
	s.lanes(r.Lanes)
	s.conditions(r.Gates)
	return s.phrases
}

// Lane tells one way to send: "over cellular up to 45 MB per day (photos only)".
func Lane(l plan.Lane) string {
	var s sentence
	s.lane(l)
	return s.String()
}

// conditions tells gates: ", when charging, at 22:00-06:00".
func conditions(g plan.Gates) string {
	var s sentence
	s.conditions(g)
	return s.String()
}

func join(phrases []Phrase) string {
	var all strings.Builder
	for _, p := range phrases {
		all.WriteString(p.Says)
	}
	return all.String()
}

// sentence is one that is being made; under is the path of the part that is told of.
type sentence struct {
	phrases []Phrase
	under   []string
}

func (s *sentence) String() string { return join(s.phrases) }

// say adds words that tell of no key.
func (s *sentence) say(text string) { s.phrases = append(s.phrases, Phrase{Says: text}) }

// tell adds words that tell of a key.
func (s *sentence) tell(text string, of ...string) {
	s.phrases = append(s.phrases, Phrase{Says: text, Of: slices.Concat(s.under, of)})
}

// within tells of what lies below a path.
func (s *sentence) within(tell func(), path ...string) {
	before := s.under
	s.under = slices.Concat(before, path)
	tell()
	s.under = before
}

func (s *sentence) lanes(lanes []plan.Lane) {
	for i, l := range lanes {
		if i > 0 {
			s.say(", or ")
		}
		s.within(func() { s.lane(l) }, "lanes", "#"+strconv.Itoa(i))
	}
}

func (s *sentence) lane(l plan.Lane) {
	s.tell("over "+l.Over.Label(), "over")
	if l.Send != "" {
		s.say(" ")
		s.tell("in small ("+l.Send+")", "send")
	}
	if l.Allowance.Bytes > 0 {
		s.say(" ")
		s.tell("up to "+upTo(l.Allowance), "allowance")
	}
	between, notes := " (", false
	note := func(some bool, text string, of ...string) {
		if some {
			s.say(between)
			s.tell(text, of...)
			between, notes = ", ", true
		}
	}
	note(len(l.Take) > 0, kinds(l.Take)+" only", "take")
	note(l.Metered, "also where it is metered", "metered")
	note(l.Roaming, "also while roaming", "roaming")
	note(l.Roaming && l.RoamingAllowance.Bytes > 0, "then up to "+upTo(l.RoamingAllowance), "roaming-allowance")
	note(l.MeteredWiFi, "also over a metered Wi-Fi", "metered-wifi")
	note(l.HomeOnly, "at home only", "home-only")
	note(len(l.Named) > 0, "on "+And(l.Named)+" only", "named")
	note(len(l.NotNamed) > 0, "not on "+And(l.NotNamed), "not-named")
	if notes {
		s.say(")")
	}
	s.conditions(l.Gates)
}

func upTo(a plan.Allowance) string {
	return Bytes(a.Bytes) + " per " + string(a.Per)
}

// switches tells what the former gates of a device's use say, by what stands behind them.
var switches = map[string]map[plan.Switch]string{
	"screen": {plan.MustBeOff: "while the screen is dark", plan.OnOrOff: "with the screen on or off"},
	"battery-saver": {plan.MustBeOff: "not while the system saves battery",
		plan.OnOrOff: "also while the system saves battery"},
}

// conditions tells gates, each with a comma before it.
func (s *sentence) conditions(g plan.Gates) {
	tell := func(some bool, text, key string) {
		if some {
			s.say(", ")
			s.tell(text, "gates", key)
		}
	}
	tell(g.NoPower, "on any power", "power")
	tell(!g.NoPower && g.Power != plan.Power{},
		"when "+strings.ReplaceAll(g.Power.String(), "at least", "the battery has at least"), "power")
	tell(g.NoHours, "at any hour", "hours")
	tell(!g.NoHours && len(g.Hours) > 0, "at "+g.Hours.String(), "hours")
	tell(g.NoUnused, "however lately it was used", "unused-for")
	tell(!g.NoUnused && g.Unused > 0, "when nobody used the device for "+g.Unused.String(), "unused-for")
	tell(g.NoRest, "at rest or not", "rest")
	tell(!g.NoRest && g.Rest > 0, "when it has been on charge and unused for "+g.Rest.String(), "rest")
	screen, saver := switches["screen"][g.Screen], switches["battery-saver"][g.Saver]
	tell(screen != "", screen, "screen")
	tell(saver != "", saver, "battery-saver")
	tell(g.Idle == plan.MustBeIdle, "while nobody uses the device", "idle")
	tell(g.Idle == plan.MayBeUsed, "also while it is used", "idle")
}

// larger tells of what sizes and lengths a rule takes files.
func (s *sentence) larger(r plan.Rule) {
	if r.LargerThan == 0 && r.LongerThan == 0 {
		return
	}
	s.say(" that ")
	if r.LargerThan > 0 {
		s.tell("are larger than "+Bytes(int64(r.LargerThan)), "larger-than")
	}
	if r.LargerThan > 0 && r.LongerThan > 0 {
		s.say(" or ")
	}
	if r.LongerThan > 0 {
		s.tell(fmt.Sprint("last longer than ", r.LongerThan), "longer-than")
	}
}

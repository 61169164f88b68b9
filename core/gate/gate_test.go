package gate_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

var (
	lisbon, _ = time.LoadLocation("Europe/Lisbon")
	noon      = time.Date(2026, 11, 23, 12, 0, 0, 0, lisbon)
	earlier   = noon.Add(-time.Hour)
	everyday  = plan.Rule{
		Take: []media.Kind{media.Photo, media.Video},
		Lanes: []plan.Lane{
			{Over: plan.WiFi},
			{Over: plan.Cellular, Take: []media.Kind{media.Photo}, Allowance: plan.Allowance{Bytes: 45e6, Per: plan.Day}},
		},
		Gates: plan.Gates{Power: plan.Power{Charging: true, AtLeast: 40}, Hours: plan.Hours{{Start: 6 * 60, End: 23 * 60}}},
	}
	home = gate.Conditions{ScreenSince: earlier, SaverSince: earlier, Network: plan.WiFi, Metered: gate.No,
		Roaming: gate.No, Charging: gate.No, Battery: 80, Use: gate.InUse,
		NetworkSince: earlier, MeteredSince: earlier, RoamingSince: earlier, PowerSince: earlier, UseSince: earlier}
)

// question is a situation with one rule and one destination.
type question struct {
	gate.Situation
	Rule      plan.Rule
	Networked bool
}

var toShed = queue.Class{Rule: "everyday", Kind: media.Photo, Destination: "shed"}

func situation(change func(*question)) gate.Situation {
	q := question{Rule: everyday, Networked: true, Situation: gate.Situation{Device: "phone", Now: home, Time: noon,
		Zone:     lisbon,
		Accounts: map[gate.Account]allowance.Account{{Over: plan.Cellular, Per: plan.Day}: {}},
		Places:   map[string]gate.At{"shed": {Left: -1}}}}
	q.Rule.Lanes = slices.Clone(q.Rule.Lanes)
	if change != nil {
		change(&q)
	}
	to := plan.Destination{Kind: plan.WebDAV}
	if !q.Networked {
		to.Kind = plan.Folder
	}
	q.Rule.Take, q.Rule.To = []media.Kind{media.Photo, media.Video}, []string{"shed"}
	q.Plan = &plan.Plan{Destinations: map[string]plan.Destination{"shed": to},
		Rules: map[string]plan.Rule{"everyday": q.Rule}}
	return q.Situation
}

func ask(kind media.Kind, change func(*question)) gate.Verdict {
	class := toShed
	class.Kind = kind
	return situation(change).Decide(class)
}

func TestOpenAtHome(t *testing.T) {
	v := ask(media.Video, nil)
	assert.True(t, v.Open())
	assert.Equal(t, 0, v.Lane)
	assert.Empty(t, v.Holds)
	assert.Equal(t, noon.Add(11*time.Hour), v.Until, "the hours shut at 23:00")
}

func TestHolds(t *testing.T) {
	pauseEnd := noon.Add(time.Hour)
	spent := map[gate.Account]allowance.Account{{Over: plan.Cellular, Per: plan.Day}: {Spent: 45e6}}
	for name, c := range map[string]struct {
		kind   media.Kind
		change func(*question)
		gate   gate.Name
		says   string
		opens  time.Time
	}{
		"no network": {media.Photo, func(q *question) { q.Now.Network = plan.NoNetwork }, gate.Network,
			"Waits for a network; the device has none.", time.Time{}},
		"unknown network": {media.Photo, func(q *question) { q.Now.Network = plan.UnknownNetwork }, gate.Network,
			"Waits for Wi-Fi; this device cannot tell which network it is on.", time.Time{}},
		"roaming unknown": {media.Photo, func(q *question) { q.Now.Network, q.Now.Roaming = plan.Cellular, gate.Unknown },
			gate.Roaming, "Waits until the device does not roam; this device cannot tell whether it does.", time.Time{}},
		"metered unknown": {media.Photo, func(q *question) { q.Now.Metered = gate.Unknown }, gate.Metered,
			"Waits for a network that is not metered; this device cannot tell whether this one is.", time.Time{}},
		"power unknown": {media.Photo, func(q *question) { q.Now.Charging, q.Now.Battery = gate.Unknown, -1 },
			gate.Power, "Waits for the charger or a battery of at least 40%; this device cannot tell whether it is charging.",
			time.Time{}},
		"no account": {media.Photo, func(q *question) { q.Now.Network, q.Accounts = plan.Cellular, nil },
			gate.Allowance, "The allowance of 45 MB per day on cellular is used up.", time.Date(2026, 11, 24, 0, 0, 0, 0,
				lisbon)},
		"video on cellular": {media.Video, func(q *question) { q.Now.Network = plan.Cellular }, gate.Network,
			"Waits for Wi-Fi; the device is on cellular.", time.Time{}},
		"roaming": {media.Photo, func(q *question) { q.Now.Network, q.Now.Roaming = plan.Cellular, gate.Yes },
			gate.Roaming, "Waits until the device no longer roams.", time.Time{}},
		"a metered hotspot": {media.Photo, func(q *question) { q.Now.Metered = gate.Yes }, gate.Metered,
			"Waits for a network that is not metered; this one is.", time.Time{}},
		"a low battery": {media.Photo, func(q *question) { q.Now.Battery = 31 }, gate.Power,
			"Waits for the charger or a battery of at least 40%; the battery is at 31% and not charging.", time.Time{}},
		"the night": {media.Photo, func(q *question) { q.Time = noon.Add(12 * time.Hour) }, gate.Hours,
			"Sends only at 06:00-23:00.", time.Date(2026, 11, 24, 6, 0, 0, 0, lisbon)},
		"a spent allowance": {media.Photo, func(q *question) { q.Now.Network, q.Accounts = plan.Cellular, spent },
			gate.Allowance, "The allowance of 45 MB per day on cellular is used up.", time.Date(2026, 11, 24, 0, 0, 0, 0,
				lisbon)},
		"paused for an hour": {media.Photo, func(q *question) {
			q.Pause = gate.PauseState{On: true, Since: earlier,
				Until: pauseEnd}
		}, gate.Pause, "Paused by you.", pauseEnd},
		"in use": {media.Photo, func(q *question) { q.Rule.Gates.Idle = plan.MustBeIdle }, gate.Idle,
			"Waits until nobody uses the device.", time.Time{}},
		"charging for too short": {media.Photo, func(q *question) {
			q.Rule.Gates.Power = plan.Power{Charging: true, For: 90}
			q.Now.Charging = gate.Yes
		}, gate.Power, "Waits until it has charged for 90 minutes.", earlier.Add(90 * time.Minute)},
		"saving battery": {media.Photo, func(q *question) { q.Rule.Gates.Saver, q.Now.Saver = plan.MustBeOff, gate.Yes },
			gate.Power, "Waits until the system no longer saves battery.", time.Time{}},
		"saving not known": {media.Photo, func(q *question) { q.Rule.Gates.Saver = plan.MustBeOff }, gate.Power,
			"Waits until the system does not save battery; this device cannot tell whether it does.", time.Time{}},
		"the screen is on": {media.Photo, func(q *question) {
			q.Rule.Gates.Screen, q.Now.Screen = plan.MustBeOff,
				gate.Yes
		}, gate.Idle, "Waits until the screen is dark.", time.Time{}},
		"the screen unknown": {media.Photo, func(q *question) { q.Rule.Gates.Screen = plan.MustBeOff }, gate.Idle,
			"Waits until the screen is dark; this device cannot tell whether it is.", time.Time{}},
		"used a while ago": {media.Photo, func(q *question) {
			q.Rule.Gates.Unused, q.Now.Use = 75, gate.NotInUse
		}, gate.Idle, "Waits until nobody has used the device for 75 minutes.", earlier.Add(75 * time.Minute)},
		"used now": {media.Photo, func(q *question) { q.Rule.Gates.Unused = 5 }, gate.Idle,
			"Waits until nobody has used the device for 5 minutes.", time.Time{}},
		"at rest for too short": {media.Photo, func(q *question) {
			q.Rule.Gates.Rest, q.Now.Charging, q.Now.Use, q.Now.PowerSince = 45, gate.Yes, gate.NotInUse,
				noon.Add(-30*time.Minute)
		}, gate.Idle, "Waits until it has been on charge and unused for 45 minutes.", noon.Add(15 * time.Minute)},
		"not on charge, so not at rest": {media.Photo, func(q *question) {
			q.Rule.Gates.Power, q.Rule.Gates.Rest,
				q.Now.Use = plan.Power{}, 5, gate.NotInUse
		}, gate.Power, "Waits until it has been on charge and unused for 5 minutes.", time.Time{}},
		"another Wi-Fi": {media.Video,
			func(q *question) { q.Rule.Lanes[0].Named, q.Now.NetworkName = []string{"Slip", "Loft"}, "Harbour" }, gate.Network,
			"Waits for Slip or Loft; the device is on Harbour.", time.Time{}},
		"a barred Wi-Fi": {media.Video,
			func(q *question) { q.Rule.Lanes[0].NotNamed, q.Now.NetworkName = []string{"Harbour"}, "Harbour" }, gate.Network,
			"Waits for another Wi-Fi than Harbour, which is not allowed.", time.Time{}},
		"not at home": {media.Video,
			func(q *question) { q.Rule.Lanes[0].HomeOnly, q.Now.NetworkName = true, "Harbour" }, gate.Network,
			"Waits for the network at home; the device is on Harbour.", time.Time{}},
		"a Wi-Fi without a name": {media.Video, func(q *question) { q.Rule.Lanes[0].HomeOnly = true }, gate.Network,
			"Waits for a network of a certain name; this device cannot tell what its Wi-Fi is called.", time.Time{}},
		"what may be spent while roaming": {media.Photo, func(q *question) {
			q.Rule.Lanes = q.Rule.Lanes[1:]
			q.Rule.Lanes[0].Roaming, q.Rule.Lanes[0].RoamingAllowance = true, plan.Allowance{Bytes: 5e6, Per: plan.Week}
			q.Now.Network, q.Now.Roaming = plan.Cellular, gate.Yes
			q.Accounts = map[gate.Account]allowance.Account{{Over: plan.Cellular, Per: plan.Day}: {},
				{Over: plan.Cellular, Per: plan.Week, Roaming: true}: {Spent: 5e6}}
		}, gate.Allowance, "What may be spent while roaming, 5.0 MB per week, is used up.",
			time.Date(2026, 11, 30, 0, 0, 0, 0, lisbon)},
		"its program is not open": {media.Photo,
			func(q *question) { q.Stopped = gate.Hold{Gate: gate.Front, Says: "Open it on phone.", Since: earlier} },
			gate.Front, "Open it on phone.", time.Time{}},
		"use not known": {media.Photo, func(q *question) { q.Rule.Gates.Idle = plan.MustBeIdle; q.Now.Use = gate.UseUnknown }, gate.Idle,
			"Waits until nobody uses the device; this device cannot tell whether it is in use.", time.Time{}},
	} {
		t.Run(name, func(t *testing.T) {
			v := ask(c.kind, c.change)
			require.False(t, v.Open())
			require.NotEmpty(t, v.Holds)
			h := v.Holds[0]
			assert.Equal(t, c.gate, h.Gate)
			assert.Equal(t, c.says, h.Says)
			assert.True(t, c.opens.Equal(h.Opens), "opens %s", h.Opens)
			assert.False(t, h.Since.IsZero(), "a hold says since when")
		})
	}
}

func TestAPauseThatEndedHoldsNothing(t *testing.T) {
	v := ask(media.Photo, func(q *question) {
		q.Pause = gate.PauseState{On: true, Since: noon.Add(-2 * time.Hour), Until: earlier}
	})
	assert.True(t, v.Open())
}

func TestTheSecondLaneIsUsedAndItsAllowanceCounts(t *testing.T) {
	v := ask(media.Photo, func(q *question) {
		q.Now.Network = plan.Cellular
		q.Accounts = map[gate.Account]allowance.Account{{Over: plan.Cellular, Per: plan.Day}: {Spent: 20e6, Reserved: 5e6}}
	})
	assert.Equal(t, 1, v.Lane)
	assert.EqualValues(t, 20e6, v.Lanes[1].Left)
}

// What only goes along with items waits for no lane that names its kind; what the rule takes does.
func TestWhatGoesAlongNeedsNoLaneOfItsOwn(t *testing.T) {
	photosByWiFi := func(now plan.Network) func(*question) {
		return func(q *question) {
			q.Rule.Lanes[0].Take = []media.Kind{media.Photo}
			q.Rule.Companions = []media.Companion{media.CompanionOf(media.Raw), media.Sidecar}
			q.Now.Network = now
		}
	}
	assert.True(t, ask(media.Document, photosByWiFi(plan.WiFi)).Open(), "a sidecar")
	assert.True(t, ask(media.Document, photosByWiFi(plan.Cellular)).Open())
	assert.True(t, ask(media.Raw, photosByWiFi(plan.WiFi)).Open(), "the raw of a picture")
	assert.False(t, ask(media.Raw, photosByWiFi(plan.Cellular)).Open(), "it is large")
	assert.False(t, ask(media.Video, photosByWiFi(plan.WiFi)).Open(), "the rule takes videos, and no lane carries them")
}

func TestAFolderNeedsNoNetwork(t *testing.T) {
	v := ask(media.Video, func(q *question) { q.Networked, q.Now.Network = false, plan.NoNetwork })
	assert.True(t, v.Open())
	v = ask(media.Video, func(q *question) { q.Networked, q.Now.Battery = false, 5 })
	assert.False(t, v.Open(), "but it does need power")
}

func TestACableIsAsGoodAsWiFiAndNotTheOtherWayRound(t *testing.T) {
	assert.True(t, ask(media.Video, func(q *question) { q.Now.Network = plan.Wired }).Open())
	assert.False(t, ask(media.Video, func(q *question) { q.Rule.Lanes = []plan.Lane{{Over: plan.Wired}} }).Open())
}

func TestPower(t *testing.T) {
	for _, c := range []struct {
		gate     string
		charging bool
		battery  int
		open     bool
	}{
		{"charging", true, 3, true}, {"charging", false, 100, false}, {"charging", true, -1, true},
		{"at least 40%", false, 40, true}, {"at least 40%", true, 39, false}, {"at least 40%", true, -1, true},
		{"charging or at least 40%", true, 3, true}, {"charging or at least 40%", false, 39, false},
		{"charging and at least 20%", true, 19, false}, {"charging and at least 20%", true, 20,
			true}, {"charging and at least 20%", false, 90, false},
	} {
		p, err := plan.ParsePower(c.gate)
		require.NoError(t, err)
		v := ask(media.Photo, func(q *question) {
			q.Rule.Gates.Power = p
			q.Now.Charging, q.Now.Battery = gate.Is(c.charging), c.battery
		})
		assert.Equal(t, c.open, v.Open(), "%+v", c)
	}
}

func TestHoursAcrossClockChanges(t *testing.T) {
	at := func(s string) time.Time {
		tm, err := time.Parse(time.RFC3339, s)
		require.NoError(t, err)
		return tm
	}
	for name, c := range map[string]struct {
		hours string
		now   time.Time
		open  bool
		turns time.Time
	}{
		"over midnight, before it":   {"22:00-06:00", at("2026-11-23T23:30:00Z"), true, at("2026-11-24T06:00:00Z")},
		"over midnight, after it":    {"22:00-06:00", at("2026-11-24T05:59:59Z"), true, at("2026-11-24T06:00:00Z")},
		"over midnight, by day":      {"22:00-06:00", at("2026-11-24T06:00:00Z"), false, at("2026-11-24T22:00:00Z")},
		"a start the clocks skip":    {"01:30-04:00", at("2026-03-29T00:30:00Z"), false, at("2026-03-29T01:00:00Z")},
		"a window the clocks skip":   {"01:10-01:50", at("2026-03-29T00:30:00Z"), false, at("2026-03-30T00:10:00Z")},
		"a window the clocks repeat": {"01:10-01:50", at("2026-10-25T00:20:00Z"), true, at("2026-10-25T00:50:00Z")},
		"and its second time":        {"01:10-01:50", at("2026-10-25T00:55:00Z"), false, at("2026-10-25T01:10:00Z")},
		"two windows that meet": {"06:00-12:00, 12:00-14:00", at("2026-11-23T08:00:00Z"), true,
			at("2026-11-23T14:00:00Z")},
		"a window to the end of day": {"06:00-24:00", at("2026-11-23T08:00:00Z"), true, at("2026-11-24T00:00:00Z")},
		"the whole day never turns":  {"00:00-24:00", at("2026-11-23T08:00:00Z"), true, time.Time{}},
	} {
		hours, err := plan.ParseHours(c.hours)
		require.NoError(t, err)
		v := ask(media.Photo, func(q *question) {
			q.Rule = plan.Rule{Lanes: []plan.Lane{{Over: plan.WiFi}}, Gates: plan.Gates{Hours: hours}}
			q.Time = c.now
		})
		assert.Equal(t, c.open, v.Open(), name)
		assert.True(t, c.turns.Equal(v.Until), "%s: turns %s", name, v.Until)
	}
}

// Whenever a hold says it opens by the clock alone, it does, and not before.
func TestWhatIsSaidToOpenOpensThen(t *testing.T) {
	zones := []*time.Location{time.UTC, lisbon, time.FixedZone("odd", 5*3600+45*60)}
	rapid.Check(t, func(t *rapid.T) {
		var hours plan.Hours
		for range rapid.IntRange(1, 3).Draw(t, "windows") {
			w := plan.Window{Start: rapid.IntRange(0, 1439).Draw(t, "start"), End: rapid.IntRange(0, 1440).Draw(t, "end")}
			if rapid.Bool().Draw(t, "some days") {
				w.First, w.Last = rapid.IntRange(1, 7).Draw(t, "first"), rapid.IntRange(1, 7).Draw(t, "last")
			}
			if w.Start != w.End {
				hours = append(hours, w)
			}
		}
		if len(hours) == 0 {
			t.Skip()
		}
		now := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(t, "now"), 0)
		z := rapid.SampledFrom(zones).Draw(t, "zone")
		decide := func(at time.Time) gate.Verdict {
			return ask(media.Photo, func(q *question) {
				q.Rule = plan.Rule{Lanes: []plan.Lane{{Over: plan.WiFi}}, Gates: plan.Gates{Hours: hours}}
				q.Time, q.Zone = at, z
			})
		}
		v := decide(now)
		if v.Until.IsZero() {
			return
		}
		require.True(t, v.Until.After(now))
		require.NotEqual(t, v.Open(), decide(v.Until).Open())
		for range 20 {
			between := now.Add(time.Duration(rapid.Int64Range(0, int64(v.Until.Sub(now))-1).Draw(t, "between")))
			require.Equal(t, v.Open(), decide(between).Open(), "at %s", between.In(z))
		}
		if !v.Open() {
			require.True(t, v.Until.Equal(v.Holds[0].Opens))
		}
	})
}

func TestACopyLargerThanTheAllowanceSaysSo(t *testing.T) {
	s := situation(func(q *question) {
		q.Now.Network = plan.Cellular
		q.Accounts = map[gate.Account]allowance.Account{{Over: plan.Cellular, Per: plan.Day}: {Spent: 35e6}}
	})
	v := s.Decide(toShed)
	require.True(t, v.Open())
	assert.Empty(t, s.TooLarge(toShed, v, 5e6))
	h := s.TooLarge(toShed, v, 20e6)[0]
	assert.Equal(t, "It is 20 MB, and 10 MB are left of the allowance of 45 MB per day on cellular.", h.Says)
	assert.False(t, h.Opens.IsZero())
	h = s.TooLarge(toShed, v, 60e6)[0]
	assert.Contains(t, h.Says, "larger than the whole allowance of 45 MB per day")
	assert.True(t, h.Opens.IsZero(), "no new day will let it go")

	s.Smallest = map[queue.Class]int64{toShed: 20e6}
	v = s.Decide(toShed)
	require.False(t, v.Open(), "not even the smallest fits")
	assert.Equal(t, gate.Allowance, v.Holds[0].Gate)
	s.Smallest[toShed] = v.Lanes[1].Left
	assert.False(t, s.Decide(toShed).Open(), "what is sent around a file counts too")
	s.Smallest[toShed] = allowance.Carries(10e6)
	assert.True(t, s.Decide(toShed).Open())
}

func TestRoomAtThePlaceNarrowsWhatGoes(t *testing.T) {
	at := func(left, smallest int64) (gate.Situation, gate.Verdict) {
		s := situation(func(q *question) {
			q.Places["shed"] = gate.At{Left: left}
			q.Smallest = map[queue.Class]int64{toShed: smallest}
		})
		return s, s.Decide(toShed)
	}
	_, v := at(5e6, 4e6)
	require.True(t, v.Open())
	assert.EqualValues(t, 5e6, v.Fits)
	s, v := at(5e6, 6e6)
	holds, todo := s.Waits(toShed, v)
	assert.Equal(t, "shed has room for 5.0 MB more; the smallest of these is 6.0 MB.", holds[0].Says)
	assert.True(t, holds[0].You)
	assert.NotEmpty(t, todo)
	assert.True(t, s.Stays(gate.Under{Class: toShed}, v), "what is on its way has its room")
	_, v = at(0, 1)
	assert.Equal(t, "shed has no room left; the smallest of these is 1 B.", v.Holds[0].Says)
}

// What a place is known for decides over everything that goes there.
func TestPlaces(t *testing.T) {
	failing := gate.Failing{Says: "no answer", Todo: "Look.", You: true, Since: earlier, Until: noon.Add(time.Minute)}
	s := situation(func(q *question) { q.Places["shed"] = gate.At{Left: -1, Failing: failing} })
	v := s.Decide(toShed)
	require.True(t, v.Open(), "it is tried again")
	holds, todo := s.Waits(toShed, v)
	assert.Equal(t, gate.Hold{Gate: gate.Trouble, Says: "shed: no answer", Since: earlier, Opens: failing.Until,
		You: true}, holds[0])
	assert.Equal(t, "Look.", todo)
	assert.Zero(t, s.Free("shed", 0))
	assert.True(t, s.Quiet("shed"))
	s.Time = failing.Until
	assert.Equal(t, s.Shares("shed", 1<<20), s.Free("shed", 0), "one try when its wait is over")
	assert.Zero(t, s.Free("shed", 1))
	assert.False(t, s.Quiet("shed"))

	s.Places["shed"] = gate.At{Left: -1, Unseen: true}
	assert.Equal(t, gate.Place, s.Decide(toShed).Holds[0].Gate)
	s.Places["shed"] = gate.At{Left: -1, Moved: gate.Hold{Gate: gate.Place, Says: "Elsewhere."}}
	assert.Equal(t, queue.Proving, s.Shown(queue.Safe, "shed"))
	assert.Equal(t, queue.Stuck, s.Shown(queue.Stuck, "shed"))
	delete(s.Places, "shed")
	assert.False(t, s.Decide(toShed).Open(), "nothing goes to a place that nobody knows")
	assert.True(t, s.Quiet("shed"))

	for _, class := range []queue.Class{{Rule: "none", Kind: media.Photo, Destination: "shed"},
		{Rule: "everyday", Kind: "sound", Destination: "shed"}, {Rule: "everyday", Kind: media.Photo, Destination: "loft"}} {
		assert.Equal(t, queue.NotAsked, s.Decide(class).Holds[0].Says)
	}
}

// Over a network that costs nothing leaves, is read back or goes on that the keeper
// did not allow to cost, whatever else is so: and what is not known may cost.
func TestNothingThatMayCostGoesUnasked(t *testing.T) {
	free := gate.Conditions{Network: plan.WiFi, Metered: gate.No, Roaming: gate.No}
	rapid.Check(t, func(t *rapid.T) {
		now := gate.Conditions{
			Network: rapid.SampledFrom([]plan.Network{"", plan.UnknownNetwork, plan.WiFi, plan.Wired, plan.Cellular}).Draw(t,
				"network"),
			Metered:  rapid.SampledFrom(append(gate.Knowns, "")).Draw(t, "metered"),
			Roaming:  rapid.SampledFrom(append(gate.Knowns, "")).Draw(t, "roaming"),
			Charging: gate.Yes, Battery: -1,
		}
		costs := now.Network != plan.WiFi && now.Network != plan.Wired || now.Metered != free.Metered ||
			now.Roaming != free.Roaming
		lanes := rapid.SliceOfN(rapid.SampledFrom([]plan.Lane{{Over: plan.WiFi}, {Over: plan.Wired}, {Over: plan.Cellular},
			{Over: plan.WiFi, Metered: true}, {Over: plan.WiFi, Roaming: true}}), 1, 3).Draw(t, "lanes")
		s := situation(func(q *question) {
			q.Rule, q.Now = plan.Rule{Lanes: lanes}, now
		})
		require.Equal(t, costs, s.Costs("shed"))
		v := s.Decide(toShed)
		if v.Open() && costs {
			lane := lanes[v.Lane]
			require.True(t, lane.Over == plan.Cellular && now.Network == plan.Cellular || lane.Metered || lane.Roaming,
				"%+v over %+v", now, lane)
			require.True(t, lane.Roaming || now.Roaming == gate.No)
		}
		under := gate.Under{Class: toShed, Lane: max(v.Lane, 0), Ordered: rapid.Bool().Draw(t, "ordered"),
			Proving: rapid.Bool().Draw(t, "proving")}
		if costs {
			require.False(t, s.Stays(under, v), "it began when it cost nothing")
			require.False(t, s.TakesProofs("shed"))
			require.True(t, s.Quiet("shed"))
			require.False(t, s.GoesNow("shed", false, false))
			require.False(t, s.GoesNow("shed", true, true), "a proof is never read back there")
		}
		_, owes := s.OwesProof("shed")
		require.Equal(t, costs, owes)
	})
}

func TestWhatGoesFirst(t *testing.T) {
	s := situation(nil)
	s.Plan.Rules["old"] = plan.Rule{Order: plan.OldestFirst}
	s.Plan.Rules["small"] = plan.Rule{Order: plan.SmallestFirst}
	one := func(rule string, kind media.Kind, bytes, taken int64) gate.Candidate {
		return gate.Candidate{Class: queue.Class{Rule: rule, Kind: kind}, Bytes: bytes, TakenMS: taken}
	}
	for name, c := range map[string]struct {
		first, then gate.Candidate
		videos      bool
	}{
		"the newer":                         {one("everyday", media.Photo, 9, 2), one("everyday", media.Photo, 1, 1), false},
		"the older, by their rule":          {one("old", media.Photo, 9, 1), one("old", media.Photo, 1, 2), false},
		"the smaller, by their rule":        {one("small", media.Photo, 1, 1), one("small", media.Photo, 9, 2), false},
		"rules that differ: the newer":      {one("old", media.Photo, 9, 2), one("small", media.Photo, 1, 1), false},
		"a photo, while videos have enough": {one("everyday", media.Photo, 9, 1), one("everyday", media.Video, 1, 2), true},
		"else the newer clip":               {one("everyday", media.Video, 9, 2), one("everyday", media.Photo, 1, 1), false},
	} {
		assert.True(t, s.Before(c.first, c.then, c.videos), name)
		assert.False(t, s.Before(c.then, c.first, c.videos), name)
	}
	half := s.Plan.Destinations["shed"].SendersOrDefault() / 2 * s.Shares("shed", 1<<20)
	assert.False(t, s.VideosShare("shed", half-1))
	assert.True(t, s.VideosShare("shed", half))
}

func TestStampKeepsSinceOfWhatDidNotChange(t *testing.T) {
	later := home
	later.Battery = 79
	later = later.Stamp(home, noon)
	assert.Equal(t, earlier, later.NetworkSince)
	assert.Equal(t, earlier, later.PowerSince, "a percent less is no news of the charger")
	later.Charging = gate.Yes
	later = later.Stamp(home, noon)
	assert.Equal(t, noon, later.PowerSince)
	assert.Equal(t, earlier, later.UseSince)
	later.Metered = gate.Yes
	later = later.Stamp(later, noon.Add(time.Hour))
	hotspot := later
	hotspot.Metered, hotspot.NetworkName = gate.Unknown, "café"
	hotspot = hotspot.Stamp(later, noon.Add(2*time.Hour))
	assert.Equal(t, noon.Add(2*time.Hour), hotspot.MeteredSince, "each has its own")
	assert.Equal(t, noon.Add(2*time.Hour), hotspot.NetworkSince, "another name is another network")
	assert.Equal(t, earlier, hotspot.RoamingSince)
	none := gate.Conditions{}.Stamp(gate.Conditions{}, noon)
	assert.Equal(t, gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown, Roaming: gate.Unknown,
		Charging: gate.Unknown, Use: gate.UseUnknown, Screen: gate.Unknown, Saver: gate.Unknown, ScreenSince: noon,
		SaverSince:   noon,
		NetworkSince: noon, MeteredSince: noon, RoamingSince: noon, PowerSince: noon, UseSince: noon}, none,
		"what nobody told is unknown")
}

// The verdict costs the same with a million copies waiting as with one: this
// decides over every class of a large yard. The reference is a plain loop over
// a million rows, the work that deciding by class avoids.
func BenchmarkDecideOverAMillionWaiting(b *testing.B) {
	rows := make([]media.Kind, 1_000_000)
	for i := range rows {
		rows[i] = media.Kinds[i%2]
	}
	b.Run("by class", func(b *testing.B) {
		for range b.N {
			for range 40 { // ten rules, two destinations, two kinds
				ask(media.Photo, nil)
			}
		}
	})
	b.Run("reference row by row", func(b *testing.B) {
		for range b.N {
			for _, k := range rows {
				ask(k, nil)
			}
		}
	})
}

// Whatever gates a lane has: while nothing is known of the device, none of them opens,
// and as time goes by alone none does either.
func TestWhatIsNotKnownOpensNothing(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		one := rapid.SampledFrom([]func(*plan.Gates){
			func(g *plan.Gates) { g.Power = plan.Power{Charging: true, For: 20} },
			func(g *plan.Gates) { g.Power = plan.Power{AtLeast: 10} },
			func(g *plan.Gates) { g.Idle = plan.MustBeIdle },
			func(g *plan.Gates) { g.Unused = 10 },
			func(g *plan.Gates) { g.Rest = 10 },
			func(g *plan.Gates) { g.Screen = plan.MustBeOff },
			func(g *plan.Gates) { g.Saver = plan.MustBeOff },
		})
		n := rapid.IntRange(1, 3).Draw(rt, "gates")
		v := ask(media.Photo, func(q *question) {
			q.Rule.Gates = plan.Gates{}
			for range n {
				one.Draw(rt, "gate")(&q.Rule.Gates)
			}
			q.Networked = false
			q.Now = gate.Conditions{Battery: -1}.Stamp(gate.Conditions{}, noon)
			q.Time = noon.Add(time.Duration(rapid.IntRange(0, 100_000).Draw(rt, "later")) * time.Second)
		})
		require.False(rt, v.Open())
		require.True(rt, v.Until.IsZero(), "no time opens it")
	})
}

func TestAMeteredWiFiSpendsWhatCellularMay(t *testing.T) {
	on := func(metered bool, allowed bool) gate.Verdict {
		return ask(media.Photo, func(q *question) {
			q.Now.Metered, q.Rule.Lanes[1].MeteredWiFi = gate.Is(metered), allowed
		})
	}
	assert.Equal(t, 0, on(false, true).Lane)
	assert.Equal(t, 1, on(true, true).Lane, "by the cellular lane, with its allowance")
	assert.Equal(t, int64(45e6), on(true, true).Lanes[1].Left)
	assert.False(t, on(true, false).Open())
}

func TestAnUnknownNetworkCountsAsThePlanSaysAndThatShows(t *testing.T) {
	c := gate.Conditions{Network: plan.UnknownNetwork, Metered: gate.Unknown, Roaming: gate.Unknown}
	assert.Equal(t, c, c.Taken(""))
	taken := c.Taken(plan.AsWiFi)
	assert.Equal(t, plan.WiFi, taken.Network)
	assert.True(t, taken.Guessed)
	assert.False(t, taken.Costs())
	cellular := gate.Conditions{Network: plan.Cellular, Metered: gate.Yes, Roaming: gate.Unknown}
	assert.Equal(t, cellular, cellular.Taken(plan.AsWiFi), "what it can tell stays")
}

// Whatever a sensor's file or another's program says: it is one of our words, and opens
// nothing that was not known before.
func TestWhatNobodyKnowsTheMeaningOfIsUnknown(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := func(label string, ours ...string) string {
			return rapid.OneOf(rapid.SampledFrom(ours), rapid.String()).Draw(t, label)
		}
		known := func(label string) gate.Known { return gate.Known(word(label, "unknown", "yes", "no", "")) }
		c := gate.Conditions{
			Network:     plan.Network(word("network", "none", "wifi", "wired", "cellular", "unknown")),
			NetworkName: rapid.String().Draw(t, "name"),
			Metered:     known("metered"), Roaming: known("roaming"), Charging: known("charging"), Screen: known("screen"),
			Saver:   known("saver"),
			Battery: rapid.Int().Draw(t, "battery"), Use: gate.Use(word("use", "unknown", "in use", "idle")),
		}
		s := c.Sound()
		require.Contains(t, []plan.Network{plan.UnknownNetwork, plan.NoNetwork, plan.WiFi, plan.Wired, plan.Cellular},
			s.Network)
		for _, k := range []gate.Known{s.Metered, s.Roaming, s.Charging, s.Screen, s.Saver} {
			require.Contains(t, append(gate.Knowns, ""), k)
		}
		require.Contains(t, []gate.Use{gate.UseUnknown, gate.InUse, gate.NotInUse}, s.Use)
		require.True(t, s.Battery >= -1 && s.Battery <= 100)
		require.LessOrEqual(t, len(s.NetworkName), 64)
		require.Equal(t, s, s.Sound())
		if c.Network != s.Network {
			require.Equal(t, plan.UnknownNetwork, s.Network)
		}
	})
}

func TestRoomThatOthersHaveIsNoFaultOfTheKeepers(t *testing.T) {
	parted := situation(func(q *question) {
		q.Places["shed"] = gate.At{Left: 5e6, Others: 1e6}
		q.Smallest = map[queue.Class]int64{toShed: 6e6}
	})
	v := parted.Decide(toShed)
	assert.False(t, v.Open())
	assert.False(t, v.Holds[0].You, "it mends itself")
	assert.Empty(t, v.Todo)
	assert.Contains(t, v.Holds[0].Says, "5.0 MB of the room at shed are this device's, and 1.0 MB are others' now")
}

func TestSmallCopiesShareASender(t *testing.T) {
	s := situation(func(*question) {})
	senders := s.Plan.Destinations["shed"].SendersOrDefault()
	began := func(bytes int64) (n int) {
		for taken := 0; s.Shares("shed", bytes) <= s.Free("shed", taken); n++ {
			taken += s.Shares("shed", bytes)
		}
		return n
	}
	assert.Equal(t, senders, began(gate.SmallCopy+1), "one copy a sender")
	assert.Equal(t, 8*senders, began(gate.SmallCopy), "eight small ones")
	one := s.Plan.Destinations["shed"]
	one.Senders = 1
	s.Plan.Destinations["shed"] = one
	assert.Equal(t, 1, began(0), "one after the other, as the keeper said")
	one.Senders = 2
	s.Plan.Destinations["shed"] = one
	s.Places["shed"] = gate.At{Left: -1, Failing: gate.Failing{Says: "no answer", Since: earlier, Until: s.Time}}
	assert.Equal(t, 1, began(0), "a single try of what fails, however small")
}

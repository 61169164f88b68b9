package gate_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/allowance"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
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
	home = gate.Conditions{Network: plan.WiFi, Battery: 80, Use: gate.InUse, NetworkSince: earlier, PowerSince: earlier, UseSince: earlier}
)

func ask(kind media.Kind, change func(*gate.Question)) gate.Verdict {
	q := gate.Question{Rule: everyday, Kind: kind, Networked: true, Now: home, Time: noon, Zone: lisbon,
		Account: func(plan.Network) allowance.Account { return allowance.Account{} }}
	if change != nil {
		change(&q)
	}
	return gate.Decide(q)
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
	spent := func(plan.Network) allowance.Account { return allowance.Account{Spent: 45e6} }
	for name, c := range map[string]struct {
		kind   media.Kind
		change func(*gate.Question)
		gate   gate.Name
		says   string
		opens  time.Time
	}{
		"no network":         {media.Photo, func(q *gate.Question) { q.Now.Network = plan.NoNetwork }, gate.Network, "Waits for a network; the device has none.", time.Time{}},
		"unknown network":    {media.Photo, func(q *gate.Question) { q.Now.Network = "" }, gate.Network, "Waits for a network; the device has none.", time.Time{}},
		"video on cellular":  {media.Video, func(q *gate.Question) { q.Now.Network = plan.Cellular }, gate.Network, "Waits for Wi-Fi; the device is on cellular.", time.Time{}},
		"roaming":            {media.Photo, func(q *gate.Question) { q.Now.Network, q.Now.Roaming = plan.Cellular, true }, gate.Roaming, "Waits until the device no longer roams.", time.Time{}},
		"a metered hotspot":  {media.Photo, func(q *gate.Question) { q.Now.Metered = true }, gate.Metered, "Waits for a network that is not metered; this one is.", time.Time{}},
		"a low battery":      {media.Photo, func(q *gate.Question) { q.Now.Battery = 31 }, gate.Power, "Waits for the charger or a battery of at least 40%; the battery is at 31% and not charging.", time.Time{}},
		"the night":          {media.Photo, func(q *gate.Question) { q.Time = noon.Add(12 * time.Hour) }, gate.Hours, "Sends only at 06:00-23:00.", time.Date(2026, 11, 24, 6, 0, 0, 0, lisbon)},
		"a spent allowance":  {media.Photo, func(q *gate.Question) { q.Now.Network, q.Account = plan.Cellular, spent }, gate.Allowance, "The allowance of 45 MB per day on cellular is used up.", time.Date(2026, 11, 24, 0, 0, 0, 0, lisbon)},
		"paused for an hour": {media.Photo, func(q *gate.Question) { q.Pause = gate.PauseState{On: true, Since: earlier, Until: pauseEnd} }, gate.Pause, "Paused by you.", pauseEnd},
		"in use":             {media.Photo, func(q *gate.Question) { q.Rule.Gates.Idle = plan.MustBeIdle }, gate.Idle, "Waits until nobody uses the device.", time.Time{}},
		"use not known": {media.Photo, func(q *gate.Question) { q.Rule.Gates.Idle = plan.MustBeIdle; q.Now.Use = gate.UseUnknown }, gate.Idle,
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
	v := ask(media.Photo, func(q *gate.Question) {
		q.Pause = gate.PauseState{On: true, Since: noon.Add(-2 * time.Hour), Until: earlier}
	})
	assert.True(t, v.Open())
}

func TestTheSecondLaneIsUsedAndItsAllowanceCounts(t *testing.T) {
	v := ask(media.Photo, func(q *gate.Question) {
		q.Now.Network = plan.Cellular
		q.Account = func(plan.Network) allowance.Account { return allowance.Account{Spent: 20e6, Reserved: 5e6} }
	})
	assert.Equal(t, 1, v.Lane)
	assert.EqualValues(t, 20e6, v.Lanes[1].Left)
}

func TestAFolderNeedsNoNetwork(t *testing.T) {
	v := ask(media.Video, func(q *gate.Question) { q.Networked, q.Now.Network = false, plan.NoNetwork })
	assert.True(t, v.Open())
	v = ask(media.Video, func(q *gate.Question) { q.Networked, q.Now.Battery = false, 5 })
	assert.False(t, v.Open(), "but it does need power")
}

func TestACableIsAsGoodAsWiFiAndNotTheOtherWayRound(t *testing.T) {
	assert.True(t, ask(media.Video, func(q *gate.Question) { q.Now.Network = plan.Wired }).Open())
	assert.False(t, ask(media.Video, func(q *gate.Question) { q.Rule.Lanes = []plan.Lane{{Over: plan.Wired}} }).Open())
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
		{"charging and at least 20%", true, 19, false}, {"charging and at least 20%", true, 20, true}, {"charging and at least 20%", false, 90, false},
	} {
		p, err := plan.ParsePower(c.gate)
		require.NoError(t, err)
		v := ask(media.Photo, func(q *gate.Question) {
			q.Rule.Gates.Power = p
			q.Now.Charging, q.Now.Battery = c.charging, c.battery
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
		"two windows that meet":      {"06:00-12:00, 12:00-14:00", at("2026-11-23T08:00:00Z"), true, at("2026-11-23T14:00:00Z")},
		"a window to the end of day": {"06:00-24:00", at("2026-11-23T08:00:00Z"), true, at("2026-11-24T00:00:00Z")},
		"the whole day never turns":  {"00:00-24:00", at("2026-11-23T08:00:00Z"), true, time.Time{}},
	} {
		hours, err := plan.ParseHours(c.hours)
		require.NoError(t, err)
		v := ask(media.Photo, func(q *gate.Question) {
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
			return ask(media.Photo, func(q *gate.Question) {
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
	lane := everyday.Lanes[1]
	h := gate.TooLarge(lane, 10e6, 20e6, noon, lisbon)
	assert.Equal(t, "It is 20 MB, and 10 MB are left of the allowance of 45 MB per day on cellular.", h.Says)
	assert.False(t, h.Opens.IsZero())
	h = gate.TooLarge(lane, 10e6, 60e6, noon, lisbon)
	assert.Contains(t, h.Says, "larger than the whole allowance of 45 MB per day")
	assert.True(t, h.Opens.IsZero(), "no new day will let it go")
}

func TestStampKeepsSinceOfWhatDidNotChange(t *testing.T) {
	later := home
	later.Battery = 79
	later = later.Stamp(home, noon)
	assert.Equal(t, earlier, later.NetworkSince)
	assert.Equal(t, earlier, later.PowerSince, "a percent less is no news of the charger")
	later.Charging = true
	later = later.Stamp(home, noon)
	assert.Equal(t, noon, later.PowerSince)
	assert.Equal(t, earlier, later.UseSince)
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

package allowance_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/allowance"
	"yardtide/core/plan"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

// However sends come and go, what leaves the device stays within the limit.
func TestAnAllowanceCannotBeOverrun(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		limit := plan.Allowance{Bytes: rapid.Int64Range(0, 1<<30).Draw(t, "limit"), Per: plan.Day}
		var a allowance.Account
		var open []int64
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			if rapid.Bool().Draw(t, "reserve") || len(open) == 0 {
				n := rapid.Int64Range(0, 1<<29).Draw(t, "n")
				after, ok := allowance.Reserve(limit, a, n)
				if ok {
					open = append(open, n)
				} else {
					require.Equal(t, a, after)
					require.Greater(t, n, allowance.Left(limit, a))
				}
				a = after
			} else {
				n := open[0]
				open = open[1:]
				actual := n // a crash: all of it counts
				if rapid.Bool().Draw(t, "settled") {
					actual = rapid.Int64Range(0, n).Draw(t, "actual")
				}
				a = allowance.Settle(a, n, actual)
			}
			require.LessOrEqual(t, a.Spent+a.Reserved, limit.Bytes)
			require.GreaterOrEqual(t, allowance.Left(limit, a), int64(0))
		}
	})
}

func TestBytesBeyondAReservationStillCount(t *testing.T) {
	a := allowance.Settle(allowance.Account{Spent: 10, Reserved: 5}, 5, 9)
	assert.Equal(t, allowance.Account{Spent: 19}, a)
	assert.Zero(t, allowance.Left(plan.Allowance{Bytes: 15}, a))
}

func TestPeriods(t *testing.T) {
	lisbon, saoPaulo := zone(t, "Europe/Lisbon"), zone(t, "America/Sao_Paulo")
	for name, c := range map[string]struct {
		per        plan.Period
		now        time.Time
		start, end string
	}{
		"a day": {plan.Day, time.Date(2026, 7, 3, 15, 4, 5, 0, lisbon), "2026-07-03T00:00:00+01:00",
			"2026-07-04T00:00:00+01:00"},
		"a day of 23 hours": {plan.Day, time.Date(2026, 3, 29, 12, 0, 0, 0, lisbon), "2026-03-29T00:00:00Z",
			"2026-03-30T00:00:00+01:00"},
		"a day of 25 hours": {plan.Day, time.Date(2026, 10, 25, 12, 0, 0, 0, lisbon), "2026-10-25T00:00:00+01:00",
			"2026-10-26T00:00:00Z"},
		"a day without a midnight": {plan.Day, time.Date(2018, 11, 4, 12, 0, 0, 0, saoPaulo), "2018-11-04T01:00:00-02:00",
			"2018-11-05T00:00:00-02:00"},
		"a week from Monday": {plan.Week, time.Date(2026, 11, 22, 23, 59, 0, 0, lisbon), "2026-11-16T00:00:00Z",
			"2026-11-23T00:00:00Z"},
		"a Monday": {plan.Week, time.Date(2026, 11, 23, 0, 0, 0, 0, lisbon), "2026-11-23T00:00:00Z",
			"2026-11-30T00:00:00Z"},
		"a month over new year": {plan.Month, time.Date(2026, 12, 31, 23, 0, 0, 0, lisbon), "2026-12-01T00:00:00Z",
			"2027-01-01T00:00:00Z"},
		"on the day a bill begins": {"month from day 15", time.Date(2026, 3, 15, 0, 0, 0, 0, lisbon), "2026-03-15T00:00:00Z",
			"2026-04-15T00:00:00+01:00"},
		"the day before it": {"month from day 15", time.Date(2026, 1, 14, 23, 59, 0, 0, lisbon),
			"2025-12-15T00:00:00Z", "2026-01-15T00:00:00Z"},
		"of a short month": {"month from day 28", time.Date(2026, 3, 1, 12, 0, 0, 0, lisbon), "2026-02-28T00:00:00Z",
			"2026-03-28T00:00:00Z"},
	} {
		start, end := allowance.Period(c.per, c.now, c.now.Location())
		assert.Equal(t, c.start, start.Format(time.RFC3339), name)
		assert.Equal(t, c.end, end.Format(time.RFC3339), name)
	}
}

func TestEveryInstantLiesInItsPeriodAndPeriodsMeet(t *testing.T) {
	zones := []*time.Location{time.UTC, zone(t, "Europe/Lisbon"), zone(t, "America/Sao_Paulo"), zone(t, "Asia/Kathmandu"),
		zone(t, "Pacific/Apia")}
	rapid.Check(t, func(t *rapid.T) {
		now := time.Unix(rapid.Int64Range(0, 2_000_000_000).Draw(t, "now"), 0)
		z := rapid.SampledFrom(zones).Draw(t, "zone")
		per := rapid.SampledFrom([]plan.Period{plan.Day, plan.Week, plan.Month, "month from day 2",
			"month from day 28"}).Draw(t, "per")
		start, end := allowance.Period(per, now, z)
		require.False(t, now.Before(start), "%s before %s", now.In(z), start)
		require.True(t, now.Before(end), "%s not before %s", now.In(z), end)
		next, _ := allowance.Period(per, end, z)
		require.True(t, next.Equal(end), "%s then %s", end, next)
	})
}

package tell

import (
	"context"
	"time"

	"yardtide/engine/records"
	"yardtide/wire"
)

// quarter is how finely a day tells what became safe.
const quarter = 15 * time.Minute

// Day tells a device's day: that of its time zone in which an instant lies.
func (t Teller) Day(ctx context.Context, in time.Time) (wire.DeviceDay, error) {
	known := t.Beside()
	y, m, d := in.In(known.Plan.Zone(t.Of)).Date()
	day := wire.DeviceDay{
		Device: t.Of, From: time.Date(y, m, d, 0, 0, 0, 0, known.Plan.Zone(t.Of)), To: time.Date(y, m, d+1, 0, 0, 0, 0,
			known.Plan.Zone(t.Of)),
		Senses: []wire.DaySensed{}, Runs: []wire.DayRun{}, Safe: []wire.DaySafe{},
	}
	senses, err := t.From.Journal.SensedBetween(ctx, day.From, day.To)
	if err != nil {
		return day, err
	}
	for _, s := range senses {
		day.Senses = append(day.Senses, wire.DaySensed{At: records.FromMS(s.AtMS), Network: s.Network, NetworkName: s.Name,
			Metered: s.Metered, Roaming: s.Roaming, Charging: s.Charging, Use: s.Use})
	}
	runs, err := t.From.Journal.RunsBetween(ctx, day.From, day.To)
	if err != nil {
		return day, err
	}
	for i, r := range runs {
		one := wire.DayRun{From: records.FromMS(r.BeganMS), To: records.FromMS(r.SeenMS), Stopped: r.EndedMS == 0 &&
			i < len(runs)-1}
		if one.From.Before(day.From) {
			one.From = day.From
		}
		if one.To.After(day.To) {
			one.To, one.Stopped = day.To, false
		}
		day.Runs = append(day.Runs, one)
	}
	safe, err := t.From.Journal.SafeBetween(ctx, day.From, day.To, quarter)
	for _, s := range safe {
		day.Safe = append(day.Safe, wire.DaySafe{At: records.FromMS(s.AtMS), Amount: wire.Amount{N: s.N, Bytes: s.Bytes}})
	}
	return day, err
}

// week is how far back stops are counted.
const week = 7 * 24 * time.Hour

// stops tells how often the device's program was stopped from outside lately.
func (t Teller) stops(ctx context.Context, now time.Time) (s wire.Stops, err error) {
	runs, err := t.From.Journal.RunsBetween(ctx, now.Add(-week), now)
	for i, r := range runs {
		if r.EndedMS == 0 && i < len(runs)-1 {
			s.N, s.Last = s.N+1, records.FromMS(r.SeenMS)
		}
	}
	return s, err
}

// OpenADay is for how long a day the device's program ran in the last seven days.
func (t Teller) OpenADay(ctx context.Context, now time.Time) (time.Duration, error) {
	runs, err := t.From.Journal.RunsBetween(ctx, now.Add(-week), now)
	var open time.Duration
	for _, r := range runs {
		from, to := records.FromMS(r.BeganMS), records.FromMS(r.SeenMS)
		if from.Before(now.Add(-week)) {
			from = now.Add(-week)
		}
		open += to.Sub(from)
	}
	return open / 7, err
}

package bench

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/upkeep"
	"yardtide/engine/work"
	"yardtide/wire"
)

// listed is a storage in memory that shows folders full of files which it does not have.
type listed struct {
	destinationtest.Memory
	folders, files int
}

func (l listed) List(_ context.Context, dir string) ([]destination.Entry, error) {
	var all []destination.Entry
	if dir == "" {
		for i := range l.folders {
			all = append(all, destination.Entry{Name: fmt.Sprintf("%04d from the old boat", i), Folder: true})
		}
		return all, nil
	}
	for i := range l.files {
		all = append(all, destination.Entry{Name: fmt.Sprintf("IMG_%06d at the quay.jpg", i), Size: int64(1000 + i)})
	}
	return all, nil
}

func (listed) MakeFolder(context.Context, string) error { return nil }
func (listed) Tidy(context.Context) error               { return nil }

// What lies at a place before, 1,000,000 names: in many folders, and a hundred thousand in each of ten. Bound: 150 MiB.
func BenchmarkAdopt(b *testing.B) {
	for name, l := range map[string]listed{"many-folders": {folders: 1000, files: 1000},
		"large-folders": {folders: 10, files: 100_000}} {
		b.Run(name, func(b *testing.B) {
			for range b.N {
				r, err := records.Open(b.Context(), b.TempDir()+"/records.db")
				require.NoError(b, err)
				disk, nothing, none := &destinationtest.Disk{}, func() {}, func(time.Duration) time.Duration { return 0 }
				l.At = func() *destinationtest.Disk { return disk }
				log := slog.New(slog.DiscardHandler)
				places, err := place.New(b.Context(), place.Options{Device: "desk", Owner: "desk-1", Records: place.LedgerOf(r),
					Driver:  func(string) (destination.Driver, error) { return l, nil },
					Changed: nothing, Tell: nothing, Log: log, Jitter: func() float64 { return 0 }, Wait: none})
				require.NoError(b, err)
				p := &plan.Plan{Destinations: map[string]plan.Destination{"locker": {Kind: plan.WebDAV, URL: "http://a.example/"}}}
				places.SetPlan(p)
				var others fleet.Fleet
				others.Join(fleet.Member{Name: "desk", Records: func() *records.Records { return r },
					Counts: places.Counts, Wake: nothing, Tell: nothing})
				u := upkeep.New(upkeep.Options{Device: "desk", Owner: "desk-1", Folder: "desk-1", Records: r, Places: places,
					Others: &others, Beside: &work.Crew{}, Changed: nothing, Tell: nothing, Wait: none, Log: log,
					Outlook: func() gate.Situation {
						return gate.Situation{Device: "desk", Plan: p, Now: gate.Conditions{Network: plan.WiFi, Metered: gate.No,
							Roaming: gate.No}}
					},
					Sending: func(string) bool { return false }})
				resetPeak(b)
				began := time.Now()
				a, err := u.Adopt(b.Context(), "locker", func(wire.Adopted) {})
				require.NoError(b, err)
				require.EqualValues(b, 1_000_000, a.Files)
				b.ReportMetric(time.Since(began).Seconds(), "s")
				bounded(b, peakMiB(b), "peak-MiB", 150)
				require.NoError(b, r.Close())
			}
		})
	}
}

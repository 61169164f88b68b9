package bench

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/core/room"
	"yardtide/engine/records/recordstest"
)

// BenchmarkRoomPlan plans what may go of 100,000 items that are known, by the records: 2 s at most.
func BenchmarkRoomPlan(b *testing.B) {
	dir := b.TempDir()
	know(b, dir, "desk", 100_000)
	r, err := recordstest.Open(b.Context(), dir+"/desk/data/devices/desk/records.db")
	require.NoError(b, err)
	defer r.Close()
	for range b.N {
		began := time.Now()
		items, err := r.Rooms.Candidates(b.Context(), func(string) string { return "one" }, func(s queue.State, _ string) queue.State { return s })
		require.NoError(b, err)
		c := room.Choose(room.Want{Places: 1, Free: 1 << 50}, items, []room.Disk{{Sources: []string{items[0].Source}}}, nil, time.Time{})
		b.ReportMetric(float64(len(c.Goes)), "go")
		require.GreaterOrEqual(b, len(items), 90_000)
		bounded(b, time.Since(began).Seconds(), "plan-s", 2)
	}
}

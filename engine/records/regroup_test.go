package records_test

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
)

// drawnPlan is any plan for a phone's folder: rules in a row, a scope, bounds.
var drawnPlan = rapid.Custom(func(t *rapid.T) *plan.Plan {
	kinds := rapid.SliceOfNDistinct(rapid.SampledFrom(media.Kinds), 1, 4, rapid.ID)
	places := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"locker", "attic", "shed"}), 1, 3, rapid.ID)
	p := &plan.Plan{Rules: map[string]plan.Rule{}}
	s := plan.Source{Folder: "DCIM"}
	for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"everyday", "films", "papers"}), 1, 3,
		rapid.ID).Draw(t, "rules") {
		r := plan.Rule{Take: kinds.Draw(t, "take"), To: places.Draw(t, "to"), Lanes: []plan.Lane{{Over: plan.WiFi}}}
		if rapid.IntRange(0, 3).Draw(t, "bounded") == 0 {
			r.LargerThan = plan.Size(rapid.Int64Range(1, 60).Draw(t, "larger"))
		}
		p.Rules[name] = r
		s.Rules = append(s.Rules, name)
	}
	if rapid.Bool().Draw(t, "scoped") {
		s.LeaveOut = rapid.SliceOfN(rapid.SampledFrom([]string{"a/", "*.png", "!a/1.png", "/b"}), 0, 3).Draw(t, "leave out")
		s.Smallest = plan.Size(rapid.Int64Range(0, 30).Draw(t, "smallest"))
		s.TakenFrom = rapid.SampledFrom([]plan.Date{"", "1970-01-03"}).Draw(t, "from")
	}
	s.Hidden = rapid.Bool().Draw(t, "hidden")
	p.Devices = map[string]plan.Device{"phone": {Sources: []plan.Source{s}}}
	return p
})

// What a plan is said to do when it is tried, it does when it is applied: every item
// goes by the rule that was told, and what waits at each place is what was told.
func TestWhatIsTriedIsWhatIsDone(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, flag.Set("rapid.checks", "60")) // each makes files of its own
	n := 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		r := open(t, filepath.Join(dir, fmt.Sprintf("%d.db", n)))
		before := drawnPlan.Draw(rt, "before")
		source := before.Devices["phone"].Sources[0]
		by := before.Chooser(source, time.UTC)
		var list []records.Item
		for i := range rapid.IntRange(1, 30).Draw(rt, "items") {
			it := records.Item{Source: "DCIM", Dir: rapid.SampledFrom([]string{".", "a", "b/c", ".h", "a/.h"}).Draw(rt, "dir"),
				Name: fmt.Sprintf("%d.%s", i, rapid.SampledFrom([]string{"png", "jpg"}).Draw(rt, "ext")),
				Size: rapid.Int64Range(1, 80).Draw(rt, "size"), Kind: rapid.SampledFrom(media.Kinds).Draw(rt,
					"kind"), TakenMS: int64(i) * 86_400_000 / 8}
			it.Rule, _ = by.Choose(it.Found())
			list = append(list, it)
		}
		require.NoError(rt, r.Catalogue.Admit(t.Context(), list, before, start))
		require.NoError(rt, r.Catalogue.Apply(t.Context(), before, "phone", start))

		after := drawnPlan.Draw(rt, "after")
		s := after.Devices["phone"].Sources[0]
		groups, err := r.Catalogue.Regroup(t.Context(), map[string]plan.Chooser{"DCIM": after.Chooser(s, time.UTC)})
		require.NoError(rt, err)
		told := map[string]int64{}
		for _, g := range groups {
			require.Equal(rt, g.After == "", g.Why != "")
			for _, to := range after.Rules[g.After].To {
				told[to+"/"+g.After+"/"+string(g.Kind)] += g.Bytes
			}
			if (g.Before == "") != (g.After == "") {
				require.NotEmpty(rt, g.Paths)
				require.LessOrEqual(rt, int64(len(g.Paths)), g.N)
			}
		}
		require.NoError(rt, r.Catalogue.Apply(t.Context(), after, "phone", start))
		counters, err := r.Queue.Counters(t.Context())
		require.NoError(rt, err)
		done := map[string]int64{}
		for _, c := range counters {
			if c.State == queue.Waiting {
				done[c.Destination+"/"+c.Rule+"/"+string(c.Kind)] += c.Bytes
			}
		}
		delete(told, "//")
		require.Equal(rt, done, told)
		again, err := r.Catalogue.Regroup(t.Context(), map[string]plan.Chooser{"DCIM": after.Chooser(s, time.UTC)})
		require.NoError(rt, err)
		require.False(rt, slices.ContainsFunc(again, func(g records.Group) bool { return g.Before != g.After }),
			"what is applied changes nothing when it is tried")
		require.NoError(rt, r.Close())
	})
}

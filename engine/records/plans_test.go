package records

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// Every page and pick is a walk along an index: however many rows there are, none is
// sorted and no table is read through. What is asked is taken from the statements
// that the calls themselves have parsed.
func TestNoPageOrPickReadsATableThrough(t *testing.T) {
	r, err := Open(t.Context(), t.TempDir()+"/r.db")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	rules := map[string]plan.Rule{"all": {Take: media.Kinds, To: []string{"locker", "loft"}}}
	var items []Item
	for i := range 40 {
		items = append(items, Item{Source: "DCIM", Dir: ".", Name: fmt.Sprintf("%d.jpg", i), Size: int64(i),
			Kind: []media.Kind{media.Photo, media.Video}[i%2], Rule: "all", TakenMS: int64(i)})
	}
	now := time.Now()
	require.NoError(t, r.Catalogue.Admit(t.Context(), items, &plan.Plan{Rules: rules}, now))
	class := queue.Class{Rule: "all", Kind: media.Photo, Destination: "locker"}
	every, not := func(Standing) bool { return true }, false
	ctx := t.Context()
	for name, c := range map[string]struct {
		call  func() error
		index string
	}{
		"status": {func() error { _, err := r.Queue.Standings(ctx); return err }, "standings"},
		"first page": {func() error { _, err := r.Catalogue.Items(ctx, Wanted{Standing: every, Limit: 5}, now); return err },
			"items_standing"},
		"later page": {func() error {
			_, err := r.Catalogue.Items(ctx, Wanted{Standing: every, Limit: 5, After: 20}, now)
			return err
		}, "items_standing"},
		"page of a hold": {func() error {
			_, err := r.Catalogue.Items(ctx, Wanted{Standing: every, Limit: 5, Retrying: &not}, now)
			return err
		}, "items_standing"},
		"copies": {func() error { _, err := r.Catalogue.CopiesOf(ctx, []int64{1, 2}); return err }, "copies"},
		"pick": {func() error {
			_, err := r.Queue.Pick(ctx, class, queue.Waiting, "", "", 100, now)
			return err
		}, "copies_class"},
		"unprepared": {func() error {
			_, _, err := r.Forms.Unprepared(ctx, class, "small", "", []int64{1}, now)
			return err
		}, "copies_class"},
		"prepared": {func() error { _, err := r.Forms.AllPrepared(ctx); return err }, "copies_prepared"},
		"pick oldest": {func() error {
			_, err := r.Queue.Pick(ctx, class, queue.Waiting, "", plan.OldestFirst, 100, now)
			return err
		}, "copies_class"},
		"pick prepared": {func() error {
			_, err := r.Queue.Pick(ctx, class, queue.Waiting, "small", "", 100, now)
			return err
		}, "copies_prepared"},
		"pick smallest": {func() error {
			_, err := r.Queue.Pick(ctx, class, queue.Waiting, "", plan.SmallestFirst, 100, now)
			return err
		}, "copies_waiting_size"},
		"retries": {func() error { _, err := r.Queue.Retries(ctx, now); return err }, "copies_retry"},
		"twin":    {func() error { _, _, err := r.Queue.Twin(ctx, "locker", 5, "abc"); return err }, "copies_content"},
		"look": {func() error { _, err := r.Queue.SameLook(ctx, Copy{Class: class, Bytes: 5}, "look"); return err },
			"items_look"},
		"find": {func() error { _, err := r.Catalogue.Find(ctx, "no such", 5); return err }, "names"},
		"ours": {func() error {
			_, err := r.Adopted.Ours(ctx, "locker", []string{"a.jpg", "b.jpg"})
			return err
		}, "copies_remote"},
		"story": {func() error { _, err := r.Queue.Story(ctx, 1); return err }, "events_copy"},
		"temps": {func() error { _, err := r.Queue.Temps(ctx, "locker", now); return err }, "copies_temp"},
	} {
		r.read.mu.Lock()
		r.read.known = nil // only what this call asks
		r.read.mu.Unlock()
		require.NoError(t, c.call(), name)
		require.NoError(t, c.call(), name) // what a transaction ran is parsed after it
		used := false
		for query := range r.read.known {
			var steps []struct {
				ID, Parent, NotUsed int64
				Detail              string
			}
			args := make([]any, strings.Count(query, "?"))
			for i := range args {
				args[i] = 1
			}
			require.NoError(t, r.read.DB.Select(&steps, `EXPLAIN QUERY PLAN `+query, args...), query)
			for _, s := range steps {
				used = used || strings.Contains(s.Detail, c.index)
				if name != "story" && name != "copies" && name != "find" &&
					name != "pick prepared" { // of one item, a page, one name, or what is prepared: few are sorted
					assert.NotContains(t, s.Detail, "USE TEMP B-TREE FOR ORDER BY", "%s: %s", name, query)
				}
				if strings.HasPrefix(s.Detail, "SCAN ") && !strings.Contains(s.Detail, "USING") &&
					!strings.Contains(s.Detail, "VIRTUAL") && !strings.Contains(s.Detail, "(subquery") {
					assert.Contains(t, []string{"SCAN standings", "SCAN CONSTANT ROW"}, s.Detail, "%s: %s", name, query)
				}
			}
		}
		assert.True(t, used, "%s uses %s", name, c.index)
	}
}

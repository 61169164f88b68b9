package records

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"modernc.org/sqlite"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// SQLite prepares a statement anew when a bound value could decide on a partial index: that
// costs more than most statements. What is asked for each copy that goes is prepared once.
func TestWhatIsAskedForEachCopyIsPreparedOnce(t *testing.T) {
	r, err := Open(t.Context(), t.TempDir()+"/r.db")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	p := &plan.Plan{Rules: map[string]plan.Rule{"all": {Take: media.Kinds, To: []string{"locker", "loft"}}}}
	now := time.Now()
	ctx := t.Context()
	var mu sync.Mutex
	prepared := map[string]int{}
	asking := ""
	r.read.SetMaxOpenConns(1)
	for _, pool := range []*pool{r.read, r.write} {
		conn, err := pool.Conn(ctx)
		require.NoError(t, err)
		require.NoError(t, conn.Raw(func(c any) error {
			return c.(sqlite.AuthorizerRegisterer).RegisterAuthorizer(func(action sqlite.AuthorizerActionCode, of, _, _,
				_ string) sqlite.AuthorizerReturnCode {
				mu.Lock()
				defer mu.Unlock()
				if asking != "" && (action == sqlite.AuthSelect || action == sqlite.AuthUpdate || action == sqlite.AuthInsert ||
					action == sqlite.AuthDelete) {
					prepared[asking+" "+of]++
				}
				return sqlite.AuthorizerOK
			})
		}))
		require.NoError(t, conn.Close())
	}
	ask := func(what string, call func() error) {
		t.Helper()
		mu.Lock()
		asking = what
		mu.Unlock()
		require.NoError(t, call(), what)
	}
	life := func(n int) {
		name, sum := fmt.Sprintf("%d.jpg", n), fmt.Sprintf("%064d", n)
		it := Item{Source: "DCIM", Dir: fmt.Sprint("d", n%3), Name: name, Size: int64(100 + n), Look: fmt.Sprint("look", n),
			Kind: media.Kinds[n%3], Rule: "all", TakenMS: int64(1e12 + n)}
		ask("", func() error { return r.Catalogue.Admit(ctx, []Item{it}, p, now) }) // of many at once
		ask("here", func() error { _, _, err := r.Catalogue.Here(ctx, "DCIM", it.Dir, name); return err })
		ask("counters", func() error { _, err := r.Queue.Counters(ctx); return err })
		ask("ordered", func() error { _, err := r.Queue.Ordered(ctx); return err })
		ask("next retry", func() error { _, err := r.Queue.NextRetry(ctx, now); return err })
		ask("odd waits", func() error { return r.Queue.EndOddWaits(ctx, now) })
		for _, to := range []string{"locker", "loft"} {
			class := queue.Class{Rule: "all", Kind: it.Kind, Destination: to}
			var c Copy
			ask("smallest", func() error { _, _, err := r.Queue.Smallest(ctx, class); return err })
			ask("pick", func() error {
				copies, err := r.Queue.Pick(ctx, class, queue.Waiting, "", plan.NewestFirst, math.MaxInt64, now)
				require.NotEmpty(t, copies)
				c = copies[0]
				return err
			})
			ask("item", func() error { _, _, err := r.Catalogue.Item(ctx, c.Item); return err })
			ask("same look", func() error { _, err := r.Queue.SameLook(ctx, c, it.Look); return err })
			ask("found", func() error { _, err := r.Adopted.FoundOf(ctx, to, c.Bytes); return err })
			ask("twin", func() error { _, _, err := r.Queue.Twin(ctx, to, c.Bytes, sum); return err })
			ask("taken", func() error { _, err := r.Places.Taken(ctx, to, name, c.ID); return err })
			ask("temp", func() error { _, err := r.Places.KnowsTemp(ctx, to, name); return err })
			ask("send", func() error {
				return r.Queue.Step(ctx, c.ID, queue.Sending, "Over Wi-Fi.",
					Change{Temp: &name, Remote: new("p/" + name), SHA256: &sum, Landed: new(false), Says: new("")}, now)
			})
			ask("land", func() error {
				return r.Queue.Land(ctx, c.ID, "Sent.", Change{Temp: new(""), Sent: &c.Bytes, Landed: new(true)}, "Proven.",
					Change{Proof: new("read back"), ProvenAt: &now, Order: new(NoOrder), NotBefore: new(time.Time{}), Tries: new(0)},
					now)
			})
			ask("rest on", func() error { _, err := r.Proofs.RestOn(ctx, to, "p/"+name); return err })
			ask("unrecorded", func() error { _, _, err := r.Proofs.Unrecorded(ctx, to); return err })
			ask("record", func() error {
				lack, err := r.Proofs.ToRecord(ctx, to, 500)
				require.Len(t, lack, 1)
				return errors.Join(err, r.Proofs.SetRecorded(ctx, []int64{lack[0].ID}, int64(n+1)))
			})
		}
	}
	for n := range 6 { // each is learnt when it has run once
		life(n)
	}
	mu.Lock()
	clear(prepared)
	mu.Unlock()
	for n := range 6 {
		life(6 + n)
	}
	var again []string
	for what, n := range prepared {
		again = append(again, fmt.Sprintf("%s: %d", what, n))
	}
	sort.Strings(again)
	assert.Empty(t, again, "prepared again:\n%s", strings.Join(again, "\n"))
}

package records_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/allowance"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
)

var (
	everyday = plan.Rule{Take: []media.Kind{media.Photo, media.Video}, To: []string{"locker"},
		Lanes: []plan.Lane{{Over: plan.WiFi}}}
	class = queue.Class{Rule: "everyday", Kind: media.Photo, Destination: "locker"}
	start = time.UnixMilli(1_790_000_100_000).Truncate(time.Hour)

	onCellular = records.Spend{Network: plan.Cellular, Rule: "everyday"}
)

func open(t testing.TB, file string) *records.Records {
	t.Helper()
	r, err := recordstest.Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = r.Close() }) // some tests close it earlier
	return r
}

// fromNothing opens records whose file is made step by step, as on a device.
func fromNothing(t testing.TB, file string) *records.Records {
	t.Helper()
	r, err := records.Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = r.Close() })
	return r
}

func items(n int, name string) []records.Item {
	list := make([]records.Item, n)
	for i := range list {
		list[i] = records.Item{Source: "DCIM", Dir: ".", Name: fmt.Sprintf("%s%03d.jpg", name, i), Size: int64(100 + i),
			MTime: int64(i), Inode: int64(i),
			ContentType: "image/jpeg", Kind: media.Photo, TakenMS: int64(i) * 1000, TakenFrom: media.FromHeader,
			Rule: "everyday"}
	}
	return list
}

// following is a plan in which a phone's folder follows a rule.
func following(rule string, rules map[string]plan.Rule) *plan.Plan {
	return &plan.Plan{Rules: rules, Renditions: map[string]plan.Rendition{"quick": {LongEdge: 200}},
		Devices: map[string]plan.Device{"phone": {Sources: []plan.Source{{Folder: "DCIM", Rules: []string{rule}}}}}}
}

func admit(t testing.TB, r *records.Records, list []records.Item) {
	t.Helper()
	require.NoError(t, r.Catalogue.Admit(t.Context(), list, &plan.Plan{Rules: map[string]plan.Rule{"everyday": everyday}},
		start))
}

// page lists the copies in some states, with their items as one page has them.
func page(t testing.TB, r *records.Records, states ...queue.State) []records.Copy {
	t.Helper()
	in := func(st records.Standing) bool {
		return slices.ContainsFunc(st.Copies, func(c records.Stand) bool { return slices.Contains(states, c.State) })
	}
	items, err := r.Catalogue.Items(t.Context(), records.Wanted{Standing: in, Limit: 10_000}, start)
	require.NoError(t, err)
	var list []records.Copy
	for _, it := range items {
		of, err := r.Catalogue.CopiesOf(t.Context(), []int64{it.ID})
		require.NoError(t, err)
		list = append(list, of[it.ID]...)
	}
	return slices.DeleteFunc(list, func(c records.Copy) bool { return !slices.Contains(states, c.State) })
}

// everyItem takes all.
// everyCopy reads all copies, also those of older versions, which no page lists.
func everyCopy(t testing.TB, r *records.Records) (list []records.Copy) {
	for id, seen := int64(1), map[int64]bool{}; ; id++ {
		_, some, err := r.Catalogue.Item(t.Context(), id)
		require.NoError(t, err)
		if !some {
			return list
		}
		of, err := r.Catalogue.CopiesOf(t.Context(), []int64{id})
		require.NoError(t, err)
		for _, c := range of[id] {
			if !seen[c.ID] {
				seen[c.ID] = true
				list = append(list, c)
			}
		}
	}
}

func everyItem(records.Standing) bool { return true }

func step(t testing.TB, r *records.Records, id int64, to ...queue.State) {
	t.Helper()
	for _, s := range to {
		require.NoError(t, r.Queue.Step(t.Context(), id, s, "", records.Change{}, start))
	}
}

func TestCopiesGoInTheOrderOfTheirRule(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	list := items(5, "a")
	for i := range list {
		list[i].Size = int64(100 + (i*3)%5)
	}
	admit(t, r, list)
	for order, want := range map[plan.Order]string{"": "43210", plan.NewestFirst: "43210", plan.OldestFirst: "01234",
		plan.SmallestFirst: "02413"} {
		var got string
		copies, err := r.Queue.Pick(t.Context(), class, queue.Waiting, "", order, math.MaxInt64, start)
		require.NoError(t, err)
		for _, c := range copies {
			got += c.Name[3:4]
		}
		assert.Equal(t, want, got, "%q", order)
	}
}

func TestWhatFitsIsPicked(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(5, "a"))
	copies, err := r.Queue.Pick(t.Context(), class, queue.Waiting, "", plan.NewestFirst, 101, start)
	require.NoError(t, err)
	require.NotEmpty(t, copies)
	assert.Equal(t, "a001.jpg", copies[0].Name, "the newest that fits into an allowance's rest")
	smallest, _, err := r.Queue.Smallest(t.Context(), class)
	require.NoError(t, err)
	assert.EqualValues(t, 100, smallest)
}

func TestAnIllegalStepChangesNothing(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(1, "a"))
	id := page(t, r, queue.Waiting)[0].ID
	err := r.Queue.Step(t.Context(), id, queue.Safe, "no", records.Change{}, start)
	assert.ErrorAs(t, err, new(queue.StepError))
	story, err := r.Queue.Story(t.Context(), page(t, r, queue.Waiting)[0].Item)
	require.NoError(t, err)
	assert.Empty(t, story)
	assert.Len(t, page(t, r, queue.Waiting), 1)
}

// standingsAreTrue holds the counters of items against what counting gives.
func standingsAreTrue(rt *rapid.T, t *testing.T, r *records.Records) {
	standings, err := r.Queue.Standings(t.Context())
	require.NoError(rt, err)
	type sum struct{ n, bytes int64 }
	got, want := map[string]sum{}, map[string]sum{}
	for _, st := range standings {
		slices.SortFunc(st.Copies, func(a, b records.Stand) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
		key := fmt.Sprint(st.Kind, st.Copies)
		got[key] = sum{got[key].n + st.N, got[key].bytes + st.Bytes}
	}
	items, err := r.Catalogue.Items(t.Context(), records.Wanted{Standing: everyItem, Limit: 10_000}, start)
	require.NoError(rt, err)
	for _, it := range items {
		of, err := r.Catalogue.CopiesOf(t.Context(), []int64{it.ID})
		require.NoError(rt, err)
		require.Zero(rt, it.PartOf, "parts are not listed")
		var stands []records.Stand
		bytes, counted := it.Size, map[string]bool{}
		for _, c := range of[it.ID] {
			one := records.Stand{Destination: c.Destination, Rule: c.Rule, State: c.State, Shelf: c.Shelf}
			if c.PartOf != 0 {
				if one.Kind = c.Kind; c.GoneMS == 0 && !counted[c.Name] {
					bytes, counted[c.Name] = bytes+c.Size, true
				}
			}
			if c.Shelf == plan.Main || c.Shelf == plan.Small {
				stands = append(stands, one)
			}
		}
		slices.SortFunc(stands, func(a, b records.Stand) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
		require.GreaterOrEqual(rt, it.AllBytes, bytes)
		key := fmt.Sprint(it.Kind, stands)
		want[key] = sum{want[key].n + 1, want[key].bytes + it.AllBytes}
	}
	require.Equal(rt, want, got)
}

// Whatever happens to copies, the counters are what counting would give.
func TestCountersNeverDrift(t *testing.T) {
	dir := t.TempDir()
	n := 0
	require.NoError(t, flag.Set("rapid.checks", "20")) // each makes files of its own
	rapid.Check(t, func(rt *rapid.T) {
		n++
		file := filepath.Join(dir, fmt.Sprintf("%d.db", n))
		r := open(t, file)
		made, edits := 0, int64(0)
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			switch rapid.IntRange(0, 11).Draw(rt, "what") {
			case 0:
				admit(t, r, items(rapid.IntRange(1, 4).Draw(rt, "n"), fmt.Sprintf("b%d-", made)))
				made++
			case 9, 10: // companions, of what is there or comes later
				var beside []records.Item
				for _, ending := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"cr2", "mov", "xmp", "jpg.xmp"}), 1, 3,
					func(e string) string { return e }).Draw(rt, "endings") {
					one := items(1, fmt.Sprintf("b%d-", rapid.IntRange(0, max(0, made)).Draw(rt, "of")))[0]
					one.Name = strings.TrimSuffix(one.Name, "jpg") + ending
					one.Kind = map[string]media.Kind{"cr2": media.Raw, "mov": media.Video, "xmp": media.Document,
						"jpg.xmp": media.Document}[ending]
					one.Seconds = int64(rapid.IntRange(1, 9).Draw(rt, "seconds"))
					if one.Kind == media.Document {
						one.Rule = ""
					}
					if !slices.ContainsFunc(beside, func(o records.Item) bool { return o.Name == one.Name }) {
						beside = append(beside, one)
					}
				}
				admit(t, r, beside)
			case 11: // edited
				changed := items(1, fmt.Sprintf("b%d-", rapid.IntRange(0, max(0, made-1)).Draw(rt, "edited")))
				edits++
				changed[0].Size += edits
				admit(t, r, changed)
			case 1:
				require.NoError(rt, r.Catalogue.Gone(t.Context(), "DCIM", ".",
					[]string{fmt.Sprintf("b%d-000.%s", rapid.IntRange(0, 3).Draw(rt, "which"),
						rapid.SampledFrom([]string{"jpg", "jpg", "cr2", "xmp"}).Draw(rt, "ending"))},
					&plan.Plan{Rules: map[string]plan.Rule{"everyday": everyday}}, start))
			case 2:
				rule := rapid.SampledFrom([]string{"everyday", "slow"}).Draw(rt, "rule")
				asks := everyday
				asks.Versions = rapid.SampledFrom([]plan.Versions{"", plan.KeepVersions, plan.NewestVersion}).Draw(rt, "versions")
				switch rapid.IntRange(0, 6).Draw(rt, "asks") {
				case 4: // small copies first
					asks.Lanes = []plan.Lane{{Over: plan.WiFi}, {Over: plan.Cellular, Send: "quick"}}
				case 5:
					asks.Companions = []media.Companion{media.RawBeside}
				case 6:
					asks.Previews = "quick"
				case 0:
					asks = plan.Rule{Take: []media.Kind{media.Video}, To: []string{"locker"}}
				case 1:
					asks.To = []string{"locker", "attic"}
				case 2:
					asks.To = []string{"attic"}
				}
				require.NoError(rt, r.Catalogue.Apply(t.Context(), following(rule, map[string]plan.Rule{rule: asks}), "phone",
					start))
			case 3:
				require.NoError(rt, r.Close())
				r = open(t, file)
			case 4:
				_, err := r.Places.Owe(t.Context(), "locker", "owed", records.NamedFact{Name: "place locker", Value: "x"}, start)
				require.NoError(rt, err)
			case 5:
				_, err := r.Places.Abandon(t.Context(), "attic", "old", "left", records.NamedFact{Name: "place attic", Value: "x"},
					start)
				require.NoError(rt, err)
			default:
				all := page(t, r, queue.States...)
				if len(all) == 0 {
					continue
				}
				c := rapid.SampledFrom(all).Draw(rt, "copy")
				to := rapid.SampledFrom(queue.States).Draw(rt, "to")
				err := r.Queue.Step(t.Context(), c.ID, to, "x", records.Change{}, start)
				switch {
				case queue.Step(c.State, to) != nil:
					require.Error(rt, err)
				case errors.Is(err, records.ErrNotAsked):
					now, _, cerr := r.Queue.Copy(t.Context(), c.ID)
					require.NoError(rt, cerr)
					require.Equal(rt, queue.Skipped, now.State)
				default:
					require.NoError(rt, err)
				}
			}
			counters, err := r.Queue.Counters(t.Context())
			require.NoError(rt, err)
			type key struct {
				c queue.Class
				s queue.State
			}
			got, want := map[key]records.Counter{}, map[key]records.Counter{}
			for _, c := range counters {
				got[key{c.Class, c.State}] = c
			}
			for _, c := range everyCopy(t, r) {
				k := key{c.Class, c.State}
				want[k] = records.Counter{Class: c.Class, State: c.State, N: want[k].N + 1, Bytes: want[k].Bytes + c.Bytes}
			}
			require.Equal(rt, want, got)
			standingsAreTrue(rt, t, r)
		}
		require.NoError(rt, r.Close())
	})
}

func TestWhatAKillInterruptsBeginsAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	r := open(t, file)
	admit(t, r, items(4, "a"))
	all := page(t, r, queue.Waiting)
	step(t, r, all[0].ID, queue.Preparing)
	step(t, r, all[1].ID, queue.Preparing, queue.Sending)
	step(t, r, all[2].ID, queue.Preparing, queue.Sending, queue.Proving)
	step(t, r, all[3].ID, queue.Preparing, queue.Sending, queue.Proving, queue.Safe)
	require.NoError(t, r.Close())
	r = open(t, file)
	assert.Len(t, page(t, r, queue.Waiting), 2)
	assert.Len(t, page(t, r, queue.Proving), 1)
	assert.Len(t, page(t, r, queue.Safe), 1)
	story, err := r.Queue.Story(t.Context(), all[1].Item)
	require.NoError(t, err)
	assert.Equal(t, "Interrupted; begins again.", story[len(story)-1].Says)
}

func TestSpendSurvivesAKillAsSpent(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	r := open(t, file)
	admit(t, r, items(3, "a"))
	limit := plan.Allowance{Bytes: 1000, Per: plan.Day}
	reserve := func(copy, bytes int64) bool {
		ok, err := r.Ledger.Reserve(t.Context(), copy, onCellular, []records.Limit{{Allowance: limit, Since: start}}, bytes,
			start)
		require.NoError(t, err)
		return ok
	}
	require.True(t, reserve(1, 400))
	require.True(t, reserve(2, 500))
	assert.False(t, reserve(3, 101), "it does not fit")
	require.NoError(t, r.Ledger.Settle(t.Context(), 1, 150))
	require.NoError(t, r.Ledger.Settle(t.Context(), 1, 150), "settling twice counts once")
	require.NoError(t, r.Close())

	r = open(t, file)
	a, err := r.Ledger.Account(t.Context(), plan.Cellular, start, false)
	require.NoError(t, err)
	assert.EqualValues(t, 650, a.Spent, "what was under way counts in full")
	assert.Zero(t, a.Reserved)
	other, err := r.Ledger.Account(t.Context(), plan.Cellular, start.AddDate(0, 0, 1), false)
	require.NoError(t, err)
	assert.Zero(t, other.Spent, "a new period begins at nothing")
	ok, err := r.Ledger.Reserve(t.Context(), 3, onCellular, nil, 5000, start)
	require.NoError(t, err)
	assert.True(t, ok, "an order of the keeper's is counted and not limited")
}

func TestTheLedgerIsWhatWasSpentHoweverItIsAskedFor(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	zone, err := time.LoadLocation("Asia/Kathmandu") // its days begin at a quarter past an hour of UTC
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		spent := map[plan.Network]map[time.Time]int64{}
		base := time.Date(2026, 3, rapid.IntRange(1, 27).Draw(t, "day"), 0, 0, 0, 0, zone)
		network := plan.Network(rapid.StringMatching(`[a-z]{12}`).Draw(t, "network")) // one of its own: the records stay
		for i := range rapid.IntRange(1, 12).Draw(t, "spends") {
			at := base.Add(time.Duration(rapid.IntRange(-3*24*60, 3*24*60).Draw(t, "minutes")) * time.Minute)
			n := rapid.Int64Range(1, 1e6).Draw(t, "bytes")
			s := records.Spend{Network: network, Roaming: rapid.Bool().Draw(t, "roaming"),
				Rule: rapid.SampledFrom([]string{"everyday", "clips", "renamed"}).Draw(t, "rule")}
			ok, err := r.Ledger.Reserve(context.Background(), int64(i+1), s, nil, n, at)
			require.NoError(t, err)
			require.True(t, ok)
			require.NoError(t, r.Ledger.Settle(context.Background(), int64(i+1), n))
			if spent[network] == nil {
				spent[network] = map[time.Time]int64{}
			}
			spent[network][at] += n
		}
		for _, per := range []plan.Period{plan.Day, plan.Week, plan.Month} {
			since, _ := allowance.Period(per, base.Add(time.Hour), zone)
			var want int64
			for at, n := range spent[network] {
				if !at.Before(since) {
					want += n
				}
			}
			a, err := r.Ledger.Account(context.Background(), network, since, false)
			require.NoError(t, err)
			require.Equal(t, want, a.Spent, "per %s, by all rules: a plan that asks otherwise finds the same bytes", per)
		}
	})
}

func TestPagesGoOnWhereTheyEnded(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	list := items(25, "a")
	for i := range list {
		list[i].TakenMS = int64(i / 5) // many taken at one time
		if i%3 == 0 {
			list[i].Kind = media.Video
		}
	}
	admit(t, r, list)
	seen := map[int64]bool{}
	var all []records.Item
	for after := int64(0); ; {
		p, err := r.Catalogue.Items(t.Context(), records.Wanted{Standing: everyItem, After: after, Limit: 4}, start)
		require.NoError(t, err)
		for _, it := range p {
			require.False(t, seen[it.ID], "twice")
			seen[it.ID] = true
		}
		all = append(all, p...)
		if len(p) < 4 {
			break
		}
		after = p[3].ID
	}
	assert.Len(t, all, 25)
	assert.True(t, slices.IsSortedFunc(all, records.NewestItem))
}

// An item's key is good as long as its records are, and no other's.
func TestAKeyNamesOneItemForGood(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	r := open(t, file)
	admit(t, r, items(3, "a"))
	keys := map[string]string{}
	for _, c := range page(t, r, queue.Waiting) {
		keys[r.Catalogue.Key(c.Item)] = c.Name
	}
	require.Len(t, keys, 3)
	require.NoError(t, r.Close())
	r = open(t, file)
	for key, name := range keys {
		it, err := r.Catalogue.ByKey(t.Context(), key)
		require.NoError(t, err)
		assert.Equal(t, name, it.Name)
	}
	require.NoError(t, r.Close())
	_, _, err := records.Rebuild(t.Context(), file, start)
	require.NoError(t, err)
	r = open(t, file)
	admit(t, r, items(3, "b"))
	strange := []string{"", "1", "-1", "x", "a-", "\x00", "../1", r.Catalogue.Key(0), r.Catalogue.Key(-1),
		r.Catalogue.Key(4), r.Catalogue.Key(1) + " ", "A" +
			r.Catalogue.Key(1), r.Catalogue.Key(1)[:len(r.Catalogue.Key(1))-1] + "01"}
	for key := range keys {
		strange = append(strange, key)
	}
	for _, key := range strange {
		_, err := r.Catalogue.ByKey(t.Context(), key)
		assert.ErrorAs(t, err, new(records.NoItem), "%q", key)
	}
}

func TestACopyThatMovesIsOnEveryPageOnce(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(1, "a"))
	c := page(t, r, queue.Waiting)[0]
	var moving sync.WaitGroup
	defer moving.Wait()
	end := make(chan struct{})
	defer close(end)
	moving.Go(func() {
		for {
			select {
			case <-end:
				return
			default:
			}
			for _, s := range []queue.State{queue.Preparing, queue.Sending, queue.Waiting} {
				if !assert.NoError(t, r.Queue.Step(context.Background(), c.ID, s, "", records.Change{}, start)) {
					return
				}
			}
		}
	})
	for range 500 {
		require.Len(t, page(t, r, queue.States...), 1)
	}
}

func TestAChangedPlanSkipsAndTakesUpAgain(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(3, "a"))
	first := page(t, r, queue.Waiting)[0]
	step(t, r, first.ID, queue.Preparing, queue.Sending, queue.Proving, queue.Safe)
	follows := "everyday"
	apply := func(rules map[string]plan.Rule) {
		t.Helper()
		require.NoError(t, r.Catalogue.Apply(t.Context(), following(follows, rules), "phone", start))
	}
	apply(map[string]plan.Rule{"everyday": {Take: []media.Kind{media.Video}, To: []string{"locker"}}})
	assert.Len(t, page(t, r, queue.Skipped), 2)
	assert.Len(t, page(t, r, queue.Safe), 1, "what is safe stays safe")
	apply(map[string]plan.Rule{"everyday": everyday})
	assert.Len(t, page(t, r, queue.Waiting), 2)
	second := everyday
	second.To = []string{"locker", "loft"}
	apply(map[string]plan.Rule{"everyday": second})
	counters, err := r.Queue.Counters(t.Context())
	require.NoError(t, err)
	n := map[string]int64{}
	for _, c := range counters {
		n[c.Destination] += c.N
	}
	assert.Equal(t, map[string]int64{"locker": 3, "loft": 3}, n, "a second destination gets copies of its own")
	follows = "slow"
	apply(map[string]plan.Rule{"slow": second})
	counters, err = r.Queue.Counters(t.Context())
	require.NoError(t, err)
	for _, c := range counters {
		if c.State == queue.Waiting {
			assert.Equal(t, "slow", c.Rule)
		}
	}
}

// A plan changes while copies are on their way: however their sends end, and be it
// by a kill, none is left waiting for what the plan does not ask.
func TestWhatThePlanNoLongerAsksForNeverWaits(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	r := open(t, file)
	admit(t, r, items(5, "a"))
	asks := map[string]plan.Rule{"everyday": everyday}
	no := map[string]plan.Rule{"everyday": {Take: []media.Kind{media.Video}, To: []string{"locker"}}}
	require.NoError(t, r.Catalogue.Apply(t.Context(), following("everyday", asks), "phone", start))
	all := page(t, r, queue.Waiting)
	for _, c := range all {
		step(t, r, c.ID, queue.Preparing, queue.Sending)
	}
	require.NoError(t, r.Catalogue.Apply(t.Context(), following("everyday", no), "phone", start))
	// it was cut, it failed, it landed and owes its proof
	for i, to := range []queue.State{queue.Waiting, queue.Stuck, queue.Proving} {
		require.ErrorIs(t, r.Queue.Step(t.Context(), all[i].ID, to, "", records.Change{}, start), records.ErrNotAsked)
	}
	require.NoError(t, r.Queue.TakeUp(t.Context(), []int64{all[4].ID}, start))
	assert.Len(t, page(t, r, queue.Skipped), 4, "and the third was carried by nobody")
	require.NoError(t, r.Close()) // a kill
	r = open(t, file)
	require.NoError(t, r.Catalogue.Apply(t.Context(), following("everyday", no), "phone", start))
	skipped := page(t, r, queue.Skipped)
	require.Len(t, skipped, 5)
	for _, c := range skipped {
		assert.Equal(t, queue.NotAsked, c.Says)
	}
	require.NoError(t, r.Catalogue.Apply(t.Context(), following("everyday", asks), "phone", start))
	assert.Len(t, page(t, r, queue.Waiting), 5, "it is asked for again")
}

func TestAChangedFileIsANewItemAndKeepsTheOldStory(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(1, "a"))
	step(t, r, page(t, r, queue.Waiting)[0].ID, queue.Preparing, queue.Sending, queue.Proving, queue.Safe)
	changed := items(1, "a")
	changed[0].Size = 999
	admit(t, r, changed)
	assert.Len(t, page(t, r, queue.Safe), 1)
	waiting := page(t, r, queue.Waiting)
	require.Len(t, waiting, 1)
	assert.EqualValues(t, 999, waiting[0].Bytes)
	dir, err := r.Catalogue.Dir(t.Context(), "DCIM", ".")
	require.NoError(t, err)
	assert.Len(t, dir, 1, "one current item a path")
}

// Of edited files a rule may ask for the newest version alone: then the older ones are not counted, not proven again,
// and nobody misses them. It may ask for them again.
func TestOfEditedFilesTheNewestVersionAloneCounts(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	r := open(t, file)
	apply := func(as plan.Versions) {
		rule := everyday
		rule.Versions = as
		require.NoError(t, r.Catalogue.Apply(t.Context(), following("everyday", map[string]plan.Rule{"everyday": rule}), "phone", start))
	}
	counted := func() (n int64) {
		standings, err := r.Queue.Standings(t.Context())
		require.NoError(t, err)
		for _, s := range standings {
			n += s.N
		}
		return n
	}
	land := func(at string) {
		one := page(t, r, queue.Waiting)[0]
		step(t, r, one.ID, queue.Preparing, queue.Sending)
		require.NoError(t, r.Queue.Land(t.Context(), one.ID, "there", records.Change{Remote: &at}, "proven", records.Change{}, start))
	}
	apply(plan.NewestVersion)
	admit(t, r, items(1, "a"))
	land("a.jpg")
	changed := items(1, "a")
	changed[0].Size = 999
	require.NoError(t, r.Catalogue.Admit(t.Context(), changed, following("everyday", map[string]plan.Rule{"everyday": {
		Take: everyday.Take, To: everyday.To, Versions: plan.NewestVersion}}), start))
	assert.EqualValues(t, 1, counted(), "the newest, which waits")
	land("a (2).jpg")
	assert.Len(t, page(t, r, queue.Safe), 1)
	assert.Len(t, everyCopy(t, r), 2, "what lies there is on record")
	again := func() int64 {
		n, err := r.Proofs.Reprove(t.Context(), "", 0)
		require.NoError(t, err)
		require.NoError(t, r.Proofs.StopReproving(t.Context(), ""))
		return n
	}
	assert.EqualValues(t, 1, again())
	require.NoError(t, r.Close())
	r = open(t, file)
	apply(plan.KeepVersions)
	assert.EqualValues(t, 2, counted())
	assert.EqualValues(t, 2, again())
	apply(plan.NewestVersion)
	assert.EqualValues(t, 1, counted())

	lose := func(at string) {
		n, err := r.Proofs.Lost(t.Context(), "locker", at, "It is not there.", "Look for it.", start)
		require.NoError(t, err)
		require.EqualValues(t, 1, n)
	}
	lose("a.jpg")
	assert.Empty(t, page(t, r, queue.Stuck), "nobody misses it")
	assert.EqualValues(t, 1, counted())
	lose("a (2).jpg")
	assert.Len(t, page(t, r, queue.Stuck), 1)
}

func TestOddNamesComeBackAsTheyWere(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	list := items(4, "a")
	list[0].Name, list[1].Name, list[2].Name, list[3].Name = "bad\xff\xfe.jpg", "new\nline's \"q\" 50%.jpg",
		"tide 🌊.jpg", "cafe\u0301.jpg"
	admit(t, r, list)
	dir, err := r.Catalogue.Dir(t.Context(), "DCIM", ".")
	require.NoError(t, err)
	var names []string
	for _, s := range dir {
		names = append(names, s.Name)
	}
	for _, it := range list {
		assert.Contains(t, names, it.Name)
	}
	found, err := r.Catalogue.Find(t.Context(), "DCIM/bad\xff\xfe.jpg", 5)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	found, err = r.Catalogue.Find(t.Context(), "TIDE", 5)
	require.NoError(t, err)
	assert.Len(t, found, 1, "part of a name, whatever its case")
}

func TestOneFileThatIsNotRecordsIsRefused(t *testing.T) {
	_, err := records.Open(context.Background(), "/dev/null/records.db")
	assert.ErrorContains(t, err, "making the folder of the records")
}

func TestAClockThatIsSetBackHoldsNothing(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(1, "a"))
	copies, err := r.Queue.Pick(t.Context(), class, queue.Waiting, "", plan.NewestFirst, math.MaxInt64, start)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	later := start.Add(time.Minute)
	require.NoError(t, r.Queue.Step(t.Context(), copies[0].ID, queue.Waiting, "It failed.",
		records.Change{NotBefore: &later}, start))
	back := start.Add(-48 * time.Hour)
	pick := func(now time.Time) bool {
		require.NoError(t, r.Queue.EndOddWaits(t.Context(), now))
		copies, err := r.Queue.Pick(t.Context(), class, queue.Waiting, "", plan.NewestFirst, math.MaxInt64, now)
		require.NoError(t, err)
		return len(copies) > 0
	}
	assert.False(t, pick(start), "it waits its minute")
	assert.True(t, pick(back), "and not two days more")
}

// Records that an earlier Yard Tide made are taken over, whatever of today's
// they hold already.
func TestEarlierRecordsAreTakenOver(t *testing.T) {
	for name, more := range map[string]string{
		"first": ``,
		"later": `ALTER TABLE copies ADD COLUMN sent INTEGER NOT NULL DEFAULT 0; ALTER TABLE copies ADD COLUMN recorded INTEGER NOT NULL DEFAULT 0;
			ALTER TABLE copies ADD COLUMN reprove INTEGER NOT NULL DEFAULT 0; CREATE INDEX copies_remote ON copies (destination, remote) WHERE remote <> '';
			CREATE TABLE found (destination TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL DEFAULT '', hashed_at INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (destination, path)) WITHOUT ROWID;`,
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "r.db")
			db, err := sqlx.Open("sqlite", file)
			require.NoError(t, err)
			early, err := goose.NewProvider(goose.DialectSQLite3, db.DB, os.DirFS("migrations"))
			require.NoError(t, err)
			_, err = early.UpTo(t.Context(), 1)
			require.NoError(t, err)
			_, err = db.Exec(more + `INSERT INTO items (id, source, dir, name, size, mtime, inode, content_type, kind, taken_at, taken_zone, taken_from, found_at)
				VALUES (1, 'DCIM', '.', 'keel.jpg', 9, 0, 0, 'image/jpeg', 'photo', 0, 0, '', 0);
				INSERT INTO copies (id, item, destination, rule, kind, state, bytes, taken_at, sha256, remote, changed_at) VALUES (1, 1, 'locker', 'all', 'photo', 'safe', 9, 0, 'abc', 'keel.jpg', 0)`)
			require.NoError(t, err)
			require.NoError(t, db.Close())
			r := open(t, file)
			c, ok, err := r.Queue.Twin(t.Context(), "locker", 9, "abc")
			require.NoError(t, err)
			require.True(t, ok)
			assert.Equal(t, "keel.jpg", c.Name)
			standings, err := r.Queue.Standings(t.Context())
			require.NoError(t, err)
			require.Len(t, standings, 1)
			standings[0].ID = 0
			assert.Equal(t, records.Standing{Kind: media.Photo, N: 1, Bytes: 9,
				Copies: []records.Stand{{Destination: "locker", Rule: "all", State: queue.Safe}}}, standings[0])
			n, err := r.Proofs.Reprove(t.Context(), "locker", 0)
			require.NoError(t, err)
			assert.EqualValues(t, 1, n)
			found, err := r.Adopted.FoundOf(t.Context(), "locker", 9)
			require.NoError(t, err)
			assert.Empty(t, found)
		})
	}
}

// A part of a name finds what looking at every name would.
func TestAPartOfANameFindsEveryItemThatHasIt(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	names := []string{"IMG_0001.jpg", "IMG_0010.jpg", "img_1000 (keel).JPG", `a "quoted" name.jpg`, "50% AND off.jpg",
		"tide 🌊 wave.jpg", "cafe\u0301.jpg", "NEAR(x).jpg", "a*b^c:d.jpg", "-minus.jpg", "xxxxxxxx.jpg", "ÄÖÜ.jpg"}
	list := items(len(names), "a")
	for i := range list {
		list[i].Name = names[i]
	}
	admit(t, r, list)
	rapid.Check(t, func(rt *rapid.T) {
		text := rapid.StringMatching(`[a-zA-Z0-9 "*^:()_.%-]{1,6}`).Draw(rt, "text")
		if rapid.Bool().Draw(rt, "part") {
			name := []rune(rapid.SampledFrom(names).Draw(rt, "name"))
			from := rapid.IntRange(0, len(name)-1).Draw(rt, "from")
			text = string(name[from:rapid.IntRange(from+1, len(name)).Draw(rt, "to")])
		}
		found, err := r.Catalogue.Find(context.Background(), text, 100)
		require.NoError(rt, err)
		lower := func(s string) string { // of ASCII, as SQL has it
			return strings.Map(func(c rune) rune {
				if c >= 'A' && c <= 'Z' {
					return c + 'a' - 'A'
				}
				return c
			}, s)
		}
		want := 0
		for _, name := range names {
			if strings.Contains(lower(name), lower(text)) {
				want++
			}
		}
		if slices.Contains(names, text) {
			want = 1 // the whole name comes first, alone
		}
		require.Len(rt, found, want, "%q", text)
	})
}

// However often a copy is tried, its story stays of a size, with its latest lines.
func TestAStoryKeepsItsLatestLines(t *testing.T) {
	r := open(t, filepath.Join(t.TempDir(), "r.db"))
	admit(t, r, items(2, "a"))
	c := page(t, r, queue.Waiting)[0]
	for i := range 260 {
		require.NoError(t, r.Queue.Step(t.Context(), c.ID, queue.Sending, fmt.Sprint("try ", i), records.Change{}, start))
		require.NoError(t, r.Queue.Step(t.Context(), c.ID, queue.Waiting, fmt.Sprint("failed ", i), records.Change{}, start))
	}
	story, err := r.Queue.Story(t.Context(), c.Item)
	require.NoError(t, err)
	require.Len(t, story, 200)
	assert.Equal(t, "failed 259", story[199].Says)
	assert.Equal(t, "try 160", story[0].Says)
}

// TestAPathThatIsFoundTwiceAtOnceIsOneItem takes a file in that was written anew between two looks at
// its folder, both of them told together: what was there first is nobody's item.
func TestAPathThatIsFoundTwiceAtOnceIsOneItem(t *testing.T) {
	r := open(t, t.TempDir()+"/records.db")
	found := items(2, "a")
	again := found[0]
	again.Size = 7
	p := &plan.Plan{Rules: map[string]plan.Rule{"everyday": everyday}}
	require.NoError(t, r.Catalogue.Admit(t.Context(), append(found, again), p, start))
	all, err := r.Catalogue.Items(t.Context(), records.Wanted{Standing: func(records.Standing) bool { return true },
		Limit: 9}, start)
	require.NoError(t, err)
	require.Len(t, all, 2)
	here, known, err := r.Catalogue.Here(t.Context(), "DCIM", ".", again.Name)
	require.NoError(t, err)
	assert.True(t, known)
	assert.EqualValues(t, 7, here.Size, "the last is the one")
	standings, err := r.Queue.Standings(t.Context())
	require.NoError(t, err)
	n := int64(0)
	for _, s := range standings {
		n += s.N
	}
	assert.EqualValues(t, 2, n)
}

package tell

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
	"yardtide/wire"
)

const randomPlan = `yard: Test
timezone: UTC
renditions: {small: {long-edge: 200, height: 144}}
destinations: {shed: {kind: webdav, url: 'http://127.0.0.1/a/'}, locker: {kind: folder, path: /x, keep-free: %d kB}}
devices: {phone: {sources: [{folder: DCIM, rule: all}]}}
rules:
  all: {take: [photo, raw, video], to: [shed, locker], %s lanes: [%s]}
`

// drawYard draws the records of a device, its plan, and what it knows beside: any of them as they may
// come, whether or not they make sense together.
func drawYard(t *testing.T, rt *rapid.T) (r *records.Records, teller Teller, copies int64) {
	ctx, now := t.Context(), time.Now()
	r, err := recordstest.Open(ctx, t.TempDir()+"/r.db")
	require.NoError(rt, err)
	rt.Cleanup(func() { require.NoError(rt, r.Close()) })
	lane := rapid.SampledFrom([]string{"{over: wifi}", "{over: wifi, gates: {hours: 00:00-00:01}}",
		"{over: cellular, allowance: 1 MB per day}", "{over: wifi, gates: {power: charging}}, {over: cellular, " +
			"roaming: true, allowance: 9 MB per day, roaming-allowance: 100 kB per day}"}).Draw(rt, "lanes")
	send := rapid.SampledFrom([]string{"", "send: {photo: small},", "send: {video: small},",
		"send: {photo: small, video: small},"}).Draw(rt, "send")
	p, err := plantext.Parse("plan", []byte(fmt.Sprintf(randomPlan, rapid.IntRange(1, 9).Draw(rt, "keep"), send, lane)))
	require.NoError(rt, err)
	require.NoError(rt, r.Catalogue.Apply(ctx, p, "phone", now))
	var items []records.Item
	for i := range rapid.IntRange(1, 6).Draw(rt, "items") {
		kind := rapid.SampledFrom([]media.Kind{media.Photo, media.Video, media.Raw}).Draw(rt, "kind")
		items = append(items, records.Item{Source: "DCIM", Dir: ".",
			Name: fmt.Sprintf("%d.%s", i/2, map[media.Kind]string{media.Photo: "jpg", media.Video: "mp4",
				media.Raw: "cr2"}[kind]), Size: rapid.Int64Range(1, 3_000_000).Draw(rt, "size"),
			Kind: kind, Rule: "all", ContentType: "image/jpeg", TakenMS: now.UnixMilli() + int64(i)})
	}
	require.NoError(rt, r.Catalogue.Admit(ctx, items, p, now))
	for id := int64(1); id <= int64(2*len(items)); id++ {
		c, ok, err := r.Queue.Copy(ctx, id)
		require.NoError(rt, err)
		if !ok {
			continue
		}
		if form, reduced := p.Form(c.Rule, c.Kind, c.Destination, c.Shelf); reduced && rapid.Bool().Draw(rt, "prepared") {
			of := records.Alike{Item: c.Item, Rule: c.Rule, Shelf: c.Shelf, Destinations: []string{c.Destination}}
			require.NoError(rt, r.Forms.SetForm(ctx, of, form.String(), true, c.Bytes/2+1, "", now))
		}
		steps := rapid.SampledFrom([][]queue.State{nil, nil, {queue.Sending, queue.Waiting}, {queue.Sending, queue.Proving},
			{queue.Sending, queue.Proving, queue.Safe}, {queue.Sending, queue.Stuck}}).Draw(rt, "steps")
		for _, to := range steps {
			change := records.Change{}
			if to == queue.Waiting || to == queue.Proving {
				later := now.Add(rapid.SampledFrom([]time.Duration{-time.Minute, time.Hour}).Draw(rt, "later"))
				says := "The storage failed."
				change = records.Change{NotBefore: &later, Says: &says}
			}
			if to == queue.Stuck {
				says, todo := "The storage refuses it.", "Rename it."
				change = records.Change{Says: &says, Todo: &todo}
			}
			require.NoError(rt, r.Queue.Step(ctx, id, to, "", change, now))
		}
	}
	conditions := gate.Conditions{
		Network: rapid.SampledFrom([]plan.Network{plan.WiFi, plan.Cellular, plan.NoNetwork, plan.UnknownNetwork}).Draw(rt,
			"network"), Metered: rapid.SampledFrom([]gate.Known{gate.Yes, gate.No, gate.Unknown}).Draw(rt, "metered"),
		Roaming:  rapid.SampledFrom([]gate.Known{gate.Yes, gate.No, gate.Unknown}).Draw(rt, "roaming"),
		Charging: rapid.SampledFrom([]gate.Known{gate.Yes, gate.No, gate.Unknown}).Draw(rt, "charging"), Battery: 50,
		Use: gate.NotInUse,
	}
	places := map[string]gate.At{}
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		at := gate.At{Left: rapid.SampledFrom([]int64{-1, 0, 1_000_000, 1 << 40}).Draw(rt, "left")}
		switch rapid.IntRange(0, 9).Draw(rt, "place") {
		case 0:
			at.Failing = gate.Failing{Says: "It does not answer.", Since: now, Until: now.Add(time.Hour)}
		case 1:
			at.Moved = gate.Hold{Gate: gate.Place, Says: "It is another place.", You: true}
		case 2:
			at.Unseen = true
		}
		places[name] = at
	}
	pause := gate.PauseState{On: rapid.IntRange(0, 9).Draw(rt, "paused") == 0, Since: now}
	return r, Teller{Of: "phone", From: r, Beside: func() Known {
		return Known{Plan: p.On("phone"), Conditions: conditions, Pause: pause, Places: places, Sources: map[string]Source{}}
	}}, int64(2 * len(items))
}

// TestWhatIsNotMovingHasASentence draws yards: whatever waits, owes a proof or is stuck and is
// not on its way has a hold or a word of its own, unless it would be the next to go by the very
// same decision.
func TestWhatIsNotMovingHasASentence(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		ctx := t.Context()
		r, teller, copies := drawYard(t, rt)
		s, err := teller.Situation(ctx)
		require.NoError(rt, err)
		for id := int64(1); id <= copies; id++ {
			c, ok, err := r.Queue.Copy(ctx, id)
			require.NoError(rt, err)
			if !ok {
				continue
			}
			story, err := teller.Story(ctx, r.Catalogue.Key(c.Item))
			require.NoError(rt, err)
			for _, told := range story.Item.Copies {
				if told.Destination != c.Destination || told.Shelf != c.Shelf || (told.Part != "") != (c.PartOf != 0) ||
					c.PartOf != 0 && told.Part != c.Name {
					continue
				}
				silent := len(told.Holds) == 0
				for _, h := range told.Holds {
					require.NotEmpty(rt, h.Says, "%+v", told)
				}
				switch c.State {
				case queue.Stuck:
					require.NotEmpty(rt, told.Says)
					require.NotEmpty(rt, told.Todo)
				case queue.Waiting:
					require.True(rt, !silent || goesNext(t, r, s, c), "%s at %s waits without a word: %+v", c.Name, c.Destination,
						told)
				case queue.Proving:
					takes := s.TakesProofs(c.Destination) && !s.Places[c.Destination].Failing.Is() &&
						c.NotBeforeMS <= s.Time.UnixMilli()
					require.True(rt, !silent || takes, "%s at %s owes its proof without a word: %+v", c.Name, c.Destination, told)
				}
			}
		}
	})
}

// goesNext tells whether dispatch would pick a copy, once those before it went: by what it asks of
// the decision and of the records.
func goesNext(t *testing.T, r *records.Records, s gate.Situation, c records.Copy) bool {
	v := s.Decide(c.Class)
	if !v.Open() || s.Free(c.Destination, 0) <= 0 || c.NotBeforeMS > s.Time.UnixMilli() {
		return false
	}
	fits := v.Fits
	if left := s.Places[c.Destination].Left; left >= 0 {
		fits = min(fits, left)
	}
	form := ""
	if r, reduced := s.Plan.Form(c.Rule, c.Kind, c.Destination, c.Shelf); reduced {
		form = r.String()
	}
	all, err := r.Queue.Pick(t.Context(), c.Class, queue.Waiting, form, plan.NewestFirst, fits, s.Time)
	require.NoError(t, err)
	return slices.ContainsFunc(all, func(one records.Copy) bool { return one.ID == c.ID })
}

// TestTheNumbersAreThoseOfTheList draws yards: what the status counts is what the pages list, each item
// once and the newest first, whatever it is asked by.
func TestTheNumbersAreThoseOfTheList(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		_, teller, _ := drawYard(t, rt)
		list := func(f wire.Filter) (all []wire.Item) {
			for f.Limit = rapid.IntRange(1, 3).Draw(rt, "a page"); ; {
				page, err := teller.Items(t.Context(), f)
				require.NoError(rt, err)
				all = append(all, page...)
				if len(page) < f.Limit {
					return all
				}
				f.After = page[len(page)-1].Key
			}
		}
		status, err := teller.Status(t.Context())
		require.NoError(rt, err)
		all, seen := list(wire.Filter{}), map[string]bool{}
		counted := map[queue.State]wire.Amount{}
		for i, it := range all {
			require.False(rt, seen[it.Key], "%s is listed twice", it.Name)
			seen[it.Key] = true
			require.True(rt, i == 0 || !it.TakenAt.After(all[i-1].TakenAt), "the newest first")
			counted[queue.State(it.State)] = counted[queue.State(it.State)].Plus(1, it.Bytes)
		}
		for _, state := range queue.States {
			require.Equal(rt, counted[state], status.States[state], "%s: %+v", state, all)
			require.Len(rt, list(wire.Filter{State: string(state)}), int(counted[state].N), "the list of what is %s", state)
		}
		// An item of which one copy failed a while ago is listed under what holds another of its copies, too.
		retries := slices.ContainsFunc(status.Holds, func(h wire.HoldGroup) bool { return h.Gate == gate.Retry })
		for _, name := range gate.Names {
			held := int64(0)
			for _, group := range status.Holds {
				if group.Gate == name {
					held = max(held, group.N)
				}
			}
			listed := int64(len(list(wire.Filter{Hold: string(name)})))
			require.GreaterOrEqual(rt, listed, held, "what %s holds is listed: %+v, %+v", name, status.Holds, all)
			require.True(rt, held > 0 || listed == 0 || retries, "what %s is said to hold: %+v", name, status.Holds)
		}
	})
}

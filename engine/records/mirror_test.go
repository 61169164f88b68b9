package records_test

import (
	"flag"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
)

// content is every row of the parts that a mirror has, in order.
func content(t require.TestingT, file string) map[string][]string {
	db, err := sqlx.Open("sqlite", "file:"+file+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	all := map[string][]string{}
	for table, columns := range map[string]string{"items": "*", "copies": "*", "events": "rowid, *", "standings": "*",
		"counters": "*", "ledger": "*", "reservations": "*", "sensed": "*", "runs": "*"} {
		rows, err := db.Queryx(`SELECT ` + columns + ` FROM ` + table + ` ORDER BY 1, 2, 3, 4`)
		require.NoError(t, err)
		for rows.Next() {
			row, err := rows.SliceScan()
			require.NoError(t, err)
			all[table] = append(all[table], fmt.Sprintf("%q", row))
		}
		require.NoError(t, rows.Close())
	}
	return all
}

const chain = "chain"

func TestAMirrorHasWhatTheRecordsHaveWhateverWasRepeatedCutOrLost(t *testing.T) {
	before := flag.Lookup("rapid.checks").Value.String()
	require.NoError(t, flag.Set("rapid.checks", "25")) // each makes files of its own
	defer func() { require.NoError(t, flag.Set("rapid.checks", before)) }()
	rapid.Check(t, func(rt *rapid.T) {
		ctx := t.Context()
		dir := t.TempDir()
		file, copied := filepath.Join(dir, "r.db"), filepath.Join(dir, "m.db")
		r, err := recordstest.Open(ctx, file)
		require.NoError(rt, err)
		defer r.Close()
		m, err := records.OpenMirror(ctx, copied, r.Catalogue.Epoch())
		require.NoError(rt, err)
		defer m.Close()
		admitted, last, batch := 0, "", 0
		admitSome := func(rt *rapid.T) {
			list := items(rapid.IntRange(1, 6).Draw(rt, "n"), rapid.SampledFrom([]string{"a", "b", "\xff\xfe", "ü"}).Draw(rt,
				"name"))
			for i := range list {
				list[i].Size += int64(admitted)
			}
			admitted += len(list)
			require.NoError(rt, r.Catalogue.Admit(ctx, list, &plan.Plan{Rules: map[string]plan.Rule{"everyday": everyday}},
				start))
		}
		tell := func(rt *rapid.T, whole bool) bool {
			rows, note, err := r.Outbox.Noted(ctx, rapid.Int64Range(1, 40).Draw(rt, "most"))
			require.NoError(rt, err)
			if len(rows) == 0 {
				return false
			}
			packed, err := cbor.Marshal(rows)
			require.NoError(rt, err)
			var told []records.Rows
			require.NoError(rt, cbor.Unmarshal(packed, &told))
			batch++
			is := records.NamedFact{Name: chain, Value: fmt.Sprint(batch)}
			before := records.NamedFact{Name: chain, Value: last}
			if !whole && rapid.Bool().Draw(rt, "lost on the way") {
				return true // it is told again, with what changed since
			}
			require.NoError(rt, m.Mirror.Take(ctx, told, before, is))
			if rapid.Bool().Draw(rt, "repeated") {
				require.ErrorIs(rt, m.Mirror.Take(ctx, told, before, is), records.ErrFactChanged)
			}
			last = is.Value
			require.NoError(rt, r.Outbox.Told(ctx, note))
			return true
		}
		if rapid.Bool().Draw(rt, "some were there before") {
			admitSome(rt)
		}
		require.NoError(rt, r.Outbox.Follow(ctx))
		rt.Repeat(map[string]func(*rapid.T){
			"":      func(*rapid.T) {},
			"admit": admitSome,
			"tell":  func(rt *rapid.T) { tell(rt, false) },
			"gone": func(rt *rapid.T) {
				require.NoError(rt, r.Catalogue.Gone(ctx, "DCIM", ".",
					[]string{fmt.Sprintf("a%03d.jpg", rapid.IntRange(0, 5).Draw(rt, "which"))},
					&plan.Plan{Rules: map[string]plan.Rule{"everyday": everyday}}, start))
			},
			"step": func(rt *rapid.T) {
				id := int64(rapid.IntRange(1, 12).Draw(rt, "copy"))
				to := rapid.SampledFrom(queue.States).Draw(rt, "to")
				_ = r.Queue.Step(ctx, id, to, "told", records.Change{}, start) // an illegal one changes nothing
			},
			"spend": func(rt *rapid.T) {
				id := int64(rapid.IntRange(1, 6).Draw(rt, "copy"))
				if _, err := r.Ledger.Reserve(ctx, id, onCellular, nil, 10, start); err == nil && rapid.Bool().Draw(rt, "settled") {
					require.NoError(rt, r.Ledger.Settle(ctx, id, 7))
				}
			},
			"sense": func(rt *rapid.T) {
				at := start.Add(time.Duration(rapid.IntRange(0, 100*24).Draw(rt, "hours")) * time.Hour) // so that some are too old
				require.NoError(rt, r.Journal.Sense(ctx,
					gate.Conditions{Network: rapid.SampledFrom([]plan.Network{plan.WiFi, plan.Cellular}).Draw(rt, "network")}, at))
				id, err := r.Journal.BeginRun(ctx, at)
				require.NoError(rt, err)
				require.NoError(rt, r.Journal.SeeRun(ctx, id, at.Add(time.Minute), rapid.Bool().Draw(rt, "ends")))
			},
			"tell everything anew": func(rt *rapid.T) { require.NoError(rt, r.Outbox.Anew(ctx)) },
		})
		for tell(rt, true) {
		}
		require.Equal(rt, content(rt, file), content(rt, copied))
		key := r.Catalogue.Key(1)
		if admitted > 0 {
			_, err := m.Catalogue.ByKey(ctx, key)
			require.NoError(rt, err, "its keys are the device's")
			found, err := m.Catalogue.Find(ctx, "00", 50)
			require.NoError(rt, err)
			own, err := r.Catalogue.Find(ctx, "00", 50)
			require.NoError(rt, err)
			require.Len(rt, found, len(own), "names are found alike")
		}
	})
}

func TestWhatIsNoRowOfRecordsIsRefusedAndChangesNothing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "m.db")
	m, err := records.OpenMirror(t.Context(), file, "abc")
	require.NoError(t, err)
	t.Cleanup(func() { _ = m.Close() })
	before := content(t, file)
	is := records.NamedFact{Name: chain, Value: "1"}
	for name, rows := range map[string]records.Rows{
		"another table":  {Part: "facts", Columns: []string{"name", "value"}, Rows: [][]any{{[]byte("epoch"), []byte("x")}}},
		"no table":       {Part: "items; DROP TABLE items", Columns: []string{"id"}, Rows: [][]any{{int64(1)}}},
		"short rows":     {Part: "items", Columns: []string{"id", "name"}, Rows: [][]any{{int64(1)}}},
		"no number":      {Part: "copies", Columns: []string{"destination"}, Rows: [][]any{{[]byte("x")}}},
		"another kind":   {Part: "items", Columns: []string{"id", "name"}, Rows: [][]any{{int64(1), map[any]any{}}}},
		"a large number": {Part: "items", Columns: []string{"id", "name"}, Rows: [][]any{{uint64(1) << 63, []byte("x")}}},
	} {
		err := m.Mirror.Take(t.Context(), []records.Rows{rows}, records.NamedFact{Name: chain}, is)
		assert.ErrorAs(t, err, new(records.Wrong), "%s", name)
	}
	assert.Equal(t, before, content(t, file))
	later := records.Rows{Part: "items", Columns: []string{"id", "source", "dir", "name", "size", "mtime", "inode",
		"content_type", "kind", "taken_at", "taken_zone", "taken_from", "found_at", "a later version's"},
		Rows: [][]any{{int64(4), []byte("DCIM"), []byte("."), []byte("x.jpg"), int64(1), int64(1), int64(1),
			[]byte("image/jpeg"), []byte("photo"), int64(1), int64(0), []byte("file"), int64(1), []byte("?")}}}
	require.NoError(t, m.Mirror.Take(t.Context(), []records.Rows{later}, records.NamedFact{Name: chain}, is),
		"what a later version tells more of is left out")
}

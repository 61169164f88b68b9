package records

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// This file tells what changed, for a device whose service is elsewhere: triggers note
// it in the same transaction, so that no step can be forgotten.

// part is a table of which a mirror has a copy.
type part struct {
	name string
	key  string // its rows are told by this number
}

// parts are all there are. What is not among them a mirror does not need: facts are told
// by the device, what lay at a destination before is asked of the service.
var parts = []part{
	{"items", "id"}, {"copies", "id"}, {"events", "rowid"}, {"standings", "id"}, {"counters", ""}, {"ledger",
		"at"}, {"reservations", "copy"}, {"sensed", "id"}, {"runs", "id"}, {"cleared", "id"},
}

// partOf finds one by its name.
func partOf(name string) (part, bool) {
	i := slices.IndexFunc(parts, func(p part) bool { return p.name == name })
	if i < 0 {
		return part{}, false
	}
	return parts[i], true
}

// row is the number of a row in a trigger; a table without numbers is told whole.
func (p part) row(of string) string {
	if p.key == "" {
		return "0"
	}
	return of + "." + p.key
}

// Rows is what stands in some spans of a part: rows of them that are not among these
// are there no longer.
type Rows struct {
	Part    string     `cbor:"1,keyasint"`
	Columns []string   `cbor:"2,keyasint"`
	Spans   [][2]int64 `cbor:"3,keyasint"`
	Rows    [][]any    `cbor:"4,keyasint"`
}

// Follow has every change noted from now on, and everything that stands noted as
// changed, if that is not so already.
func (r *Outbox) Follow(ctx context.Context) error {
	return r.tx(ctx, "noting changes", func(tx *transaction) error {
		all := true
		for _, p := range parts { // those of an earlier version may be there
			var followed bool
			if err := tx.Get(&followed, `SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE type = 'trigger' AND name = ?)`,
				p.name+"_out_insert"); err != nil {
				return err
			}
			if followed {
				continue
			}
			all = false
			for _, event := range []string{"INSERT", "UPDATE", "DELETE"} {
				of := "NEW"
				if event == "DELETE" {
					of = "OLD"
				}
				// Not INSERT OR REPLACE: what the outer statement says of conflicts would stand in
				// its place (sqlite.org/lang_createtrigger.html).
				_, err := tx.Tx.Exec(fmt.Sprintf(`CREATE TRIGGER %[1]s_out_%[2]s AFTER %[3]s ON %[1]s BEGIN
					DELETE FROM outbox WHERE part = '%[1]s' AND low = %[4]s AND high = %[4]s;
					INSERT INTO outbox (part, low, high) VALUES ('%[1]s', %[4]s, %[4]s); END`,
					p.name, strings.ToLower(event), event, p.row(of)))
				if err != nil {
					return err
				}
			}
		}
		if all {
			return nil
		}
		return noteAll(tx)
	})
}

// spanRows is how many numbers a span has at most.
const spanRows = 500

// Anew has everything that stands noted as changed.
func (r *Outbox) Anew(ctx context.Context) error {
	return r.tx(ctx, "noting everything", noteAll)
}

func noteAll(tx *transaction) error {
	if _, err := tx.Exec(`DELETE FROM outbox`); err != nil {
		return err
	}
	for _, p := range parts {
		if p.key == "" || p.key == "at" { // few rows: at one time, or told whole
			if _, err := tx.Exec(`INSERT INTO outbox (part, low, high) VALUES (?, ?, ?)`, p.name, 0,
				int64(1)<<62*min(1, int64(len(p.key)))); err != nil {
				return err
			}
			continue
		}
		// Before the first row and after the last are spans, too: what stood there is gone.
		_, err := tx.Exec(`WITH RECURSIVE ends (low, high) AS (SELECT coalesce(min(`+p.key+`), 0), coalesce(max(`+p.key+`), -1) FROM `+p.name+`),
			span (low) AS (SELECT low FROM ends WHERE low <= high UNION ALL SELECT span.low + ?1 FROM span, ends WHERE span.low + ?1 <= ends.high)
			INSERT INTO outbox (part, low, high) SELECT ?2, low, low + ?1 - 1 FROM span
			UNION ALL SELECT ?2, 0, low - 1 FROM ends WHERE low > 0
			UNION ALL SELECT ?2, coalesce((SELECT max(low) FROM span) + ?1, 0), ?3 FROM ends`, spanRows, p.name, int64(1)<<62)
		if err != nil {
			return err
		}
	}
	return nil
}

// Noted is what is noted as changed, the longest ago first: up to so many rows, and the
// number of the last note. It is as it stands at one moment.
func (r *Outbox) Noted(ctx context.Context, most int64) (rows []Rows, last int64, err error) {
	err = r.view(ctx, "reading what changed", func(tx *transaction) error {
		rows, last = nil, 0
		var notes []struct {
			Seq  int64
			Part string
			Low  int64
			High int64
		}
		if err := tx.Select(&notes, `SELECT * FROM outbox ORDER BY seq LIMIT ?`, most); err != nil {
			return err
		}
		spans, n := map[string][][2]int64{}, int64(0)
		for _, note := range notes {
			if n >= most {
				break
			}
			n += min(note.High-note.Low+1, spanRows)
			spans[note.Part] = append(spans[note.Part], [2]int64{note.Low, note.High})
			last = note.Seq
		}
		for _, p := range parts {
			if len(spans[p.name]) == 0 {
				continue
			}
			one, err := standing(tx, p, apart(spans[p.name]))
			if err != nil {
				return err
			}
			rows = append(rows, one)
		}
		return nil
	})
	return rows, last, err
}

// apart are the same spans without what two of them share: each row is told once.
func apart(spans [][2]int64) (list [][2]int64) {
	slices.SortFunc(spans, func(a, b [2]int64) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	for _, s := range spans {
		if n := len(list); n > 0 && s[0] <= list[n-1][1] {
			list[n-1][1] = max(list[n-1][1], s[1])
			continue
		}
		list = append(list, s)
	}
	return list
}

// LastNote is the number of the last note, 0 when there is none.
func (r *Outbox) LastNote(ctx context.Context) (n int64, err error) {
	if err := r.read.GetContext(ctx, &n, `SELECT coalesce(max(seq), 0) FROM outbox`); err != nil {
		return 0, fmt.Errorf("reading what changed: %w", err)
	}
	return n, nil
}

// standing reads the rows of some spans.
func standing(tx *transaction, p part, spans [][2]int64) (Rows, error) {
	out := Rows{Part: p.name, Spans: spans}
	columns := "t.*"
	if p.key == "rowid" {
		columns = "t.rowid, t.*"
	}
	query, args := `SELECT `+columns+` FROM `+p.name+` t`, []any(nil)
	if p.key != "" { // the list leads: each span is a walk along the key
		list, err := json.Marshal(spans)
		if err != nil {
			return out, err
		}
		query = `SELECT ` + columns + ` FROM json_each(?) s CROSS JOIN ` + p.name + ` t ON t.` + p.key +
			` BETWEEN s.value ->> 0 AND s.value ->> 1`
		args = []any{string(list)}
	}
	found, err := tx.Queryx(query, args...)
	if err != nil {
		return out, fmt.Errorf("%s: %w", p.name, err)
	}
	defer found.Close()
	if out.Columns, err = found.Columns(); err != nil {
		return out, err
	}
	for found.Next() {
		row, err := found.SliceScan()
		if err != nil {
			return out, fmt.Errorf("%s: %w", p.name, err)
		}
		for i, v := range row {
			if s, text := v.(string); text {
				row[i] = []byte(s) // names may be no UTF-8
			}
		}
		out.Rows = append(out.Rows, row)
	}
	return out, found.Err()
}

// Told takes notes away, up to a number: what changed again since has a later one.
func (r *Outbox) Told(ctx context.Context, last int64, facts ...NamedFact) error {
	return r.tx(ctx, "noting what was told", func(tx *transaction) error {
		for _, f := range facts {
			if _, err := tx.Exec(setFact, f.Name, f.Value); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`DELETE FROM outbox WHERE seq <= ?`, last)
		return err
	})
}

package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// A mirror is what the service has of the records of a device elsewhere: the same
// tables, read by the same queries. Only Take writes to it, what the device told.

// OpenMirror opens or makes a mirror of the records that have an epoch; "" is the one that
// is known.
func OpenMirror(ctx context.Context, file, epoch string) (*Records, error) {
	return open(ctx, file, func(r *Records) error {
		if err := r.migrate(ctx); err != nil {
			return err
		}
		// Counts come as the device has them, and rows in the order in which they changed:
		// of two files with one path the later may come first.
		var triggers []string
		if err := r.write.SelectContext(ctx, &triggers, `SELECT name FROM sqlite_master WHERE type = 'trigger'`); err != nil {
			return err
		}
		statements := []string{`DROP INDEX IF EXISTS items_here`,
			`CREATE INDEX IF NOT EXISTS items_place ON items (source, dir, name)`, `PRAGMA foreign_keys = 0`}
		for _, name := range triggers {
			statements = append(statements, `DROP TRIGGER `+name)
		}
		for _, statement := range statements {
			if _, err := r.write.DB.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		if epoch == "" { // it has one, or nothing was told yet
			return nil
		}
		return epochFact.Keep(ctx, &r.Facts, epoch)
	})
}

// Wrong tells that what a device told cannot be rows of its records.
type Wrong struct{ Says string }

func (e Wrong) Error() string { return "what was told cannot be rows of records: " + e.Says }

// Take puts what a device told into its mirror, with facts that hold from then on, in one
// transaction; only while another fact has a value, else the error is ErrFactChanged. The
// error is Wrong where it cannot be what a device tells.
func (r *Mirror) Take(ctx context.Context, rows []Rows, when NamedFact, then ...NamedFact) error {
	return r.tx(ctx, "taking in what was told", func(tx *transaction) error {
		var now string
		if err := tx.Get(&now, `SELECT coalesce(max(value), '') FROM facts WHERE name = ?`, when.Name); err != nil {
			return err
		}
		if now != when.Value {
			return ErrFactChanged
		}
		for _, f := range then {
			if _, err := tx.Exec(setFact, f.Name, f.Value); err != nil {
				return err
			}
		}
		news := "[]"
		for _, one := range rows {
			if one.Part == "items" {
				var err error
				if news, err = newItems(tx, one); err != nil {
					return err
				}
			}
			if err := takePart(tx, one); err != nil {
				return fmt.Errorf("%s: %w", one.Part, err)
			}
		}
		if news == "[]" {
			return nil
		}
		// At once: each statement beside would have the index written.
		_, err := tx.Exec(`INSERT INTO names (rowid, name) SELECT id, name FROM items WHERE id IN (SELECT value FROM json_each(?))`, news)
		return err
	})
}

func takePart(tx *transaction, told Rows) error {
	p, known := partOf(told.Part)
	if !known {
		return Wrong{fmt.Sprintf("there is no part %q", told.Part)}
	}
	if err := removeSpans(tx, p, told.Spans); err != nil {
		return err
	}
	if len(told.Rows) == 0 {
		return nil
	}
	var have []string
	if err := tx.Select(&have, `SELECT name FROM pragma_table_info(?)`, p.name); err != nil {
		return err
	}
	var columns []string
	var at []int
	number := -1
	for i, name := range told.Columns { // a later version may tell of more
		if slices.Contains(have, name) || name == p.key {
			columns, at = append(columns, name), append(at, i)
		}
		if name == p.key {
			number = i
		}
	}
	if p.key != "" && number < 0 {
		return Wrong{"its rows have no number"}
	}
	insert, err := tx.Preparex(`INSERT INTO ` + p.name + ` (` + strings.Join(columns, ", ") + `) VALUES (?` +
		strings.Repeat(", ?", len(columns)-1) + `)`)
	if err != nil {
		return err
	}
	defer insert.Close()
	values := make([]any, len(at))
	for _, row := range told.Rows {
		if len(row) != len(told.Columns) {
			return Wrong{"a row has not as many values as there are columns"}
		}
		for i, from := range at {
			if values[i], err = value(row[from]); err != nil {
				return err
			}
		}
		if _, err := insert.Exec(values...); err != nil {
			return err
		}
	}
	return nil
}

// value is one of SQLite's, as a device tells it.
func value(v any) (any, error) {
	switch v := v.(type) {
	case []byte:
		return string(v), nil
	case int64, nil:
		return v, nil
	case uint64:
		if v>>63 == 0 {
			return int64(v), nil
		}
	}
	return nil, Wrong{fmt.Sprintf("a value is of the kind %T", v)}
}

// removeSpans removes what stood in some spans.
func removeSpans(tx *transaction, p part, spans [][2]int64) error {
	if p.key == "" {
		_, err := tx.Exec(`DELETE FROM ` + p.name)
		return err
	}
	remove, err := tx.Preparex(`DELETE FROM ` + p.name + ` WHERE ` + p.key + ` BETWEEN ? AND ?`)
	if err != nil {
		return err
	}
	defer remove.Close()
	for _, span := range spans {
		if _, err := remove.Exec(span[0], span[1]); err != nil {
			return err
		}
	}
	return nil
}

// newItems tells which of the items that were told are not known yet, as SQL has a list:
// they are to be found by parts of their names. A name never changes.
func newItems(tx *transaction, told Rows) (string, error) {
	at := slices.Index(told.Columns, "id")
	if at < 0 {
		return "[]", nil
	}
	ids := make([]any, 0, len(told.Rows))
	for _, row := range told.Rows {
		if at < len(row) {
			id, err := value(row[at])
			if err != nil {
				return "", err
			}
			ids = append(ids, id)
		}
	}
	list, err := json.Marshal(ids)
	if err != nil {
		return "", err
	}
	var news string
	err = tx.Get(&news, `SELECT json_group_array(value) FROM json_each(?) WHERE NOT EXISTS (SELECT 1 FROM items WHERE id = value)`, string(list))
	return news, err
}

// Epoch is the word by which the keys of these records differ from those of any others.
func (r *Catalogue) Epoch() string { return r.epoch }

package records

import (
	"context"
	"database/sql"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
)

// This file keeps facts: small named values, each of a type that its name stands for.

// Fact is the name of a fact whose value is a T. A text is kept as it is, what writes itself as
// text (encoding.TextMarshaler) so, and everything else in JSON.
type Fact[T any] string

// FactFile is what facts are read from and kept in.
type FactFile interface {
	Fact(ctx context.Context, name string) (string, error)
	SetFact(ctx context.Context, name, value string) error
	Facts(ctx context.Context, prefix string) (map[string]string, error)
}

// For is the fact of one thing, by its name: of a destination, say.
func (f Fact[T]) For(name string) Fact[T] { return f + Fact[T](name) }

// Read reads the value; known is false, and the value zero, when there is none.
func (f Fact[T]) Read(ctx context.Context, from FactFile) (v T, known bool, err error) {
	text, err := from.Fact(ctx, string(f))
	if err != nil || text == "" {
		return v, false, err
	}
	v, err = f.parse(text)
	return v, err == nil, err
}

// All reads the values of everything that has this fact, by its name (see For).
func (f Fact[T]) All(ctx context.Context, from FactFile) (map[string]T, error) {
	texts, err := from.Facts(ctx, string(f))
	if err != nil {
		return nil, err
	}
	all := make(map[string]T, len(texts))
	for name, text := range texts {
		if all[name], err = f.For(name).parse(text); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Keep keeps a value.
func (f Fact[T]) Keep(ctx context.Context, in FactFile, v T) error {
	is, err := f.Is(v)
	if err != nil {
		return err
	}
	return in.SetFact(ctx, is.Name, is.Value)
}

// Is is the fact with a value, to be kept in the same step as something else.
func (f Fact[T]) Is(v T) (NamedFact, error) {
	switch v := any(v).(type) {
	case string:
		return NamedFact{string(f), v}, nil
	case encoding.TextMarshaler:
		text, err := v.MarshalText()
		if err != nil {
			return NamedFact{}, fmt.Errorf("keeping %s: %w", f, err)
		}
		return NamedFact{string(f), string(text)}, nil
	}
	text, err := json.Marshal(v)
	if err != nil {
		return NamedFact{}, fmt.Errorf("keeping %s: %w", f, err)
	}
	return NamedFact{string(f), string(text)}, nil
}

func (f Fact[T]) parse(text string) (v T, err error) {
	switch into := any(&v).(type) {
	case *string:
		*into = text
	case encoding.TextUnmarshaler:
		err = into.UnmarshalText([]byte(text))
	default:
		err = json.Unmarshal([]byte(text), into)
	}
	if err != nil {
		return v, fmt.Errorf("reading %s: %w", f, err)
	}
	return v, nil
}

const setFact = `INSERT INTO facts VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`

// SetFact keeps a small named value.
func (r *Facts) SetFact(ctx context.Context, name, value string) error {
	_, err := r.write.ExecContext(ctx, setFact, name, value)
	if err != nil {
		return fmt.Errorf("keeping %s: %w", name, err)
	}
	return nil
}

// Fact reads a value, "" when there is none.
func (r *Facts) Fact(ctx context.Context, name string) (string, error) {
	var v string
	err := r.read.GetContext(ctx, &v, `SELECT value FROM facts WHERE name = ?`, name)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	return v, nil
}

// Facts reads the values whose names begin with a prefix, by the rest of the name.
func (r *Facts) Facts(ctx context.Context, prefix string) (map[string]string, error) {
	var rows []struct{ Name, Value string }
	if err := r.read.SelectContext(ctx, &rows, `SELECT name, value FROM facts WHERE substr(name, 1, ?) = ?`, len(prefix),
		prefix); err != nil {
		return nil, fmt.Errorf("reading %s…: %w", prefix, err)
	}
	facts := make(map[string]string, len(rows))
	for _, row := range rows {
		facts[row.Name[len(prefix):]] = row.Value
	}
	return facts, nil
}

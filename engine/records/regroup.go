package records

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"

	"golang.org/x/sync/errgroup"
)

// Group is items of a source that stand alike, that one rule takes today and that a
// plan would treat alike.
type Group struct {
	Source        string
	Kind          media.Kind
	Before, After string // the rule that takes them, "" for none
	Why           string // they would be left out
	Standing      int64  // 0 for none
	Sum
	Paths []string // the first of them, of what changes
}

// mostPaths is how many items of a group are named.
const mostPaths = 20

// Regroup tells how choosers, by their sources, would treat the items of these sources.
// Every item is read once, whatever decides: halves of them at the same time.
func (r *Catalogue) Regroup(ctx context.Context, by map[string]plan.Chooser) ([]Group, error) {
	var last int64
	if err := r.read.GetContext(ctx, &last, `SELECT coalesce(max(id), 0) FROM items`); err != nil {
		return nil, fmt.Errorf("trying a plan: %w", err)
	}
	halves := [2]groups{{}, {}}
	reads, readCtx := errgroup.WithContext(ctx)
	for i, half := range halves {
		from, to := int64(i)*(last/2+1), int64(i+1)*(last/2+1)
		reads.Go(func() error { return r.regroup(readCtx, by, from, to, half) })
	}
	if err := reads.Wait(); err != nil {
		return nil, fmt.Errorf("trying a plan: %w", err)
	}
	for key, g := range halves[1] {
		all := halves[0].of(key)
		all.N, all.Bytes = all.N+g.N, all.Bytes+g.Bytes
		all.Paths = append(all.Paths, g.Paths[:min(len(g.Paths), mostPaths-len(all.Paths))]...)
	}
	list := make([]Group, 0, len(halves[0]))
	for _, g := range halves[0] {
		list = append(list, *g)
	}
	return list, nil
}

// groups are by all but their sums and names.
type groups map[groupKey]*Group

type groupKey struct {
	source             string
	kind               media.Kind
	before, after, why string
	standing           int64
}

func (g groups) of(key groupKey) *Group {
	one := g[key]
	if one == nil {
		one = &Group{Source: key.source, Kind: key.kind, Before: key.before, After: key.after, Why: key.why,
			Standing: key.standing}
		g[key] = one
	}
	return one
}

// alike are items that one decision is for, where only the kind decides: those of a
// source, a kind, a rule and a standing (as the query writes them), hidden or not.
type alike struct {
	key    string
	hidden bool
}

// What a row is read as: each column costs more than what it holds.
const (
	// none of them has a line break in it
	keyColumn    = `source || char(10) || kind || char(10) || rule || char(10) || standing`
	pathColumn   = `CASE dir WHEN '.' THEN name ELSE dir || '/' || name END`
	originColumn = `sorted || ' ' || made_from`
	timesColumn  = `taken_at || ' ' || taken_zone || ' ' || seconds || ' ' || max(ctime, mtime) || ' ' || found_at`
)

// regroup reads the items of some numbers.
func (r *Catalogue) regroup(ctx context.Context, by map[string]plan.Chooser, from, to int64, groups groups) error {
	timed, sorted := false, false
	for _, chooser := range by {
		timed, sorted = timed || chooser.ByTime(), sorted || chooser.ByOrigin()
	}
	var key, where, times, origin sql.RawBytes
	var size int64
	columns, into := keyColumn+`, `+pathColumn+`, all_bytes`, []any{&key, &where, &size}
	if timed {
		columns, into = columns+`, `+timesColumn, append(into, &times)
	}
	if sorted {
		columns, into = columns+`, `+originColumn, append(into, &origin)
	}
	// An index would lead to each row by itself: reading the table through is faster.
	rows, err := r.read.QueryContext(ctx, `SELECT `+columns+
		` FROM items NOT INDEXED WHERE id >= ? AND id < ? AND gone_at = 0 AND part_of = 0`, from, to)
	if err != nil {
		return err
	}
	defer rows.Close()
	known := map[string]groupKey{} // what the keys say: few differ
	decided := map[alike]*Group{}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		said, is := known[string(key)]
		if !is {
			if said, err = readKey(string(key)); err != nil {
				return err
			}
			known[string(key)] = said
		}
		chooser, asked := by[said.source]
		if !asked {
			continue
		}
		var g *Group
		if chooser.ByKind() {
			g = decided[alike{string(key), plan.IsHidden(string(where))}]
		}
		if g == nil {
			f := plan.File{Path: string(where), Kind: said.kind, Bytes: size}
			if timed {
				var t [5]int64
				if err := readTimes(times, &t); err != nil {
					return err
				}
				f = found(f.Path, f.Kind, size, time.UnixMilli(t[0]).In(time.FixedZone("", int(t[1]))), t[2], t[4], t[3])
			}
			if sorted {
				is, from, _ := strings.Cut(string(origin), " ")
				f.Sorted, f.MadeFrom = is == "1", from
			}
			this := said
			this.after, this.why = chooser.Choose(f)
			g = groups.of(this)
			if chooser.ByKind() {
				decided[alike{string(key), plan.IsHidden(string(where))}] = g
			}
		}
		g.N, g.Bytes = g.N+1, g.Bytes+size
		if (g.After == "") != (g.Before == "") && len(g.Paths) < mostPaths {
			g.Paths = append(g.Paths, string(where))
		}
	}
	return rows.Err()
}

func readKey(text string) (k groupKey, err error) {
	parts := strings.Split(text, "\n")
	if len(parts) != 4 {
		return k, fmt.Errorf("an item's source, kind and rule cannot be told apart: %q", text)
	}
	k = groupKey{source: parts[0], kind: media.Kind(parts[1]), before: parts[2]}
	k.standing, err = strconv.ParseInt(parts[3], 10, 64)
	return k, err
}

func readTimes(text []byte, into *[5]int64) (err error) {
	for i := range into {
		var word []byte
		if word, text, _ = bytes.Cut(text, []byte(" ")); err == nil {
			into[i], err = strconv.ParseInt(string(word), 10, 64)
		}
	}
	return err
}

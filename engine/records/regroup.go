package records

import (
	"context"
	"fmt"
	"path"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// Group is items of a source that stand alike, that one rule takes today and that a
// plan would treat alike.
type Group struct {
	Kind          media.Kind
	Before, After string // the rule that takes them, "" for none
	Why           string // they would be left out
	Standing      int64  // 0 for none
	Sum
	Paths []string // the first of them, of what changes
}

// mostPaths is how many items of a group are named.
const mostPaths = 20

// Regroup tells how a plan would treat the items of a source.
func (r *Records) Regroup(ctx context.Context, source string, by plan.Chooser) ([]Group, error) {
	groups := groups{}
	var err error
	if by.ByKind() {
		err = r.groupByKind(ctx, source, by, groups)
	} else {
		err = r.groupEach(ctx, source, by, groups)
	}
	if err != nil {
		return nil, fmt.Errorf("trying a plan with the items of %s: %w", source, err)
	}
	list := make([]Group, 0, len(groups))
	for _, g := range groups {
		list = append(list, *g)
	}
	return list, nil
}

// groups are by all but their sums and names.
type groups map[groupKey]*Group

type groupKey struct {
	kind               media.Kind
	before, after, why string
	standing           int64
}

func (g groups) of(kind media.Kind, before, after, why string, standing int64) *Group {
	key := groupKey{kind, before, after, why, standing}
	if g[key] == nil {
		g[key] = &Group{Kind: kind, Before: before, After: after, Why: why, Standing: standing}
	}
	return g[key]
}

// groupByKind decides once for all items of a kind.
func (r *Records) groupByKind(ctx context.Context, source string, by plan.Chooser, groups groups) error {
	var rows []struct {
		Kind     media.Kind `db:"kind"`
		Rule     string     `db:"rule"`
		Standing int64      `db:"standing"`
		Hidden   bool       `db:"hidden"`
		Sum
	}
	const hidden = `(name GLOB '.*' OR dir GLOB '.?*' OR dir GLOB '*/.*')`
	err := r.read.SelectContext(ctx, &rows, `SELECT kind, rule, standing, `+hidden+` hidden, count(*) n, sum(size) bytes FROM items WHERE source = ? AND gone_at = 0 GROUP BY 1, 2, 3, 4`, source)
	if err != nil {
		return err
	}
	for _, row := range rows {
		name := "x"
		if row.Hidden {
			name = ".x"
		}
		rule, why := by.Choose(plan.Found{Path: name, Kind: row.Kind})
		g := groups.of(row.Kind, row.Rule, rule, why, row.Standing)
		g.N, g.Bytes = g.N+row.N, g.Bytes+row.Bytes
		if (rule == "") == (row.Rule == "") || len(g.Paths) > 0 {
			continue
		}
		if err := r.read.SelectContext(ctx, &g.Paths, `SELECT CASE dir WHEN '.' THEN name ELSE dir || '/' || name END FROM items WHERE source = ? AND gone_at = 0 AND kind = ? AND rule = ? AND `+hidden+` = ? LIMIT ?`, source, row.Kind, row.Rule, row.Hidden, mostPaths); err != nil {
			return err
		}
	}
	return nil
}

// groupEach decides for each item.
func (r *Records) groupEach(ctx context.Context, source string, by plan.Chooser, groups groups) error {
	rows, err := r.read.QueryContext(ctx, `SELECT dir, name, size, kind, taken_at, taken_zone, seconds, max(ctime, mtime), found_at, rule, standing FROM items WHERE source = ? AND gone_at = 0`, source)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var it Item
		if err := rows.Scan(&it.Dir, &it.Name, &it.Size, &it.Kind, &it.TakenMS, &it.TakenZone, &it.Seconds, &it.MTime, &it.FoundMS, &it.Rule, &it.Standing); err != nil {
			return err
		}
		rule, why := by.Choose(it.Found())
		g := groups.of(it.Kind, it.Rule, rule, why, it.Standing)
		g.N, g.Bytes = g.N+1, g.Bytes+it.Size
		if (rule == "") != (it.Rule == "") && len(g.Paths) < mostPaths {
			g.Paths = append(g.Paths, path.Join(it.Dir, it.Name))
		}
	}
	return rows.Err()
}

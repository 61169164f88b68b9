package records

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// This file knows which files are parts of one item. Parts follow the rule of their main
// file, as far as that takes companions; the item is counted once, by its main file.

// Whole is the number of the item that a file is, or is a part of.
func (i Item) Whole() int64 {
	if i.PartOf != 0 {
		return i.PartOf
	}
	return i.ID
}

// member is a file of an item, as parts are told.
type member struct {
	ID      int64      `db:"id"`
	Dir     string     `db:"dir"`
	Name    string     `db:"name"`
	Kind    media.Kind `db:"kind"`
	Seconds int64      `db:"seconds"`
	Pair    string     `db:"pair"`
	PartOf  int64      `db:"part_of"`
	Rule    string     `db:"rule"`
	OwnRule string     `db:"own_rule"`
}

// belongs is what is to be otherwise of a file.
type belongs struct {
	ID     int64  `json:"id"`
	PartOf int64  `json:"partOf"`
	Rule   string `json:"rule"`
	was    int64  // whose part it was
}

// relate tells what is to be otherwise in files of one folder and stem.
func relate(group []member, p *plan.Plan) (changes []belongs) {
	files := make([]media.File, len(group))
	for i, m := range group {
		files[i] = media.File{Name: m.Name, Kind: m.Kind, Seconds: m.Seconds, Pair: m.Pair}
	}
	for i, of := range media.Parts(files) {
		m, want := group[i], belongs{ID: group[i].ID, Rule: group[i].OwnRule, was: group[i].PartOf}
		if of >= 0 {
			want.PartOf, want.Rule = group[of].ID, ""
			if main := group[of].OwnRule; main != "" && p.GoesAlong(main, group[of].Kind, m.Kind, media.IsSidecar(m.Name)) {
				want.Rule = main
			}
		}
		if want.PartOf != m.PartOf || want.Rule != m.Rule {
			changes = append(changes, want)
		}
	}
	return changes
}

// inGroups parts files, by folder and name, into those of one folder and stem.
func inGroups(files []member, each func([]member)) {
	for len(files) > 0 {
		n, stem := 1, media.Stem(files[0].Name)
		for n < len(files) && files[n].Dir == files[0].Dir && media.Stem(files[n].Name) == stem {
			n++
		}
		each(files[:n])
		files = files[n:]
	}
}

// relateNames tells what is to be otherwise among the files beside some, by folder and name.
func relateNames(tx *transaction, source string, names [][2]string, p *plan.Plan) (changes []belongs, err error) {
	stems := map[[2]string]bool{}
	var list [][2]string
	for _, n := range names {
		key := [2]string{n[0], media.Stem(n[1])}
		if !stems[key] {
			stems[key] = true
			list = append(list, key)
		}
	}
	text, err := json.Marshal(list)
	if err != nil {
		return nil, fmt.Errorf("naming what belongs together: %w", err)
	}
	var files []member
	err = tx.Select(&files, `SELECT i.id, i.dir, i.name, i.kind, i.seconds, i.pair, i.part_of, i.rule, i.own_rule FROM json_each(?) n
		CROSS JOIN items i ON i.source = ? AND i.gone_at = 0 AND i.dir = n.value ->> 0 AND i.name >= (n.value ->> 1) || '.' AND i.name < (n.value ->> 1) || '/' ORDER BY i.dir, i.name`, string(text), source)
	if err != nil {
		return nil, err
	}
	// A stem may begin another's (a.jpg, a.b.jpg): only those that were asked for.
	files = slices.DeleteFunc(files, func(m member) bool { return !stems[[2]string{m.Dir, media.Stem(m.Name)}] })
	slices.SortStableFunc(files, func(a, b member) int {
		if a.Dir != b.Dir {
			return compare(a.Dir, b.Dir)
		}
		return compare(media.Stem(a.Name), media.Stem(b.Name))
	})
	files = slices.CompactFunc(files, func(a, b member) bool { return a.ID == b.ID })
	inGroups(files, func(group []member) { changes = append(changes, relate(group, p)...) })
	return changes, nil
}

func compare(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// restand makes files parts of others, or items of their own, and counts anew what that
// concerns. also are items that are counted anew beside.
func restand(tx *transaction, changes []belongs, also []int64) error {
	touched := slices.Clone(also)
	for _, c := range changes {
		touched = append(touched, c.ID)
		for _, whole := range []int64{c.PartOf, c.was} {
			if whole != 0 {
				touched = append(touched, whole)
			}
		}
	}
	if len(touched) == 0 {
		return nil
	}
	ids, err := list(touched)
	if err != nil {
		return err
	}
	to, err := json.Marshal(changes)
	if err != nil {
		return fmt.Errorf("writing what belongs together: %w", err)
	}
	const these = `id IN (SELECT value FROM json_each(?))`
	for _, q := range []struct {
		query string
		args  []any
	}{
		{`UPDATE standings SET n = standings.n - o.n, bytes = standings.bytes - o.bytes FROM (SELECT standing, count(*) n, sum(all_bytes) bytes FROM items WHERE standing <> 0 AND ` + these + ` GROUP BY 1) o WHERE standings.id = o.standing`, []any{ids}},
		{`UPDATE items SET standing = 0 WHERE ` + these, []any{ids}},
		{`UPDATE items SET part_of = c.value ->> 'partOf', rule = c.value ->> 'rule' FROM json_each(?) c WHERE items.id = c.value ->> 'id'`, []any{string(to)}},
		// What is gone stays a part of the same item.
		{`UPDATE items SET part_of = (SELECT m.part_of FROM items m WHERE m.id = items.part_of) WHERE part_of IN (SELECT value FROM json_each(?)) AND part_of <> 0 AND EXISTS (SELECT 1 FROM items m WHERE m.id = items.part_of AND m.part_of <> 0)`, []any{ids}},
		{`UPDATE items SET all_bytes = size + coalesce((SELECT sum(p.size) FROM items p WHERE p.part_of = items.id AND p.part_of <> 0 AND p.gone_at = 0), 0) WHERE ` + these, []any{ids}},
	} {
		if _, err := tx.Exec(q.query, q.args...); err != nil {
			return fmt.Errorf("noting what belongs together: %w", err)
		}
	}
	return nil
}

func list(ids []int64) (string, error) {
	slices.Sort(ids)
	text, err := json.Marshal(slices.Compact(ids))
	if err != nil {
		return "", fmt.Errorf("writing numbers of items: %w", err)
	}
	return string(text), nil
}

// settleParts has the copies of files follow what they belong to now, and counts them.
func settleParts(tx *transaction, now time.Time, source string, changes []belongs, p *plan.Plan) error {
	if len(changes) == 0 {
		return nil
	}
	if err := restand(tx, changes, nil); err != nil {
		return err
	}
	var touched []int64
	for _, c := range changes {
		touched = append(touched, c.ID, c.PartOf, c.was)
		for _, destination := range p.Rules[c.Rule].To {
			if _, err := tx.Exec(`UPDATE copies SET rule = ? WHERE rule <> ? AND item = ? AND destination = ?`, c.Rule, c.Rule,
				c.ID, destination); err != nil {
				return err
			}
			if err := moveAll(tx, now, queue.Waiting, "The plan asks for it again.",
				`state = 'skipped' AND says = ? AND shelf = '' AND item = ? AND destination = ?`, queue.NotAsked, c.ID,
				destination); err != nil {
				return err
			}
			for _, on := range stocked(p, c.Rule, destination) {
				if _, err := stock(tx, now, source, c.Rule, destination, on, 0, c.ID); err != nil {
					return err
				}
			}
		}
		if err := moveAll(tx, now, queue.Skipped, queue.NotAsked, `id IN (`+unasked+
			`c.item = ? AND c.state IN ('waiting', 'stuck', 'proving'))`, c.ID); err != nil {
			return err
		}
	}
	ids, err := list(touched)
	if err != nil {
		return err
	}
	return stand(tx, `i.id IN (SELECT value FROM json_each(?))`, ids)
}

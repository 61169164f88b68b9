package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// Prepared is how many waiting copies of a class are prepared in a form that is not as
// shot.
type Prepared struct {
	queue.Class
	Form string `db:"form"`
	N    int64  `db:"n"`
}

// AllPrepared counts them. There are few, and an index of their own finds them.
func (r *Forms) AllPrepared(ctx context.Context) ([]Prepared, error) {
	var all []Prepared
	err := r.read.SelectContext(ctx, &all, `SELECT destination, rule, kind, shelf, form, count(*) n FROM copies INDEXED BY copies_prepared WHERE state = 'waiting' AND form <> '' GROUP BY 1, 2, 3, 4, 5`)
	if err != nil {
		return nil, fmt.Errorf("counting what is prepared: %w", err)
	}
	return all, nil
}

// Unprepared finds the first waiting copy of a class that is in another form than is asked
// for; ok is false when there is none.
func (r *Forms) Unprepared(ctx context.Context, class queue.Class, form string, order plan.Order, busy []int64,
	now time.Time) (c Copy, ok bool, err error) {
	query, args, err := without(selectCopy+`WHERE c.state = 'waiting' AND `+lies(class.Shelf)+
		` AND c.destination = ? AND c.rule = ? AND c.kind = ? AND +c.not_before <= ? AND +c.form <> ?`,
		busy, class.Destination, class.Rule, class.Kind, ms(now), form)
	if err != nil {
		return c, false, err
	}
	return r.one(ctx, query+inOrder[order]+` LIMIT 1`, args...)
}

// Alike are the copies of an item by a rule on a shelf that go in one form: those at destinations
// where the plan asks for that form.
type Alike struct {
	Item         int64
	Rule         string
	Shelf        plan.Shelf
	Destinations []string
}

// which finds those that wait.
func (a Alike) which() (where string, args []any, err error) {
	to, err := json.Marshal(a.Destinations)
	if err != nil {
		return "", nil, fmt.Errorf("writing the destinations of item %d: %w", a.Item, err)
	}
	return ` WHERE item = ? AND rule = ? AND shelf = ? AND state = 'waiting' AND destination IN (SELECT value FROM json_each(?))`,
		[]any{a.Item, a.Rule, a.Shelf, string(to)}, nil
}

// SetForm notes in which form copies that wait go, how many bytes each is, and a line in their stories.
func (r *Forms) SetForm(ctx context.Context, of Alike, form string, reduced bool, bytes int64, story string,
	now time.Time) error {
	return r.tx(ctx, fmt.Sprintf("noting the form of item %d", of.Item), func(tx *transaction) error {
		where, args, err := of.which()
		if err != nil {
			return err
		}
		where, args = where+` AND form <> ?`, append(args, form)
		if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, state, ? FROM copies`+where,
			append([]any{ms(now), story}, args...)...); err != nil {
			return err
		}
		_, err = tx.Exec(`UPDATE copies SET form = ?, reduced = ?, bytes = ?`+where,
			append([]any{form, reduced, bytes}, args...)...)
		return err
	})
}

// Refuse takes copies that wait to where they rest: nothing can be made of their item that may go there.
func (r *Forms) Refuse(ctx context.Context, of Alike, to queue.State, says, todo string, now time.Time) error {
	return r.tx(ctx, fmt.Sprintf("noting that item %d has no form", of.Item), func(tx *transaction) error {
		where, args, err := of.which()
		if err != nil {
			return err
		}
		var ids []int64
		if err := tx.Select(&ids, `SELECT id FROM copies`+where, args...); err != nil {
			return err
		}
		for _, id := range ids {
			if err := takeSteps(tx, id, []told{{to, says}}, Change{Says: &says, Todo: &todo, Order: new(NoOrder),
				NotBefore: new(time.Time{})}, now); err != nil {
				return err
			}
		}
		return nil
	})
}

// asShot takes copies back to the form that they were found in.
const asShot = `UPDATE copies SET form = '', reduced = 0, bytes = (SELECT size FROM items WHERE id = copies.item) `

// GoAsShot has the waiting copies of a class go as shot that were prepared otherwise.
func (r *Forms) GoAsShot(ctx context.Context, class queue.Class) error {
	return r.tx(ctx, "taking back what was prepared", func(tx *transaction) error {
		_, err := tx.Exec(asShot+`WHERE state = 'waiting' AND form <> '' AND destination = ? AND rule = ? AND kind = ? AND shelf = ?`,
			class.Destination, class.Rule, class.Kind, class.Shelf)
		return err
	})
}

// Unprepare has the copies of an item that wait be prepared anew: what was made is no longer
// what was noted.
func (r *Forms) Unprepare(ctx context.Context, item int64) error {
	return r.tx(ctx, fmt.Sprintf("having item %d prepared anew", item), func(tx *transaction) error {
		_, err := tx.Exec(asShot+`WHERE item = ? AND state NOT IN ('safe', 'skipped') AND proof = '' AND landed = 0`, item)
		return err
	})
}

// StillToGo tells whether a copy of an item in a form is still to be sent or proven.
func (r *Forms) StillToGo(ctx context.Context, item int64, form string) (bool, error) {
	var n int
	if err := r.read.GetContext(ctx, &n, `SELECT count(*) FROM copies WHERE item = ? AND form = ? AND state NOT IN ('safe', 'skipped')`, item, form); err != nil {
		return false, fmt.Errorf("looking what of item %d is still to go: %w", item, err)
	}
	return n > 0, nil
}

// Delay has a waiting copy wait until a time, and says why.
func (r *Queue) Delay(ctx context.Context, id int64, says string, until, now time.Time) error {
	return r.tx(ctx, fmt.Sprintf("having copy %d wait", id), func(tx *transaction) error {
		if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, state, ? FROM copies WHERE id = ? AND state = 'waiting'`,
			ms(now), says, id); err != nil {
			return err
		}
		_, err := tx.Exec(`UPDATE copies SET says = ?, not_before = ? WHERE id = ? AND state = 'waiting'`, says, ms(until),
			id)
		return err
	})
}

// OfRule is how many items of a kind follow a rule, "" for any, and their bytes.
func (r *Catalogue) OfRule(ctx context.Context, rule string, kind media.Kind) (n, bytes int64, err error) {
	var sum Sum
	err = r.read.GetContext(ctx, &sum, `SELECT count(*) n, coalesce(sum(size), 0) bytes FROM items WHERE gone_at = 0 AND part_of = 0 AND kind = ? AND rule <> '' AND (? = '' OR rule = ?)`, kind, rule, rule)
	if err != nil {
		return 0, 0, fmt.Errorf("counting what the rule %s takes: %w", rule, err)
	}
	return sum.N, sum.Bytes, nil
}

// SomeItems are a few of those, chosen at random.
func (r *Catalogue) SomeItems(ctx context.Context, rule string, kind media.Kind, most int) ([]Item, error) {
	var items []Item
	err := r.read.SelectContext(ctx, &items,
		`SELECT * FROM items WHERE id IN (SELECT id FROM items WHERE gone_at = 0 AND part_of = 0 AND kind = ? AND rule <> '' AND (? = '' OR rule = ?) ORDER BY random() LIMIT ?)`, kind, rule, rule, most)
	if err != nil {
		return nil, fmt.Errorf("choosing some of what the rule %s takes: %w", rule, err)
	}
	return items, nil
}

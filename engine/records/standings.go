package records

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"database/sql"

	"github.com/jmoiron/sqlx"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// This file counts and lists items. An item's standing is the states of its copies
// together; counters are kept by standing, and a page is a walk along one index for
// each standing that it takes.

// Standing is how many items stand alike.
type Standing struct {
	ID     int64
	Kind   media.Kind
	N      int64
	Bytes  int64 // of the items, each counted once
	Copies []Stand
}

// Stand is where one copy of an item stands: the copy itself at a destination, or a small
// one there.
type Stand struct {
	Destination, Rule string
	State             queue.State
	Shelf             plan.Shelf
	Kind              media.Kind // of a part, "" for the main file
}

// Class is that of the copy, of an item of a kind.
func (s Stand) Class(kind media.Kind) queue.Class {
	if s.Kind != "" {
		kind = s.Kind
	}
	return queue.Class{Rule: s.Rule, Kind: kind, Destination: s.Destination, Shelf: s.Shelf}
}

// UnmarshalJSON reads the form in which the records keep it.
func (s *Stand) UnmarshalJSON(text []byte) error {
	var said [5]string // the last two are left out where they say nothing
	err := json.Unmarshal(text, &said)
	s.Destination, s.Rule, s.State, s.Shelf, s.Kind = said[0], said[1], queue.State(said[2]), plan.Shelf(said[3]),
		media.Kind(said[4])
	return err
}

// Standings reads how items stand.
func (r *Queue) Standings(ctx context.Context) ([]Standing, error) { return standings(ctx, r.read) }

// SourceStanding is how many items of one source stand alike.
type SourceStanding struct {
	Source   string `db:"source"`
	Standing int64  `db:"standing"` // 0 of items of which no copy is asked for
	N        int64  `db:"n"`
	Bytes    int64  `db:"bytes"`
	FoundMS  int64  `db:"found_at"` // when the newest of them was found
}

// SourceStandings counts the items that are here, source by source. It reads every item: a page asks for
// it, and no summary does.
func (r *Queue) SourceStandings(ctx context.Context) (list []SourceStanding, err error) {
	err = r.read.SelectContext(ctx, &list, `SELECT source, standing, count(*) n, sum(all_bytes) bytes, max(found_at) found_at
		FROM items WHERE gone_at = 0 AND part_of = 0 AND kind <> '' GROUP BY source, standing`)
	if err != nil {
		return nil, fmt.Errorf("counting the items of each source: %w", err)
	}
	return list, nil
}

type selector interface {
	SelectContext(ctx context.Context, into any, query string, args ...any) error
}

func standings(ctx context.Context, from selector) ([]Standing, error) {
	var rows []struct {
		ID     int64      `db:"id"`
		Kind   media.Kind `db:"kind"`
		Copies string     `db:"copies"`
		N      int64      `db:"n"`
		Bytes  int64      `db:"bytes"`
	}
	if err := from.SelectContext(ctx, &rows, `SELECT id, kind, copies, n, bytes FROM standings WHERE n > 0`); err != nil {
		return nil, fmt.Errorf("reading how items stand: %w", err)
	}
	list := make([]Standing, len(rows))
	for i, row := range rows {
		list[i] = Standing{ID: row.ID, Kind: row.Kind, N: row.N, Bytes: row.Bytes}
		if err := json.Unmarshal([]byte(row.Copies), &list[i].Copies); err != nil {
			return nil, fmt.Errorf("reading how items stand: %w", err)
		}
	}
	return list, nil
}

// standText is an item's standing as SQL makes it of its copies.
const standText = `(SELECT json_group_array(CASE WHEN c.item <> i.id THEN json_array(c.destination, c.rule, c.state, c.shelf, c.kind) WHEN c.shelf = '' THEN json_array(c.destination, c.rule, c.state) ELSE json_array(c.destination, c.rule, c.state, c.shelf) END
	ORDER BY c.destination, c.shelf, c.item <> i.id, c.kind, c.state) FROM copies c WHERE c.item IN (SELECT i.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = i.id AND p.part_of <> 0) AND c.shelf IN ('', 'small'))`

// stand gives items their standings after copies were made for them, none to older versions that do not count.
// (A trigger follows what happens to copies later.)
func stand(tx *transaction, where string, args ...any) error {
	const wholes = ` AND i.part_of = 0 AND i.older < 2 AND EXISTS (SELECT 1 FROM copies c WHERE c.item IN (SELECT i.id UNION ALL SELECT p.id FROM items p WHERE p.part_of = i.id AND p.part_of <> 0))`
	for _, query := range []string{
		`UPDATE standings SET n = standings.n - o.n, bytes = standings.bytes - o.bytes FROM (SELECT i.standing, count(*) n, sum(i.all_bytes) bytes FROM items i WHERE ` + where + ` GROUP BY 1) o WHERE standings.id = o.standing`,
		`INSERT INTO standings (kind, copies) SELECT DISTINCT i.kind, ` + standText + ` FROM items i WHERE ` + where +
			wholes + ` ON CONFLICT DO NOTHING`,
		`UPDATE items AS i SET standing = 0 WHERE standing <> 0 AND ` + where,
		`UPDATE items AS i SET standing = (SELECT id FROM standings WHERE kind = i.kind AND copies = ` + standText +
			`) WHERE ` + where + wholes,
		`UPDATE standings SET n = standings.n + o.n, bytes = standings.bytes + o.bytes FROM (SELECT i.standing, count(*) n, sum(i.all_bytes) bytes FROM items i WHERE ` + where + ` GROUP BY 1) o WHERE standings.id = o.standing`,
	} {
		if _, err := tx.Exec(query, args...); err != nil {
			return fmt.Errorf("counting the items: %w", err)
		}
	}
	return nil
}

// newcomers counts items that are taken in: how they will stand when
// their copies are made (makeCopies) is known before.
type newcomers struct {
	plan  *plan.Plan
	ids   map[newcomer]int64
	total map[int64]*Standing
}

// newcomer is what decides how a new item stands.
type newcomer struct {
	rule    string
	kind    media.Kind
	problem bool
}

// small tells whether a small copy of a new item is asked for at a destination.
func (n newcomer) small(p *plan.Plan, destination string) bool {
	return p.Wanted(n.rule, n.kind, destination, plan.Small)
}

// stand is the standing of a new item, 0 when no rule asks a copy of it.
func (n *newcomers) stand(tx *transaction, it Item) (int64, error) {
	asks := n.plan.Rules[it.Rule]
	if it.Rule == "" || len(asks.To) == 0 {
		return 0, nil
	}
	if n.ids == nil {
		n.ids, n.total = map[newcomer]int64{}, map[int64]*Standing{}
	}
	key := newcomer{it.Rule, it.Kind, it.Problem != ""}
	id, known := n.ids[key]
	if !known {
		state := queue.Waiting
		if key.problem {
			state = queue.Skipped
		}
		var copies [][]string
		for _, to := range slices.Compact(slices.Sorted(slices.Values(asks.To))) {
			copies = append(copies, []string{to, it.Rule, string(state)})
			if key.small(n.plan, to) {
				copies = append(copies, []string{to, it.Rule, string(state), string(plan.Small)})
			}
		}
		list, err := json.Marshal(copies)
		if err != nil {
			return 0, err
		}
		// SQL writes the text, as it does later.
		const text = `(SELECT json_group_array(json(value) ORDER BY key) FROM json_each(?))`
		if _, err := tx.Exec(`INSERT INTO standings (kind, copies) VALUES (?, `+text+`) ON CONFLICT DO NOTHING`, it.Kind,
			string(list)); err != nil {
			return 0, err
		}
		if err := tx.Get(&id, `SELECT id FROM standings WHERE kind = ? AND copies = `+text, it.Kind,
			string(list)); err != nil {
			return 0, err
		}
		n.ids[key], n.total[id] = id, &Standing{}
	}
	n.total[id].N++
	n.total[id].Bytes += it.Size
	return id, nil
}

// count adds them to the counters.
func (n *newcomers) count(tx *transaction) error {
	for id, sum := range n.total {
		if _, err := tx.Exec(`UPDATE standings SET n = n + ?, bytes = bytes + ? WHERE id = ?`, sum.N, sum.Bytes,
			id); err != nil {
			return fmt.Errorf("counting the items: %w", err)
		}
	}
	return nil
}

// Wanted is what a page of items takes.
type Wanted struct {
	// Standing tells whether items that stand so may be taken.
	Standing func(Standing) bool
	// Retrying leaves only items of which a copy waits for its next try (true), or
	// has one that waits and does not (false); nil takes both.
	Retrying *bool
	// LeftOut takes the items that are here and that no rule takes, too, of one kind or, with "", of all.
	LeftOut bool
	Kind    media.Kind
	After   int64 // the last item of the page before, 0 for the first page
	Limit   int
}

// Items lists items, newest first, as they stood at one moment. Each standing is a
// walk along one index.
func (r *Catalogue) Items(ctx context.Context, w Wanted, now time.Time) ([]Item, error) {
	var page []Item
	err := r.view(ctx, "reading a page of items", func(tx *transaction) error {
		all, err := standings(ctx, inTransaction{tx})
		if err != nil {
			return err
		}
		after := ``
		var from []any
		if w.After != 0 {
			var taken int64
			if err := tx.Get(&taken, `SELECT taken_at FROM items WHERE id = ?`, w.After); err != nil {
				return err
			}
			after, from = ` AND (i.taken_at, i.id) < (?, ?)`, []any{taken, w.After}
		}
		if w.Retrying != nil {
			retries := ` AND EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.shelf = '' AND c.state = 'waiting' AND c.not_before > ?)`
			if !*w.Retrying { // a part waits for gates, as the status counts it
				retries = ` AND (EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.shelf = ''
						AND (c.state = 'proving' OR c.state = 'waiting' AND c.not_before <= ?))
					OR EXISTS (SELECT 1 FROM items p JOIN copies c ON c.item = p.id
						WHERE p.part_of = i.id AND p.part_of <> 0 AND c.shelf = '' AND c.state IN ('waiting', 'proving')))`
			}
			from = append(from, ms(now))
			after += retries
		}
		for _, s := range all {
			if !w.Standing(s) {
				continue
			}
			var items []Item
			args := append(append([]any{s.ID}, from...), w.Limit)
			if err := tx.Select(&items, `SELECT * FROM items i WHERE i.standing = ?`+after+
				` ORDER BY i.taken_at DESC, i.id DESC LIMIT ?`, args...); err != nil {
				return err
			}
			page = append(page, items...)
		}
		if !w.LeftOut {
			return nil
		}
		var items []Item
		args := append(append([]any{}, from...), w.Kind, w.Kind, w.Limit)
		err = tx.Select(&items, `SELECT * FROM items i WHERE i.standing = 0 AND i.gone_at = 0 AND i.part_of = 0 AND i.kind <> ''`+
			after+` AND (? = '' OR i.kind = ?) ORDER BY i.taken_at DESC, i.id DESC LIMIT ?`, args...)
		page = append(page, items...)
		return err
	})
	slices.SortFunc(page, NewestItem)
	return page[:min(len(page), w.Limit)], err
}

// inTransaction reads in a transaction, whose context is its own.
type inTransaction struct{ tx *transaction }

func (t inTransaction) SelectContext(_ context.Context, into any, query string, args ...any) error {
	return t.tx.Select(into, query, args...)
}

// NewestItem orders items by capture time, the newest first.
func NewestItem(a, b Item) int {
	return cmp.Or(cmp.Compare(b.TakenMS, a.TakenMS), cmp.Compare(b.ID, a.ID))
}

// CopiesOf reads the copies of items, by item, ordered by destination; the copy itself
// stands before what lies on other shelves, and the main file's before those of its parts.
func (r *Catalogue) CopiesOf(ctx context.Context, items []int64) (map[int64][]Copy, error) {
	of := make(map[int64][]Copy, len(items))
	for some := range slices.Chunk(items, 200) {
		query, args, err := sqlx.In(selectCopy+`WHERE c.item IN (SELECT id FROM items WHERE id IN (?) UNION ALL SELECT id FROM items WHERE part_of <> 0 AND part_of IN (?)) ORDER BY c.destination, c.shelf, i.part_of <> 0, i.name`, some, some)
		if err != nil {
			return nil, fmt.Errorf("reading the copies of items: %w", err)
		}
		var copies []Copy
		if err := r.read.SelectContext(ctx, &copies, query, args...); err != nil {
			return nil, fmt.Errorf("reading the copies of items: %w", err)
		}
		for _, c := range copies {
			whole := c.Item
			if c.PartOf != 0 && slices.Contains(some, c.PartOf) {
				whole = c.PartOf
			}
			of[whole] = append(of[whole], c)
		}
	}
	return of, nil
}

// Find lists items with copies by a name, a path from the source on, or part of a
// name; exact ones first, at most limit.
func (r *Catalogue) Find(ctx context.Context, text string, limit int) ([]Item, error) {
	dir, name := path.Split(text)
	dir = strings.TrimSuffix(dir, "/")
	var items []Item
	query := `SELECT * FROM items i WHERE i.name = ? AND (? = '' OR i.source || CASE i.dir WHEN '.' THEN '' ELSE '/' || i.dir END = ? OR i.dir = ?) ORDER BY i.gone_at, i.taken_at DESC LIMIT ?`
	if err := r.read.SelectContext(ctx, &items, query, name, dir, dir, dir, limit); err != nil {
		return nil, fmt.Errorf("looking for %q: %w", text, err)
	}
	if len(items) > 0 || text == "" || dir != "" {
		return items, nil
	}
	return r.containing(ctx, text, limit)
}

// mostLooked is how many items with the letters of a text are looked at for the text
// itself, the latest found first.
const mostLooked = 2000

// containing lists items on the device whose names contain a text of any case, the
// latest found of them. One or two letters are looked for in every name.
func (r *Catalogue) containing(ctx context.Context, text string, limit int) (items []Item, err error) {
	query, args := `SELECT * FROM items i WHERE `, []any{}
	if match := trigrams(text); match != "" {
		query += `i.id IN (SELECT rowid FROM names WHERE names MATCH ? ORDER BY rowid DESC LIMIT ?) AND `
		args = append(args, match, mostLooked)
	}
	query += `instr(lower(i.name), lower(?)) > 0 AND i.gone_at = 0 ORDER BY i.id DESC LIMIT ?`
	if err := r.read.SelectContext(ctx, &items, query, append(args, text, limit)...); err != nil {
		return nil, fmt.Errorf("looking for %q: %w", text, err)
	}
	slices.SortFunc(items, NewestItem)
	return items, nil
}

// trigrams asks for every three letters in a row of a text, "" for a shorter one
// (sqlite.org/fts5.html, 4.3.4 and, as strings, 3.1).
func trigrams(text string) string {
	letters := []rune(strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "\ufffd"))
	var parts []string
	for i := range max(0, len(letters)-2) {
		parts = append(parts, `"`+strings.ReplaceAll(string(letters[i:i+3]), `"`, `""`)+`"`)
	}
	return strings.Join(parts[:min(len(parts), 32)], " AND ")
}

// nameNew makes new items found by parts of their names, from an id on.
func nameNew(tx *transaction, from int64) error {
	if _, err := tx.Exec(`INSERT INTO names (rowid, name) SELECT id, name FROM items WHERE id >= ? AND kind <> ''`,
		from); err != nil {
		return fmt.Errorf("naming the items: %w", err)
	}
	return nil
}

// An item's key names it for good, outside these records too: its number, after a
// word that was made at random with the records. Records that are begun anew number
// anew, and another word tells it.

const epochFact Fact[string] = "epoch"

func (r *file) readEpoch(ctx context.Context) (string, error) {
	epoch, known, err := epochFact.Read(ctx, &Facts{r})
	if err != nil || known {
		return epoch, err
	}
	b := make([]byte, 5)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	epoch = strings.ToLower(base32.StdEncoding.EncodeToString(b))
	return epoch, epochFact.Keep(ctx, &Facts{r}, epoch)
}

// ForgetEpoch has the records make another word when they are opened next: a copy of a file is not the same records.
func (r *Catalogue) ForgetEpoch(ctx context.Context) error {
	return epochFact.Keep(ctx, &Facts{r.file}, "")
}

// Key is the key of an item.
func (r *Catalogue) Key(item int64) string { return r.epoch + "-" + strconv.FormatInt(item, 36) }

// NoItem tells that a key is no item's of these records.
type NoItem struct{ Key string }

func (e NoItem) Error() string {
	return fmt.Sprintf("there is no item %q here; a list or a search gives the keys that there are", e.Key)
}

// ByKey reads the item of a key; the error is NoItem when there is none.
func (r *Catalogue) ByKey(ctx context.Context, key string) (it Item, err error) {
	number, ours := strings.CutPrefix(key, r.epoch+"-")
	id, perr := strconv.ParseInt(number, 36, 64)
	if !ours || perr != nil || r.Key(id) != key {
		return Item{}, NoItem{key}
	}
	err = r.read.GetContext(ctx, &it, `SELECT * FROM items WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return Item{}, NoItem{key}
	}
	if err != nil {
		return Item{}, fmt.Errorf("reading item %s: %w", key, err)
	}
	return it, nil
}

// IsKey tells whether a key is that of an item's number, in whichever records.
func IsKey(key string, item int64) bool {
	return strings.HasSuffix(key, "-"+strconv.FormatInt(item, 36))
}

// NumberOf is the number of the item that a key names, in whichever records; the error is NoItem for what is no key.
func NumberOf(key string) (int64, error) {
	_, number, is := strings.Cut(key, "-")
	id, err := strconv.ParseInt(number, 36, 64)
	if !is || err != nil || !IsKey(key, id) {
		return 0, NoItem{key}
	}
	return id, nil
}

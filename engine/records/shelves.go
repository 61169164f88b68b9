package records

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// This file keeps what lies beside an item's copies: small ones until the whole is proven,
// and picks, which depend on the marks that people gave the item.

// Marking tells whether an item's marks are known.
type Marking int

// How it stands with an item's marks.
const (
	Unasked Marking = iota // no rule asks
	ToRead
	MarksRead
)

// marking is how it stands with the marks of a new item.
func marking(r plan.Rule, k media.Kind) Marking {
	for _, marked := range plan.Marked {
		if len(r.Also) > 0 && k == marked {
			return ToRead
		}
	}
	return Unasked
}

// Marks are those of an item.
func (i Item) Marks() media.Marks {
	m := media.Marks{Caption: i.Caption, Rating: i.Rating, Keeper: KeeperOf(i.Keeper), Position: PositionOf(i.Placed, i.Lat, i.Lon)}
	_ = json.Unmarshal([]byte(i.Keywords), &m.Keywords) // a device's own word; else there are none
	return m
}

const kindsMarked = `('photo', 'raw', 'graphic', 'video')`

// askMarks has the marks read of the items of a source that a rule takes.
func askMarks(tx *transaction, source, rule string) error {
	_, err := tx.Exec(`UPDATE items SET marked = 1 WHERE marked = 0 AND source = ? AND rule = ? AND gone_at = 0 AND kind IN `+kindsMarked, source, rule)
	return err
}

// placedAt is a position as the records keep it.
func placedAt(p *media.Position) (placed bool, lat, lon int64) {
	if p == nil {
		return false, 0, 0
	}
	return true, int64(math.Round(p.Lat * 1e6)), int64(math.Round(p.Lon * 1e6))
}

// PositionOf is a position of which the records keep whether it is told, and millionths of a degree; nil where it is not.
func PositionOf(placed bool, lat, lon int64) *media.Position {
	if !placed {
		return nil
	}
	return &media.Position{Lat: float64(lat) / 1e6, Lon: float64(lon) / 1e6}
}

// AskMarks has the marks read of some items that are here and of which no rule asks for them: people find them by these.
// They are of the sources that are named: no other can be read now. It tells how many they are.
func (r *Catalogue) AskMarks(ctx context.Context, here []string, most int) (n int64, err error) {
	if len(here) == 0 {
		return 0, nil
	}
	of, err := json.Marshal(here)
	if err != nil {
		return 0, fmt.Errorf("asking for marks: %w", err)
	}
	err = r.tx(ctx, "asking for marks", func(tx *transaction) error {
		res, err := tx.Exec(`UPDATE items SET marked = 1 WHERE id IN (SELECT id FROM items INDEXED BY items_unasked
			WHERE marked = 0 AND gone_at = 0 AND part_of = 0 AND made_from = '' AND problem = '' AND kind IN ('photo', 'raw', 'graphic')
				AND source IN (SELECT value FROM json_each(?)) LIMIT ?)`, string(of), most)
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}

// LeaveMarks takes back that the marks of an item are to be read.
func (r *Catalogue) LeaveMarks(ctx context.Context, it Item) error {
	if _, err := r.write.ExecContext(ctx, `UPDATE items SET marked = 0 WHERE id = ? AND marked = 1`, it.ID); err != nil {
		return fmt.Errorf("leaving the marks of item %d: %w", it.ID, err)
	}
	return nil
}

// sidecar is how the name of a file with another's marks ends (XMP, part 3, 2).
const sidecar = ".xmp"

// markAnew has the marks of items read again whose sidecar is new.
func markAnew(tx *transaction, of Item) error {
	if len(of.Name) <= len(sidecar) || !strings.EqualFold(of.Name[len(of.Name)-len(sidecar):], sidecar) {
		return nil
	}
	stem := of.Name[:len(of.Name)-len(sidecar)]
	_, err := tx.Exec(`UPDATE items SET marked = 1 WHERE marked = 2 AND source = ? AND dir = ? AND gone_at = 0 AND kind IN `+kindsMarked+` AND (name = ? OR substr(name, 1, length(?)) = ?)`,
		of.Source, of.Dir, stem, stem+".", stem+".")
	return err
}

// Unmarked lists items whose marks are to be read.
func (r *Catalogue) Unmarked(ctx context.Context, most int) ([]Item, error) {
	var items []Item
	if err := r.read.SelectContext(ctx, &items,
		`SELECT * FROM items INDEXED BY items_unmarked WHERE marked = 1 AND gone_at = 0 ORDER BY id LIMIT ?`,
		most); err != nil {
		return nil, fmt.Errorf("reading whose marks are to be read: %w", err)
	}
	return items, nil
}

// notMarked is said of picks that were not sent before the mark went.
const notMarked = "It no longer carries the mark."

// keeperText is what the keeper said as a row has it.
func keeperText(k media.Keeper) (string, error) {
	if k.Nothing() {
		return "", nil
	}
	text, err := json.Marshal(k)
	if err != nil {
		return "", fmt.Errorf("writing what the keeper said: %w", err)
	}
	return string(text), nil
}

// KeeperOf reads what the keeper said of an item.
func KeeperOf(text string) (k media.Keeper) {
	if text != "" {
		_ = json.Unmarshal([]byte(text), &k) // we wrote it; of a mirror it was looked at before
	}
	return k
}

// SetKeeper keeps what the keeper said of an item that has no file here to say it beside.
func (r *Catalogue) SetKeeper(ctx context.Context, id int64, k media.Keeper) error {
	text, err := keeperText(k)
	if err == nil {
		_, err = r.write.ExecContext(ctx, `UPDATE items SET keeper = ? WHERE id = ?`, text, id)
	}
	if err != nil {
		return fmt.Errorf("keeping what the keeper said of item %d: %w", id, err)
	}
	return nil
}

// SetMarks keeps the marks of an item, and makes the picks that follow.
func (r *Catalogue) SetMarks(ctx context.Context, it Item, m media.Marks, p *plan.Plan, now time.Time) error {
	lower := make([]string, len(m.Keywords))
	for i, k := range m.Keywords {
		lower[i] = strings.ToLower(strings.TrimSpace(k))
	}
	words, err := json.Marshal(lower)
	if err != nil {
		return fmt.Errorf("writing the keywords of item %d: %w", it.ID, err)
	}
	said, err := keeperText(m.Keeper)
	if err != nil {
		return err
	}
	return r.tx(ctx, fmt.Sprintf("keeping the marks of item %d", it.ID), func(tx *transaction) error {
		placed, lat, lon := placedAt(m.Position)
		if _, err := tx.Exec(`UPDATE items SET marked = 2, caption = ?, rating = ?, keywords = ?, placed = ?, lat = ?, lon = ?, keeper = ? WHERE id = ?`,
			m.Caption, m.Rating, string(words), placed, lat, lon, said, it.ID); err != nil {
			return err
		}
		var rule string
		if err := tx.Get(&rule, `SELECT rule FROM items WHERE id = ?`, it.ID); err != nil {
			return err
		}
		for _, on := range p.Picks(rule) {
			const these = `item = ? AND shelf = ? AND `
			if !on.When.Fits(media.Marks{Caption: m.Caption, Rating: m.Rating, Keywords: lower, Keeper: m.Keeper}) {
				if err := moveAll(tx, now, queue.Skipped, notMarked, these+`state IN ('waiting', 'stuck')`, it.ID,
					on.Shelf); err != nil {
					return err
				}
				continue
			}
			if err := moveAll(tx, now, queue.Waiting, "It carries the mark again.", these+`state = 'skipped' AND says = ?`,
				it.ID, on.Shelf, notMarked); err != nil {
				return err
			}
			for _, destination := range p.Rules[rule].To {
				if _, err := stock(tx, now, it.Source, rule, destination, on, 0, it.ID); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// carrying asks in SQL what plan.Mark.Fits asks of an item's marks.
func carrying(m plan.Mark) (where string, word any) {
	switch {
	case m.Captioned:
		return `trim(i.caption, ?) <> ''`, " \t\r\n"
	case m.Rated > 0:
		return `i.rating >= ?`, m.Rated
	case m.Marked:
		return `i.keeper <> '' AND i.keeper ->> 'marked' = ?`, 1
	case m.Set != "":
		return `i.keeper <> '' AND EXISTS (SELECT 1 FROM json_each(i.keeper, '$.sets') WHERE value = ?)`, m.Set
	}
	return `EXISTS (SELECT 1 FROM json_each(i.keywords) WHERE value = ?)`, strings.ToLower(m.Keyword)
}

// endSmall has no small copy sent any more of what is safe now. One whose send was cut may lie
// there, and so may somebody else's with the same bytes: it stays, and that is told.
func endSmall(tx *transaction, id int64, now time.Time) error {
	var small []Copy
	err := tx.Select(&small, `SELECT s.id, s.remote FROM copies c JOIN copies s ON s.item = c.item AND s.destination = c.destination AND s.shelf = 'small'
		WHERE c.id = ? AND c.shelf = '' AND +s.state IN ('waiting', 'stuck')`, id)
	if err != nil || len(small) == 0 {
		return err
	}
	says := "The whole of it is safe there."
	if at := small[0].Remote; at != "" {
		says += " The send of the small one was cut: what lies at " + at + " stays."
	}
	return moveAll(tx, now, queue.Skipped, says, `id = ?`, small[0].ID)
}

// withdrawn ends the temporary names of what is taken out of its place (see
// destination.Withdrawn): it may be anybody's, and no sweep removes it.
const withdrawn = ".out"

// Superseded finds the next small copy at a destination that lies there beside its whole,
// which is safe: it may be removed. Whole is where that lies. What was postponed past now is
// left out.
func (r *Shelves) Superseded(ctx context.Context, destination string,
	now time.Time) (small, whole Copy, ok bool, err error) {
	small, ok, err = r.one(ctx, selectCopy+`JOIN copies m ON m.item = c.item AND m.destination = c.destination AND m.shelf = '' AND m.state = 'safe' AND m.remote <> c.remote
		WHERE c.destination = ? AND c.shelf = 'small' AND c.state = 'safe' AND c.not_before <= ? ORDER BY c.id LIMIT 1`, destination, ms(now))
	if err != nil || !ok {
		return small, whole, false, err
	}
	whole, ok, err = r.one(ctx, selectCopy+`WHERE c.item = ? AND c.destination = ? AND c.shelf = ''`, small.Item,
		destination)
	return small, whole, ok, err
}

// Postpone has a small copy that could not be removed left alone until a time.
func (r *Shelves) Postpone(ctx context.Context, id int64, tries int, until time.Time) error {
	return r.tx(ctx, fmt.Sprintf("postponing the removal of copy %d", id), func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE copies SET tries = ?, not_before = ? WHERE id = ? AND shelf = 'small'`, tries, ms(until),
			id)
		return err
	})
}

// Postponed is when the first small copy at a destination that was postponed is due; zero
// without one.
func (r *Shelves) Postponed(ctx context.Context, destination string) (time.Time, error) {
	var at int64
	err := r.read.GetContext(ctx, &at, `SELECT coalesce(min(not_before), 0) FROM copies c WHERE c.destination = ? AND c.shelf = 'small' AND c.state = 'safe' AND c.not_before > 0`, destination)
	if err != nil {
		return time.Time{}, fmt.Errorf("reading when small copies at %s are due: %w", destination, err)
	}
	return FromMS(at), nil
}

// HandOn tells whether another copy rests on what a small copy put in place. That one is
// then noted as having put it there.
func (r *Shelves) HandOn(ctx context.Context, small Copy) (shared bool, err error) {
	err = r.tx(ctx, fmt.Sprintf("handing on what copy %d put in place", small.ID), func(tx *transaction) error {
		res, err := tx.Exec(`UPDATE copies SET landed = 1 WHERE id = (SELECT id FROM copies WHERE destination = ? AND remote = ? AND remote <> '' AND id <> ? AND state IN ('safe', 'proving') ORDER BY id LIMIT 1)`,
			small.Destination, small.Remote, small.ID)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		shared = n > 0
		return err
	})
	return shared, err
}

// Withdraw notes under which temporary name what was a small copy lies from now on, ""
// where it lies in its place.
func (r *Shelves) Withdraw(ctx context.Context, id int64, temp string) error {
	return r.durably(ctx, fmt.Sprintf("noting that copy %d is withdrawn", id), func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE copies SET temp = ? WHERE id = ? AND shelf = 'small'`, temp, id)
		return err
	})
}

// Beside counts what lies on the shelves of destinations and what is still to go there.
func Beside(counters []Counter) map[plan.Shelf]map[queue.State]Sum {
	all := map[plan.Shelf]map[queue.State]Sum{}
	for _, c := range counters {
		on := c.Shelf
		if on.IsPick() {
			on = plan.PickShelf("")
		}
		if on == plan.Main || c.N == 0 {
			continue
		}
		if all[on] == nil {
			all[on] = map[queue.State]Sum{}
		}
		sum := all[on][c.State]
		all[on][c.State] = Sum{N: sum.N + c.N, Bytes: sum.Bytes + c.Bytes}
	}
	return all
}

// MainCopy reads the copy itself of a small one, or whatever else lies beside it.
func (r *Queue) MainCopy(ctx context.Context, of Copy) (Copy, bool, error) {
	return r.CopyAt(ctx, of.Item, of.Destination)
}

// CopyAt reads the copy itself of an item at a destination.
func (r *Queue) CopyAt(ctx context.Context, item int64, destination string) (Copy, bool, error) {
	return r.one(ctx, selectCopy+`WHERE c.item = ? AND c.destination = ? AND c.shelf = ''`, item, destination)
}

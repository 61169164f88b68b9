package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// Item is one file found in a source, as it was when it was last read.
type Item struct {
	ID          int64          `db:"id"`
	Source      string         `db:"source"`
	Dir         string         `db:"dir"` // relative to the source, "." for the source itself
	Name        string         `db:"name"`
	Size        int64          `db:"size"`
	MTime       int64          `db:"mtime"` // nanoseconds since 1970
	Inode       int64          `db:"inode"`
	CTime       int64          `db:"ctime"` // nanoseconds since 1970, 0 where the system has none
	ContentType string         `db:"content_type"`
	Kind        media.Kind     `db:"kind"` // "" for what is not media
	TakenMS     int64          `db:"taken_at"`
	TakenZone   int            `db:"taken_zone"` // seconds east of UTC
	TakenFrom   media.TimeFrom `db:"taken_from"`
	Look        string         `db:"look"` // of its first and last bytes: files that differ here differ
	Problem     string         `db:"problem"`
	SHA256      string         `db:"sha256"`
	Standing    int64          `db:"standing"` // 0 while it has no copies
	Rule        string         `db:"rule"`     // that takes it, "" for what is left out
	Seconds     int64          `db:"seconds"`  // how long a clip lasts
	FoundMS     int64          `db:"found_at"`
	GoneMS      int64          `db:"gone_at"`
	Camera      string         `db:"camera"`  // its model, "" where the header does not tell
	Marked      Marking        `db:"marked"`  // whether its marks are known
	Caption     string         `db:"caption"` // these three, once they are
	Rating      int            `db:"rating"`
	Keywords    string         `db:"keywords"`  // JSON, in lower case
	PartOf      int64          `db:"part_of"`   // the item whose part the file is, 0 for a main file
	OwnRule     string         `db:"own_rule"`  // that would take it by itself
	AllBytes    int64          `db:"all_bytes"` // with those of its parts
	Pair        string         `db:"pair"`      // what its camera wrote into a still and its clip alike
	// These are known of what lies in a library of which only originals are taken.
	Sorted   bool   `db:"sorted"`    // its smaller versions were told from originals
	MadeFrom string `db:"made_from"` // whose smaller version it is, or the tag of its cache; "" for an original
	// Where it was taken, in millionths of a degree, where Placed says that its header tells.
	Placed bool   `db:"placed"`
	Lat    int64  `db:"lat"`
	Lon    int64  `db:"lon"`
	Keeper string `db:"keeper"` // what the keeper said, JSON; "" for nothing
	// Older is set once a newer version took the item's path.
	Older Older `db:"older"`
}

// Older is what an edit on the device made of the item that had been under the path.
type Older int

// An older version counts like any item, or its rule asks for the newest alone.
const (
	OlderCounts Older = 1
	OlderIsLeft Older = 2
)

// olderBy is what becomes of the older version of an item that a rule takes.
func olderBy(r plan.Rule) Older {
	if r.Versions == plan.NewestVersion {
		return OlderIsLeft
	}
	return OlderCounts
}

// Path is the item's path below its source.
func (i Item) Path() string { return path.Join(i.Dir, i.Name) }

// FullPath is the item's path on its device, from its source on.
func (i Item) FullPath() string { return path.Join(i.Source, i.Dir, i.Name) }

// TakenAt is the capture time in the zone where it was taken.
func (i Item) TakenAt() time.Time {
	return time.UnixMilli(i.TakenMS).In(time.FixedZone("", i.TakenZone))
}

// Lying is the item as one of which a plan decides whether it is taken up.
func (i Item) Found() plan.File {
	f := found(i.Path(), i.Kind, i.Size, i.TakenAt(), i.Seconds, i.FoundMS, max(i.CTime, i.MTime))
	f.Sorted, f.MadeFrom = i.Sorted, i.MadeFrom
	return f
}

// found is what a plan decides by. When a file came is when it was found, or when it
// was last changed, if that was earlier: what lay there long ago is found only when its
// folder is first walked.
func found(path string, kind media.Kind, bytes int64, taken time.Time, seconds, foundMS, changed int64) plan.File {
	return plan.File{Path: path, Kind: kind, Bytes: bytes, Taken: taken, Seconds: seconds,
		Came: time.UnixMilli(min(foundMS, changed/1e6))}
}

// Stamp tells a file that is known from another under its path.
type Stamp struct {
	Dir   string `db:"dir"`
	Name  string `db:"name"`
	Size  int64  `db:"size"`
	MTime int64  `db:"mtime"`
	Inode int64  `db:"inode"`
	CTime int64  `db:"ctime"`
}

// MostStamps is how many stamps Stamps lists at most.
const MostStamps = 4096

// Stamps lists what is known of the folders of a source, from one on in the order of their
// names as bytes.
func (r *Catalogue) Stamps(ctx context.Context, source, from string) ([]Stamp, error) {
	var list []Stamp
	if err := r.read.SelectContext(ctx, &list,
		`SELECT dir, name, size, mtime, inode, ctime FROM items WHERE source = ? AND dir >= ? AND gone_at = 0 ORDER BY dir LIMIT `+strconv.Itoa(MostStamps), source, from); err != nil {
		return nil, fmt.Errorf("reading the items of %s from %s on: %w", source, from, err)
	}
	return list, nil
}

// Dir lists what is known of one folder of a source.
func (r *Catalogue) Dir(ctx context.Context, source, dir string) ([]Stamp, error) {
	var list []Stamp
	if err := r.read.SelectContext(ctx, &list,
		`SELECT dir, name, size, mtime, inode, ctime FROM items WHERE source = ? AND dir = ? AND gone_at = 0`,
		source, dir); err != nil {
		return nil, fmt.Errorf("reading the items of %s/%s: %w", source, dir, err)
	}
	return list, nil
}

// Here reads the item that is known at a path of a source; ok is false when
// there is none.
func (r *Catalogue) Here(ctx context.Context, source, dir, name string) (it Item, ok bool, err error) {
	err = r.read.GetContext(ctx, &it, `SELECT * FROM items WHERE source = ? AND dir = ? AND name = ? AND gone_at = 0`,
		source, dir, name)
	if errors.Is(err, sql.ErrNoRows) {
		return Item{}, false, nil
	}
	if err != nil {
		return Item{}, false, fmt.Errorf("reading the item of %s/%s/%s: %w", source, dir, name, err)
	}
	return it, true, nil
}

// Dirs lists the folders of a source in which items are known.
func (r *Catalogue) Dirs(ctx context.Context, source string) ([]string, error) {
	var dirs []string
	err := r.read.SelectContext(ctx, &dirs, `SELECT DISTINCT dir FROM items WHERE source = ? AND gone_at = 0`, source)
	if err != nil {
		return nil, fmt.Errorf("reading the folders of %s: %w", source, err)
	}
	return dirs, nil
}

const insertItem = `INSERT INTO items (source, dir, name, size, mtime, inode, ctime, content_type, kind, taken_at, taken_zone, taken_from, look, problem, sha256, found_at, standing, rule, seconds, camera, marked, own_rule, all_bytes, pair)
 VALUES (:source, :dir, :name, :size, :mtime, :inode, :ctime, :content_type, :kind, :taken_at, :taken_zone, :taken_from, :look, :problem, :sha256, :found_at, :standing, :rule, :seconds, :camera, :marked, :rule, :size, :pair)`

// Admit takes new or changed items in, in one transaction, with the copies that their
// rules ask for; all of one source. An item under a known path takes the place of the
// earlier one, whose copies keep their story.
func (r *Catalogue) Admit(ctx context.Context, items []Item, p *plan.Plan, now time.Time) error {
	items = lastOfEach(items)
	return r.tx(ctx, "taking in items", func(tx *transaction) error {
		var first int64
		insert, err := tx.PrepareNamed(insertItem)
		if err != nil {
			return err
		}
		here, err := tx.Preparex(itemHere)
		if err != nil {
			return err
		}
		news := newcomers{plan: p}
		for _, it := range items {
			it.FoundMS, it.Marked = ms(now), marking(p.Rules[it.Rule], it.Kind)
			if it.Standing, err = news.stand(tx, it); err != nil {
				return err
			}
			res, err := insert.Exec(it)
			if isTaken(err) { // most are new: that one is known under the path shows here
				if err = outdate(tx, here, now, it, p); err == nil {
					res, err = insert.Exec(it)
				}
			}
			if err != nil {
				return fmt.Errorf("%q: %w", it.Path(), err)
			}
			id, err := res.LastInsertId()
			if err != nil {
				return err
			}
			if first == 0 {
				first = id
			}
			if err := markAnew(tx, it); err != nil {
				return err
			}
		}
		if err := news.count(tx); err != nil {
			return err
		}
		for _, rule := range slices.Compact(slices.Sorted(ruleNames(items))) {
			if _, err := makeCopies(tx, now, items[0].Source, rule, p, first); err != nil {
				return err
			}
		}
		if err := nameNew(tx, first); err != nil {
			return err
		}
		names := make([][2]string, len(items))
		for i, it := range items {
			names[i] = [2]string{it.Dir, it.Name}
		}
		changes, err := relateNames(tx, items[0].Source, names, p)
		if err != nil {
			return err
		}
		return settleParts(tx, now, items[0].Source, changes, p)
	})
}

// lastOfEach leaves out what was found under a path before something else was found there: the
// records never knew of it.
func lastOfEach(items []Item) []Item {
	last := make(map[[3]string]int, len(items))
	for i, it := range items {
		last[[3]string{it.Source, it.Dir, it.Name}] = i
	}
	if len(last) == len(items) {
		return items
	}
	var left []Item
	for i, it := range items {
		if last[[3]string{it.Source, it.Dir, it.Name}] == i {
			left = append(left, it)
		}
	}
	return left
}

// ruleNames are the rules that take items.
func ruleNames(items []Item) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, it := range items {
			if it.Rule != "" && !yield(it.Rule) {
				return
			}
		}
	}
}

// isTaken tells that a row was refused as its key is taken.
func isTaken(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE
}

// Touch notes that a file's times changed and its content did not.
func (r *Catalogue) Touch(ctx context.Context, it Item) error {
	_, err := r.write.NamedExecContext(ctx, `UPDATE items SET mtime = :mtime, inode = :inode, ctime = :ctime, sha256 = :sha256 WHERE id = :id`, it)
	if err != nil {
		return fmt.Errorf("noting that %q was touched: %w", it.Path(), err)
	}
	return nil
}

// Gone notes that files are no longer there. Copies that were not sent are
// skipped; what is safe stays safe.
func (r *Catalogue) Gone(ctx context.Context, source, dir string, names []string, p *plan.Plan, now time.Time) error {
	return r.tx(ctx, "noting what is gone", func(tx *transaction) error {
		here, err := tx.Preparex(itemHere)
		if err != nil {
			return err
		}
		for _, name := range names {
			if _, err := leave(tx, here, now, "The file is no longer on the device.", source, dir, name); err != nil {
				return err
			}
		}
		beside := make([][2]string, len(names))
		for i, name := range names {
			beside[i] = [2]string{dir, name}
		}
		changes, err := relateNames(tx, source, beside, p)
		if err != nil {
			return err
		}
		return settleParts(tx, now, source, changes, p)
	})
}

const itemHere = `SELECT id FROM items WHERE source = ? AND dir = ? AND name = ? AND gone_at = 0`

// leave marks the current item of a path as gone and skips what it had waiting. It returns the item's id, 0 if
// there is none.
func leave(tx *transaction, here *sqlx.Stmt, now time.Time, says, source, dir, name string) (id int64, err error) {
	err = here.Get(&id, source, dir, name)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	if err := moveAll(tx, now, queue.Skipped, says, `item = ? AND +state IN ('waiting', 'stuck')`, id); err != nil {
		return 0, err
	}
	_, err = tx.Exec(`UPDATE items SET gone_at = ? WHERE id = ?`, ms(now), id)
	return id, err
}

// outdate makes the current item of a path an older version of a newcomer.
func outdate(tx *transaction, here *sqlx.Stmt, now time.Time, newer Item, p *plan.Plan) error {
	id, err := leave(tx, here, now, "The file was changed; its new content has a copy of its own.", newer.Source, newer.Dir,
		newer.Name)
	if err != nil || id == 0 {
		return err
	}
	var rule string
	if err := tx.Get(&rule, `SELECT rule FROM items WHERE id = ?`, id); err != nil {
		return err
	}
	as := olderBy(p.Rules[rule])
	if _, err := tx.Exec(`UPDATE items SET older = ? WHERE id = ?`, as, id); err != nil || as == OlderCounts {
		return err // counted it is already
	}
	return stand(tx, `i.id = ?`, id)
}

// settleOlder has a rule say anew whether the older versions of its items in a source count.
func settleOlder(tx *transaction, source, rule string, p *plan.Plan) error {
	const its = `i.older <> 0 AND i.source = ? AND i.rule = ?`
	var some bool
	as := olderBy(p.Rules[rule])
	if err := tx.Get(&some, `SELECT EXISTS (SELECT 1 FROM items i WHERE `+its+` AND i.older <> ?)`, source, rule, as); err != nil || !some {
		return err
	}
	if _, err := tx.Exec(`UPDATE items AS i SET older = ? WHERE `+its, as, source, rule); err != nil {
		return err
	}
	return stand(tx, its, source, rule)
}

// moveAll takes every copy that matches to a state, with a line in its story.
func moveAll(tx *transaction, now time.Time, to queue.State, says, where string, args ...any) error {
	if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, ?, ? FROM copies WHERE `+where,
		append([]any{ms(now), to, says}, args...)...); err != nil {
		return err
	}
	_, err := tx.Exec(`UPDATE copies SET state = ?, says = ?, todo = '', ordered = '', not_before = 0, tries = 0, changed_at = ? WHERE `+where, append([]any{to, says, ms(now)}, args...)...)
	return err
}

// Apply brings the items and copies of a device in line with its plan: which rule takes
// each item is decided anew, wanted copies are made, or taken up again, the rest that
// had not been sent is skipped. What is applied is on record: the same again, as at a
// start, reads no row, and each step looks there (see Step).
func (r *Catalogue) Apply(ctx context.Context, p *plan.Plan, device string, now time.Time) error {
	asked, err := json.Marshal(asks(p, device))
	if err != nil {
		return fmt.Errorf("applying the plan: %w", err)
	}
	return r.tx(ctx, "applying the plan", func(tx *transaction) error {
		var applied string
		if err := tx.Get(&applied, `SELECT value FROM facts WHERE name = '`+appliedFact+`'`); err != nil &&
			!errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if applied == string(asked) {
			return nil
		}
		if _, err := tx.Exec(setFact, appliedFact, string(asked)); err != nil {
			return err
		}
		for _, s := range p.Devices[device].Sources {
			if err := choose(tx, s.Folder, p.Chooser(s, p.Zone(device)), p); err != nil {
				return err
			}
			if err := want(tx, now, s, p); err != nil {
				return err
			}
		}
		return unwant(tx, now)
	})
}

// appliedFact is the name of the fact that tells what plan the copies are in line with.
const appliedFact = "applied by place"

// asked is what a plan asks of a source's items.
type asked struct {
	Folder string
	Scope  plan.Scope
	Zone   string
	Rules  []askedRule
}

type askedRule struct {
	Name       string
	Take       []media.Kind
	Larger     plan.Size
	Longer     plan.Minutes
	To         []askedPlace
	Companions []media.Companion
	Withheld   []media.Kind // of which not everything is told: companions may stay
	Versions   plan.Versions
}

// askedPlace is what a rule asks of a destination: its shelves, the copy itself first.
type askedPlace struct {
	Destination string
	Shelves     []plan.Stocked
}

func asks(p *plan.Plan, device string) []asked {
	list := []asked{}
	for _, s := range p.Devices[device].Sources {
		one := asked{Folder: s.Folder, Scope: s.Scope, Zone: p.Zone(device).String()}
		for _, name := range s.Rules {
			r := p.Rules[name]
			is := askedRule{name, r.Take, r.LargerThan, r.LongerThan, nil, r.Companions, p.Withholds(name), r.Versions}
			for _, to := range r.To {
				is.To = append(is.To, askedPlace{to, stocked(p, name, to)})
			}
			one.Rules = append(one.Rules, is)
		}
		list = append(list, one)
	}
	return list
}

// choose decides anew which rule takes each file of a source, and what belongs together.
func choose(tx *transaction, source string, by plan.Chooser, p *plan.Plan) error {
	rows, err := tx.Query(`SELECT id, dir, name, size, kind, taken_at, taken_zone, seconds, max(ctime, mtime), found_at, rule, own_rule, part_of, pair, sorted, made_from FROM items WHERE source = ? AND gone_at = 0 ORDER BY dir, name`, source)
	if err != nil {
		return err
	}
	defer rows.Close()
	own := map[string][]int64{}
	var changes []belongs
	var beside []member // of one folder, whose stems may be the same
	related := func() {
		slices.SortStableFunc(beside, func(a, b member) int { return compare(media.Stem(a.Name), media.Stem(b.Name)) })
		inGroups(beside, func(group []member) { changes = append(changes, relate(group, p)...) })
		beside = beside[:0]
	}
	for rows.Next() {
		var it Item
		if err := rows.Scan(&it.ID, &it.Dir, &it.Name, &it.Size, &it.Kind, &it.TakenMS, &it.TakenZone, &it.Seconds,
			&it.MTime, &it.FoundMS, &it.Rule, &it.OwnRule, &it.PartOf, &it.Pair, &it.Sorted, &it.MadeFrom); err != nil {
			return err
		}
		rule, _ := by.Choose(it.Found())
		if rule != it.OwnRule {
			own[rule] = append(own[rule], it.ID)
		}
		if n := len(beside); n > 0 && (beside[n-1].Dir != it.Dir || !mayBelong(beside[0].Name, it.Name)) {
			related()
		}
		beside = append(beside, member{it.ID, it.Dir, it.Name, it.Kind, it.Seconds, it.Pair, it.PartOf, it.Rule, rule})
	}
	related()
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	if err := setRules(tx, `own_rule`, own); err != nil {
		return err
	}
	// Where nothing else changes but the rule, the counts stay: copies follow it later.
	byRule := map[string][]int64{}
	changes = slices.DeleteFunc(changes, func(c belongs) bool {
		if c.PartOf != c.was {
			return false
		}
		byRule[c.Rule] = append(byRule[c.Rule], c.ID)
		return true
	})
	if err := setRules(tx, `rule`, byRule); err != nil {
		return err
	}
	for some := range slices.Chunk(changes, 5_000) {
		if err := restand(tx, some, nil); err != nil {
			return err
		}
		ids := make([]int64, 0, 3*len(some))
		for _, c := range some {
			ids = append(ids, c.ID, c.PartOf, c.was)
		}
		text, err := list(ids)
		if err != nil {
			return err
		}
		if err := stand(tx, `i.id IN (SELECT value FROM json_each(?))`, text); err != nil {
			return err
		}
	}
	return nil
}

// setRules notes which rule takes items, in a column.
func setRules(tx *transaction, column string, rules map[string][]int64) error {
	for rule, ids := range rules {
		for some := range slices.Chunk(ids, 10_000) {
			text, err := list(some)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE items SET `+column+` = ? WHERE id IN (SELECT value FROM json_each(?))`, rule,
				text); err != nil {
				return err
			}
		}
	}
	return nil
}

// mayBelong tells, of names in order, whether the later may have the stem of the earlier.
func mayBelong(first, later string) bool {
	at, _, _ := strings.Cut(first, ".")
	return strings.HasPrefix(later, at)
}

// stocked are all the shelves of a rule at a destination, the copy itself first.
func stocked(p *plan.Plan, rule, destination string) []plan.Stocked {
	return append([]plan.Stocked{{Shelf: plan.Main, Kinds: p.Rules[rule].Carried()}}, p.Shelves(rule, destination)...)
}

// want brings the copies of a source's items in line with what their rules ask: missing
// ones are made, others take the rule's name, and those that an earlier plan did not
// ask for are taken up again.
func want(tx *transaction, now time.Time, s plan.Source, p *plan.Plan) error {
	made := int64(0)
	for _, rule := range s.Rules {
		if len(p.Rules[rule].Also) > 0 {
			if err := askMarks(tx, s.Folder, rule); err != nil {
				return err
			}
		}
		n, err := makeCopies(tx, now, s.Folder, rule, p, 0)
		if err != nil {
			return err
		}
		made += n
		if err := settleOlder(tx, s.Folder, rule, p); err != nil {
			return err
		}
		for _, destination := range p.Rules[rule].To {
			mine := `destination = ? AND item IN (SELECT i.id FROM items i WHERE i.source = ? AND i.gone_at = 0 AND i.rule = ?)`
			if _, err := tx.Exec(`UPDATE copies SET rule = ? WHERE rule <> ? AND `+mine, rule, rule, destination, s.Folder,
				rule); err != nil {
				return err
			}
			for _, on := range stocked(p, rule, destination) {
				kinds, err := json.Marshal(on.Kinds)
				if err != nil {
					return err
				}
				if err := moveAll(tx, now, queue.Waiting, "The plan asks for it again.",
					`state = 'skipped' AND says = ? AND shelf = ? AND kind IN (SELECT value FROM json_each(?)) AND `+mine,
					queue.NotAsked, on.Shelf, string(kinds), destination, s.Folder, rule); err != nil {
					return err
				}
			}
		}
	}
	if made == 0 {
		return nil
	}
	return stand(tx, `+i.source = ?`, s.Folder)
}

// makeCopies makes the copies that a rule asks of a source's items at destinations and
// that are not there, from an item id on. Ids only grow. It returns how many.
func makeCopies(tx *transaction, now time.Time, source, rule string, p *plan.Plan, from int64) (made int64, err error) {
	for _, destination := range p.Rules[rule].To {
		for _, on := range stocked(p, rule, destination) {
			n, err := stock(tx, now, source, rule, destination, on, from, 0)
			if err != nil {
				return made, err
			}
			made += n
		}
	}
	return made, nil
}

// stock makes the copies that are asked for on one shelf of a destination and are not
// there, of the items from an id on, or of one alone.
func stock(tx *transaction, now time.Time, source, rule, destination string, on plan.Stocked, from,
	one int64) (made int64, err error) {
	where, args := `i.id >= ?`, []any{from}
	if one != 0 {
		where, args = `i.id = ?`, []any{one}
	}
	where += ` AND +i.source = ? AND i.gone_at = 0 AND i.rule = ? AND NOT EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.destination = ? AND c.shelf = ?)`
	args = append(args, source, rule, destination, on.Shelf)
	if on.Shelf != plan.Main { // of the main file alone
		where += ` AND i.part_of = 0`
		kinds, err := json.Marshal(on.Kinds)
		if err != nil {
			return 0, err
		}
		where, args = where+` AND i.kind IN (SELECT value FROM json_each(?))`, append(args, string(kinds))
	}
	if on.Shelf == plan.Small { // of what is safe there it comes too late
		where, args = where+` AND NOT EXISTS (SELECT 1 FROM copies c WHERE c.item = i.id AND c.destination = ? AND c.shelf = '' AND c.state = 'safe')`, append(args, destination)
	}
	if on.HEIC {
		where += ` AND i.content_type IN ('image/heic', 'image/heif')`
	}
	if on.When != (plan.Mark{}) {
		carries, word := carrying(on.When)
		where, args = where+` AND i.marked = 2 AND `+carries, append(args, word)
	}
	res, err := tx.Exec(`INSERT INTO copies (item, destination, rule, kind, shelf, state, bytes, taken_at, says, changed_at)
		SELECT i.id, ?, ?, i.kind, ?, CASE WHEN i.problem = '' THEN 'waiting' ELSE 'skipped' END, i.size, i.taken_at, i.problem, ? FROM items i WHERE `+where,
		append([]any{destination, rule, on.Shelf, ms(now)}, args...)...)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// resting are the states of copies that nobody carries and that may not stay as they
// are when the plan no longer asks for them. (Who carries one sees to it at its next
// step.)
var resting = []queue.State{queue.Waiting, queue.Stuck, queue.Proving}

// unasked finds the copies that the applied plan does not ask for, older versions among them;
// before one was applied there are none.
const unasked = `SELECT c.id FROM copies c JOIN items i ON i.id = c.item
	LEFT JOIN (SELECT DISTINCT s.value ->> 'Folder' source, u.value ->> 'Name' rule, t.value ->> 'Destination' destination, h.value ->> 'Shelf' shelf, k.value kind
		FROM facts f, json_each(f.value) s, json_each(s.value, '$.Rules') u, json_each(u.value, '$.To') t, json_each(t.value, '$.Shelves') h, json_each(h.value, '$.Kinds') k
		WHERE f.name = '` + appliedFact + `') w ON w.source = i.source AND w.destination = c.destination AND w.rule = i.rule AND w.shelf = c.shelf AND w.kind = c.kind
	WHERE (w.source IS NULL OR i.older = 2) AND EXISTS (SELECT 1 FROM facts WHERE name = '` + appliedFact + `') AND `

// unwant skips copies that no source and rule ask for.
func unwant(tx *transaction, now time.Time) error {
	return moveAll(tx, now, queue.Skipped, queue.NotAsked, `id IN (`+unasked+`c.state IN ('waiting', 'stuck', 'proving'))`)
}

// isUnasked tells whether a copy that comes to rest in a state is one that the plan
// no longer asks for.
func isUnasked(tx *transaction, id int64, to queue.State) (is bool, err error) {
	if !slices.Contains(resting, to) {
		return false, nil
	}
	err = tx.Get(&is, `SELECT EXISTS (`+unasked+`c.id = ?)`, id)
	return is, err
}

// AddItems reads the items of copies that are not in a map yet into it.
func (r *Catalogue) AddItems(ctx context.Context, copies []Copy, into map[int64]Item) error {
	var ids []int64
	for _, c := range copies {
		if _, known := into[c.Item]; !known {
			ids = append(ids, c.Item)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	list, err := json.Marshal(ids)
	if err != nil {
		return fmt.Errorf("reading items: %w", err)
	}
	var items []Item
	if err := r.read.SelectContext(ctx, &items, `SELECT * FROM items WHERE id IN (SELECT value FROM json_each(?))`,
		string(list)); err != nil {
		return fmt.Errorf("reading items: %w", err)
	}
	for _, it := range items {
		into[it.ID] = it
	}
	return nil
}

// Item reads one item; ok is false when there is none.
func (r *Catalogue) Item(ctx context.Context, id int64) (it Item, ok bool, err error) {
	err = r.read.GetContext(ctx, &it, `SELECT * FROM items WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return Item{}, false, nil
	}
	if err != nil {
		return Item{}, false, fmt.Errorf("reading item %d: %w", id, err)
	}
	return it, true, nil
}

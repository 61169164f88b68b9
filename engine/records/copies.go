package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
)

// Copy is one item's way to one destination, with what is shown of its item.
type Copy struct {
	ID   int64 `db:"id"`
	Item int64 `db:"item"`
	queue.Class
	State       queue.State `db:"state"`
	Bytes       int64       `db:"bytes"`
	TakenMS     int64       `db:"taken_at"`
	Tries       int         `db:"tries"`
	NotBeforeMS int64       `db:"not_before"`
	Ordered     Order       `db:"ordered"`
	Temp        string      `db:"temp"`
	Remote      string      `db:"remote"`
	SHA256      string      `db:"sha256"`
	Landed      bool        `db:"landed"` // it put something in place as Remote itself
	Proof       string      `db:"proof"`
	ProvenMS    int64       `db:"proven_at"`
	Sent        int64       `db:"sent"` // bytes handed to the storage, in all tries
	Recorded    int64       `db:"recorded"`
	Reprove     bool        `db:"reprove"`
	Says        string      `db:"says"`
	Todo        string      `db:"todo"`
	ChangedMS   int64       `db:"changed_at"`
	Form        string      `db:"form"`    // that was asked for when it was prepared, "" for as shot
	Reduced     bool        `db:"reduced"` // something smaller came of that; Bytes are its

	Size      int64  `db:"size"` // of the item's file
	Source    string `db:"source"`
	Dir       string `db:"dir"`
	Name      string `db:"name"`
	TakenZone int    `db:"taken_zone"`
	TakenFrom string `db:"taken_from"`
	GoneMS    int64  `db:"gone_at"`
	Seconds   int64  `db:"seconds"`
	FoundMS   int64  `db:"found_at"`
	FileNS    int64  `db:"file_at"`    // when the file was last changed, or moved
	MTime     int64  `db:"file_mtime"` // when its content was last changed, in nanoseconds since 1970
	PartOf    int64  `db:"part_of"`    // the item whose part the file is, 0 for a main file
	Sorted    bool   `db:"sorted"`
	MadeFrom  string `db:"made_from"`
}

// Lying is its item as one of which a plan decides whether it is taken up.
func (c Copy) Found() plan.File {
	taken := time.UnixMilli(c.TakenMS).In(time.FixedZone("", c.TakenZone))
	f := found(path.Join(c.Dir, c.Name), c.Kind, c.Size, taken, c.Seconds, c.FoundMS, c.FileNS)
	f.Sorted, f.MadeFrom = c.Sorted, c.MadeFrom
	if c.PartOf != 0 {
		f.Part = c.Rule
	}
	return f
}

// SentTwice is how many bytes went more than once, as a send was cut.
func (c Copy) SentTwice() int64 {
	if c.State != queue.Proving && c.State != queue.Safe {
		return 0
	}
	return max(0, c.Sent-c.Bytes)
}

// Path is the item's path on its device, from its source on.
func (c Copy) Path() string { return path.Join(c.Source, c.Dir, c.Name) }

// Candidate is the copy as one that may go.
func (c Copy) Candidate() gate.Candidate {
	return gate.Candidate{Class: c.Class, Bytes: c.Bytes, TakenMS: c.TakenMS, ID: c.ID}
}

// Order is the keeper's word that a copy goes now, whatever its gates say.
type Order string

// Orders: none, over a network that costs nothing only, or at any cost.
const (
	NoOrder        Order = ""
	OrderUnmetered Order = "unmetered"
	OrderMetered   Order = "metered"
)

const selectCopy = `SELECT c.*, i.size, i.source, i.dir, i.name, i.taken_zone, i.taken_from, i.gone_at, i.seconds, i.found_at, max(i.ctime, i.mtime) file_at, i.mtime file_mtime, i.part_of, i.sorted, i.made_from FROM copies c JOIN items i ON i.id = c.item `

// Change is what a step changes beside the state; nil fields stay.
type Change struct {
	Says, Todo, Temp, Remote, SHA256, Proof *string
	Tries                                   *int
	NotBefore                               *time.Time
	ProvenAt                                *time.Time
	Order                                   *Order
	Sent                                    *int64
	Landed                                  *bool
	Settle                                  *int64     // ends its reservation, with the bytes that really left
	If                                      *NamedFact // the step is made only while this is so
}

// NamedFact is a fact and its value.
type NamedFact struct{ Name, Value string }

// ErrFactChanged is the error of a step whose fact is no longer so.
var ErrFactChanged = errors.New("what the step rests on has changed")

// Step takes a copy from its state to the next, with a line in its story, in
// one transaction. The copy is read anew: an illegal step is a
// queue.StepError and changes nothing. A copy that would wait, be stuck or owe a
// proof, and that the plan no longer asks for, is skipped: the error is ErrNotAsked.
//
// What it tells as safe is on disk first, so that a power cut leaves it so.
func (r *Queue) Step(ctx context.Context, id int64, to queue.State, story string, c Change, now time.Time) error {
	var skipped bool
	err := r.shared(ctx, fmt.Sprintf("taking copy %d to %s", id, to), to == queue.Safe, func(tx *transaction) (err error) {
		steps, change := []told{{to, story}}, c
		if skipped, err = isUnasked(tx, id, to); err != nil {
			return err
		}
		if skipped {
			steps = append(steps, told{queue.Skipped, queue.NotAsked})
			change = c.with(Change{Says: new(queue.NotAsked), Todo: new(""), Tries: new(0), NotBefore: new(time.Time{}),
				Order: new(NoOrder)})
		}
		return takeSteps(tx, id, steps, change, now)
	})
	if err == nil && skipped {
		return ErrNotAsked
	}
	return err
}

// ErrNotAsked is the error of a step that ended with the copy skipped, as the plan no
// longer asks for it.
var ErrNotAsked = errors.New("the plan no longer asks for the copy")

// Land is two steps in one: a copy was put in place, and it was proven.
func (r *Queue) Land(ctx context.Context, id int64, landed string, change Change, proven string, proof Change,
	now time.Time) error {
	return r.shared(ctx, fmt.Sprintf("recording that copy %d landed", id), true, func(tx *transaction) error {
		return takeSteps(tx, id, []told{{queue.Proving, landed}, {queue.Safe, proven}}, change.with(proof), now)
	})
}

// with is a change and a later one in one.
func (c Change) with(later Change) Change {
	return Change{
		Says: over(c.Says, later.Says), Todo: over(c.Todo, later.Todo), Temp: over(c.Temp, later.Temp),
		Remote: over(c.Remote, later.Remote),
		SHA256: over(c.SHA256, later.SHA256), Proof: over(c.Proof, later.Proof), Tries: over(c.Tries, later.Tries),
		NotBefore: over(c.NotBefore, later.NotBefore),
		ProvenAt:  over(c.ProvenAt, later.ProvenAt), Order: over(c.Order, later.Order), Sent: over(c.Sent, later.Sent),
		Landed: over(c.Landed, later.Landed),
		Settle: over(c.Settle, later.Settle), If: over(c.If, later.If),
	}
}

func over[T any](a, b *T) *T {
	if b != nil {
		return b
	}
	return a
}

// told is a step and its line in the story.
type told struct {
	to   queue.State
	says string
}

// takeSteps takes a copy through steps to the last. What is refused has changed
// nothing.
func takeSteps(tx *transaction, id int64, steps []told, c Change, now time.Time) error {
	var from queue.State
	if err := tx.Get(&from, `SELECT state FROM copies WHERE id = ?`, id); err != nil {
		return err
	}
	to := from
	for _, s := range steps {
		if err := queue.Step(to, s.to); err != nil {
			return err
		}
		to = s.to
	}
	if c.If != nil {
		var now string
		if err := tx.Get(&now, `SELECT value FROM facts WHERE name = ?`, c.If.Name); err != nil &&
			!errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if now != c.If.Value {
			return ErrFactChanged
		}
	}
	set, args := c.columns(to, now)
	if c.Settle != nil {
		if err := settle(tx, id, c.Settle); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(`UPDATE copies SET `+strings.Join(set, ", ")+` WHERE id = ?`, append(args, id)...); err != nil {
		return err
	}
	if to == queue.Safe {
		if err := endSmall(tx, id, now); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE items SET sha256 = c.sha256 FROM (SELECT item, sha256 FROM copies WHERE id = ? AND reduced = 0) c WHERE items.id = c.item`, id); err != nil {
			return err
		}
	}
	for _, s := range steps {
		if _, err := tx.Exec(`INSERT INTO events VALUES (?, ?, ?, ?)`, id, ms(now), s.to, s.says); err != nil {
			return err
		}
	}
	if to != queue.Waiting && to != from {
		return nil
	}
	// A try that ended may be followed by many more: a story keeps its latest lines.
	_, err := tx.Exec(`DELETE FROM events WHERE copy = ? AND rowid <= (SELECT rowid FROM events WHERE copy = ? ORDER BY rowid DESC LIMIT 1 OFFSET ?)`, id, id, mostEvents)
	return err
}

// columns are what a change sets of a copy, which is in state to from now on.
func (c Change) columns(to queue.State, now time.Time) (set []string, args []any) {
	set, args = []string{"state = ?", "changed_at = ?"}, []any{to, ms(now)}
	put := func(column string, v any) { set, args = append(set, column+" = ?"), append(args, v) }
	text := func(column string, v *string) {
		if v != nil {
			put(column, *v)
		}
	}
	text("says", c.Says)
	text("todo", c.Todo)
	text("temp", c.Temp)
	text("remote", c.Remote)
	text("sha256", c.SHA256)
	text("proof", c.Proof)
	if c.Tries != nil {
		put("tries", *c.Tries)
	}
	if c.NotBefore != nil {
		put("not_before", ms(*c.NotBefore))
	}
	if c.ProvenAt != nil {
		put("proven_at", ms(*c.ProvenAt))
	}
	if c.Order != nil {
		put("ordered", *c.Order)
	}
	if c.Sent != nil {
		put("sent", *c.Sent)
	}
	if c.Landed != nil {
		put("landed", *c.Landed)
	}
	return set, args
}

// mostEvents is how many lines a copy's story keeps.
const mostEvents = 200

// Note keeps what is about to happen at a destination without a step, so that
// a crash right after finds it: the temporary name before anything is written
// under it, the final path and hash before the file is put in place. The path is
// not the copy's yet: it has not landed.
func (r *Queue) Note(ctx context.Context, id int64, temp, remote, sha256 string) error {
	return r.shared(ctx, fmt.Sprintf("noting where copy %d goes", id), false, func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE copies SET temp = ?, remote = ?, sha256 = ?, landed = 0 WHERE id = ?`, temp, remote,
			sha256, id)
		return err
	})
}

// SetSent keeps how many bytes of a copy were handed to the storage so far, in
// all tries: what a kill interrupts is counted too.
func (r *Queue) SetSent(ctx context.Context, id, sent int64) error {
	if _, err := r.write.ExecContext(ctx, `UPDATE copies SET sent = ? WHERE id = ?`, sent, id); err != nil {
		return fmt.Errorf("noting what was sent of copy %d: %w", id, err)
	}
	return nil
}

// Counter is how many copies of a class stand in a state.
type Counter struct {
	queue.Class
	State queue.State `db:"state"`
	N     int64       `db:"n"`
	Bytes int64       `db:"bytes"`
}

const selectCounters = `SELECT * FROM counters WHERE n > 0`

// Counters reads every counter that is not zero.
func (r *Queue) Counters(ctx context.Context) ([]Counter, error) {
	var counters []Counter
	if err := r.read.SelectContext(ctx, &counters, selectCounters); err != nil {
		return nil, fmt.Errorf("reading the counters: %w", err)
	}
	return counters, nil
}

// inOrder are the walks along an index by which a rule's copies go.
var inOrder = map[plan.Order]string{
	"":                 ` ORDER BY c.taken_at DESC, c.id DESC`,
	plan.NewestFirst:   ` ORDER BY c.taken_at DESC, c.id DESC`,
	plan.OldestFirst:   ` ORDER BY c.taken_at, c.id`,
	plan.SmallestFirst: ` ORDER BY c.bytes`,
}

// MostPicked is how many copies Pick lists at most.
const MostPicked = 128

// firstPicked stands in the text of a statement: SQLite prepares one anew for each bound limit.
var firstPicked = fmt.Sprint(" LIMIT ", MostPicked)

// Pick lists the first copies of a class in a state (waiting or proving) that
// may go now and are at most fits bytes long, at most MostPicked. Those that wait
// are prepared in a form. (The plus signs keep SQLite on the class's index.)
func (r *Queue) Pick(ctx context.Context, class queue.Class, state queue.State, form string, order plan.Order,
	fits int64, now time.Time) ([]Copy, error) {
	where, values := `WHERE `+stands(state)+` AND `+lies(class.Shelf)+
		` AND c.destination = ? AND c.rule = ? AND c.kind = ? AND +c.not_before <= ? AND `, []any{class.Destination,
		class.Rule, class.Kind, ms(now), fits}
	from, sorted := selectCopy, inOrder[order]
	switch {
	case state != queue.Waiting:
		where += `+c.bytes <= ?`
	case form != "": // few are prepared, among many that are not: they are found by their own index, and sorted
		from, sorted = strings.Replace(selectCopy, "FROM copies c", "FROM copies c INDEXED BY copies_prepared",
			1), strings.ReplaceAll(sorted, "c.", "+c.")
		where, values = where+`+c.bytes <= ? AND c.form <> '' AND c.form = ?`, append(values, form)
	default:
		if order != plan.SmallestFirst { // which goes by the index of waiting sizes
			where += `+`
		}
		where += `c.bytes <= ? AND +c.form = ''`
	}
	if state == queue.Waiting { // a part has the name of its main file, which goes first
		where += ` AND (i.part_of = 0 OR NOT EXISTS (SELECT 1 FROM copies m WHERE m.item = i.part_of AND m.destination = c.destination AND m.shelf = '' AND m.state IN ('waiting', 'preparing', 'sending')))`
	}
	if class.Shelf.IsPick() { // it is made of the copy itself, where the storage can
		where += ` AND EXISTS (SELECT 1 FROM copies m WHERE m.item = c.item AND m.destination = c.destination AND m.shelf = '' AND m.state = 'safe')`
	}
	var copies []Copy
	if err := r.read.SelectContext(ctx, &copies, from+where+sorted+firstPicked, values...); err != nil {
		return nil, fmt.Errorf("reading what goes next: %w", err)
	}
	return copies, nil
}

// stands asks for a state by its word. As a parameter SQLite would parse the
// query anew each time: some indexes are of one state only.
func stands(s queue.State) string {
	if !slices.Contains(queue.States, s) {
		return "false"
	}
	return "c.state = '" + string(s) + "'"
}

// lies asks for a shelf by its name, for the same reason.
func lies(s plan.Shelf) string {
	if strings.ContainsFunc(string(s), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-'
	}) {
		return "false"
	}
	return "c.shelf = '" + string(s) + "'"
}

// Orders lists copies that the keeper sent now to a destination and that still wait, the
// oldest order first, a few of them.
func (r *Queue) Orders(ctx context.Context, destination string, busy []int64, now time.Time) ([]Copy, error) {
	query, args, err := without(selectCopy+`WHERE c.ordered <> '' AND c.shelf = '' AND +c.destination = ? AND +c.state IN ('waiting', 'proving') AND +c.not_before <= ?`, busy, destination, ms(now))
	if err != nil {
		return nil, err
	}
	var copies []Copy
	if err := r.read.SelectContext(ctx, &copies, query+` ORDER BY c.changed_at LIMIT 16`, args...); err != nil {
		return nil, fmt.Errorf("reading the orders: %w", err)
	}
	return copies, nil
}

// Ordered tells whether there are orders of the keeper's.
func (r *Queue) Ordered(ctx context.Context) (some bool, err error) {
	if err := r.read.GetContext(ctx, &some, `SELECT EXISTS (SELECT 1 FROM copies WHERE ordered <> '')`); err != nil {
		return false, fmt.Errorf("looking for orders: %w", err)
	}
	return some, nil
}

func without(query string, busy []int64, args ...any) (string, []any, error) {
	if len(busy) == 0 {
		return query, args, nil
	}
	in, more, err := sqlx.In(` AND c.id NOT IN (?)`, busy)
	if err != nil {
		return "", nil, fmt.Errorf("leaving out busy copies: %w", err)
	}
	return query + in, append(args, more...), nil
}

// one reads one copy; ok is false when there is none.
func (r *file) one(ctx context.Context, query string, args ...any) (c Copy, ok bool, err error) {
	err = r.read.GetContext(ctx, &c, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return Copy{}, false, nil
	}
	if err != nil {
		return Copy{}, false, fmt.Errorf("reading a copy: %w", err)
	}
	return c, true, nil
}

// Copy reads one copy; ok is false when there is none.
func (r *Queue) Copy(ctx context.Context, id int64) (Copy, bool, error) {
	return r.one(ctx, selectCopy+`WHERE c.id = ?`, id)
}

// Smallest is the size of the smallest waiting copy of a class; ok is false
// when none waits.
func (r *Queue) Smallest(ctx context.Context, class queue.Class) (bytes int64, ok bool, err error) {
	err = r.read.GetContext(ctx, &bytes, `SELECT c.bytes FROM copies c WHERE c.state = 'waiting' AND `+lies(class.Shelf)+
		` AND c.destination = ? AND c.rule = ? AND c.kind = ? ORDER BY c.bytes LIMIT 1`,
		class.Destination, class.Rule, class.Kind)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, fmt.Errorf("reading the smallest copy: %w", err)
	}
	return bytes, true, nil
}

// NextRetry is the earliest time at which a waiting copy may try again, zero
// when none waits for a time.
func (r *Queue) NextRetry(ctx context.Context, now time.Time) (time.Time, error) {
	var at sql.NullInt64
	err := r.read.GetContext(ctx, &at, `SELECT min(not_before) FROM copies WHERE not_before > 0 AND not_before > ?`,
		ms(now))
	if err != nil {
		return time.Time{}, fmt.Errorf("reading the next retry: %w", err)
	}
	return FromMS(at.Int64), nil
}

// longestWait is longer than any wait after a failure.
const longestWait = 2 * time.Hour

// EndOddWaits ends waits that end later than any is made: the clock was set
// back since.
func (r *Queue) EndOddWaits(ctx context.Context, now time.Time) error {
	var last sql.NullInt64
	if err := r.read.GetContext(ctx, &last, `SELECT max(not_before) FROM copies WHERE not_before > 0`); err != nil {
		return fmt.Errorf("reading the last retry: %w", err)
	}
	if last.Int64 <= ms(now.Add(longestWait)) {
		return nil
	}
	if _, err := r.write.ExecContext(ctx, `UPDATE copies SET not_before = 0 WHERE not_before > ?`,
		ms(now.Add(longestWait))); err != nil {
		return fmt.Errorf("ending odd waits: %w", err)
	}
	return nil
}

// Back has what waits for a source that was away go on at once.
func (r *Queue) Back(ctx context.Context, source string) error {
	if _, err := r.write.ExecContext(ctx, `UPDATE copies SET not_before = 0 WHERE not_before > 0 AND item IN (SELECT id FROM items WHERE source = ? AND gone_at = 0)`,
		source); err != nil {
		return fmt.Errorf("going on with %s: %w", source, err)
	}
	return nil
}

// Retrying is how many items of a standing have a waiting copy at a destination
// that waits for its next try, and the earliest such time.
type Retrying struct {
	Standing    int64  `db:"standing"`
	Destination string `db:"destination"`
	N           int64  `db:"n"`
	Bytes       int64  `db:"bytes"`
	NextMS      int64  `db:"next"`
}

// Retries counts the waiting copies that wait for their next try. There are few: an
// index of their own finds them.
func (r *Queue) Retries(ctx context.Context, now time.Time) ([]Retrying, error) {
	var rows []Retrying
	err := r.read.SelectContext(ctx, &rows, `SELECT i.standing, c.destination, count(*) n, sum(i.all_bytes) bytes, min(c.not_before) next FROM copies c INDEXED BY copies_retry
		JOIN items i ON i.id = c.item WHERE c.not_before > 0 AND c.not_before > ? AND c.state = 'waiting' AND c.shelf = '' AND i.part_of = 0 GROUP BY 1, 2`, ms(now))
	if err != nil {
		return nil, fmt.Errorf("counting retries: %w", err)
	}
	return rows, nil
}

// SameLook tells whether another copy of the same size and look goes or went to
// the destination: only then can one with the same content.
func (r *Queue) SameLook(ctx context.Context, c Copy, look string) (bool, error) {
	var n int
	err := r.read.GetContext(ctx, &n, `SELECT count(*) FROM (SELECT 1 FROM items i CROSS JOIN copies c ON c.item = i.id AND c.destination = ? AND c.shelf = ''
		WHERE i.size = ? AND i.look = ? AND c.id <> ? AND c.state <> 'skipped' LIMIT 1)`, c.Destination, c.Size, look, c.ID)
	if err != nil {
		return false, fmt.Errorf("looking for copies that look the same: %w", err)
	}
	return n > 0, nil
}

// Twin finds a copy with the same content that is at the destination: a safe
// one, else one whose proof is owed. Nothing rests on what lies on another shelf: a small
// copy is removed one day.
func (r *Queue) Twin(ctx context.Context, destination string, bytes int64, sha256 string) (Copy, bool, error) {
	return r.one(ctx, selectCopy+`WHERE c.destination = ? AND c.sha256 = ? AND c.sha256 <> '' AND c.state IN ('safe', 'proving') AND +c.shelf = '' AND +c.bytes = ? AND +c.remote <> '' ORDER BY c.state DESC LIMIT 1`, destination, sha256, bytes)
}

// OfSize tells whether a copy of so many bytes is proven at a destination.
func (r *Queue) OfSize(ctx context.Context, destination string, bytes int64) (is bool, err error) {
	if err := r.read.GetContext(ctx, &is, `SELECT EXISTS (SELECT 1 FROM copies WHERE destination = ? AND bytes = ? AND +state = 'safe')`, destination, bytes); err != nil {
		return false, fmt.Errorf("looking for a copy of %d bytes: %w", bytes, err)
	}
	return is, nil
}

// Event is one line of the story of a copy.
type Event struct {
	Destination string      `db:"destination"`
	Shelf       plan.Shelf  `db:"shelf"`
	Part        string      `db:"part"` // the name of the part, "" for the main file
	AtMS        int64       `db:"at"`
	State       queue.State `db:"state"`
	Says        string      `db:"says"`
}

// Story reads what happened to an item's copies, oldest first.
func (r *Queue) Story(ctx context.Context, item int64) ([]Event, error) {
	var events []Event
	if err := r.read.SelectContext(ctx, &events, `SELECT c.destination, c.shelf, e.at, e.state, e.says, CASE c.item WHEN ? THEN '' ELSE i.name END part
		FROM items i JOIN copies c ON c.item = i.id JOIN events e ON e.copy = c.id WHERE i.id IN (SELECT ? UNION ALL SELECT p.id FROM items p WHERE p.part_of = ? AND p.part_of <> 0) ORDER BY e.rowid`, item, item, item); err != nil {
		return nil, fmt.Errorf("reading the story of item %d: %w", item, err)
	}
	return events, nil
}

// Temps lists the copies whose temporary file may still lie at a destination
// and is of no use: they rest, or have waited since before a time. There are
// few, and an index of their own finds them.
func (r *Queue) Temps(ctx context.Context, destination string, before time.Time) ([]Copy, error) {
	var copies []Copy
	if err := r.read.SelectContext(ctx, &copies,
		selectCopy+`WHERE c.destination = ? AND c.temp <> '' AND c.temp NOT LIKE '%' || ? AND (+c.state IN ('safe', 'stuck', 'skipped') OR +c.state = 'waiting' AND c.changed_at < ?)`, destination, withdrawn, ms(before)); err != nil {
		return nil, fmt.Errorf("reading the temporary names: %w", err)
	}
	return copies, nil
}

// Retry takes stuck copies back to waiting at once: those named, or all.
// It returns how many.
func (r *Queue) Retry(ctx context.Context, ids []int64, now time.Time) (n int64, err error) {
	where, args := `state = 'stuck'`, []any(nil)
	if ids != nil {
		if where, args, err = sqlx.In(`(state = 'stuck' OR state = 'waiting' AND not_before > 0) AND id IN (?)`,
			append(ids, -1)); err != nil {
			return 0, fmt.Errorf("retrying: %w", err)
		}
	}
	err = r.tx(ctx, "retrying", func(tx *transaction) error {
		if err := tx.Get(&n, `SELECT count(*) FROM copies WHERE `+where, args...); err != nil {
			return err
		}
		return moveAll(tx, now, queue.Waiting, "Retried by the keeper.", where, args...)
	})
	return n, err
}

// Order marks waiting and proving copies to go now. It returns how many.
func (r *Queue) Order(ctx context.Context, ids []int64, order Order, now time.Time) (n int64, err error) {
	where, args, err := sqlx.In(`shelf = '' AND state IN ('waiting', 'proving') AND id IN (?)`, append(ids, -1))
	if err != nil {
		return 0, fmt.Errorf("ordering: %w", err)
	}
	err = r.tx(ctx, "ordering", func(tx *transaction) error {
		if _, err := tx.Exec(`INSERT INTO events SELECT id, ?, state, 'The keeper sends it now.' FROM copies WHERE `+where,
			append([]any{ms(now)}, args...)...); err != nil {
			return err
		}
		res, err := tx.Exec(`UPDATE copies SET ordered = ?, not_before = 0, changed_at = ? WHERE `+where,
			append([]any{order, ms(now)}, args...)...)
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}

package records

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/jmoiron/sqlx"
)

// RebuildFact tells when and that the records were begun anew
// beside damaged ones: what is at each destination is looked at before anything is
// sent there.
const RebuildFact Fact[time.Time] = "rebuild"

// Rebuild puts the files of damaged records aside and begins new ones, with the
// facts and the spending of the old ones as far as they can be read. It returns
// where the old files are, and what of them could not be read.
func Rebuild(ctx context.Context, file string, now time.Time) (aside string, lost []string, err error) {
	aside = filepath.Join(filepath.Dir(file), "damaged-"+now.UTC().Format("20060102T150405Z"))
	if err := os.Mkdir(aside, 0o700); err != nil {
		return "", nil, fmt.Errorf("making a folder for the damaged records: %w", err)
	}
	for _, end := range []string{"", "-wal", "-shm"} {
		err := os.Rename(file+end, filepath.Join(aside, filepath.Base(file)+end))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", nil, fmt.Errorf("putting the damaged records aside: %w", err)
		}
	}
	r, err := Open(ctx, file)
	if err != nil {
		return aside, nil, err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	if lost, err = r.salvage(ctx, filepath.Join(aside, filepath.Base(file)), now); err != nil {
		return aside, lost, err
	}
	return aside, lost, RebuildFact.Keep(ctx, &r.Facts, now.UTC())
}

// neverAgain is more than any allowance: what was spent is not known, so nothing
// more may be.
const neverAgain = 1 << 60

// salvage takes over what can be read of damaged records. Where the spending
// cannot, everything counts as spent: no allowance is passed.
func (r *Records) salvage(ctx context.Context, old string, now time.Time) (lost []string, err error) {
	dsn := url.URL{Scheme: "file", Path: old, RawQuery: "mode=ro&immutable=0"}
	db, err := sqlx.Open("sqlite", dsn.String())
	if err != nil {
		return nil, fmt.Errorf("opening the damaged records: %w", err)
	}
	defer db.Close()
	var facts []struct{ Name, Value string }
	if err := db.SelectContext(ctx, &facts, `SELECT name, value FROM facts`); err != nil {
		lost = append(lost, "pauses, and which places the destinations' names stand for")
	}
	for _, f := range facts {
		if f.Name == string(epochFact) || f.Name == appliedFact {
			continue // the items are numbered anew, and have no copies yet
		}
		if err := r.Facts.SetFact(ctx, f.Name, f.Value); err != nil {
			return lost, err
		}
	}
	var spent []struct {
		Network, Rule      string
		At, Roaming, Bytes int64
	}
	err = db.SelectContext(ctx, &spent, `SELECT network, at, roaming, rule, bytes FROM ledger UNION ALL SELECT network, at, roaming, rule, bytes FROM reservations`)
	if err != nil {
		lost = append(lost, "what was spent of the allowances: they count as used up until their periods end")
		spent = nil
		for _, network := range []string{"wifi", "wired", "cellular"} {
			spent = append(spent, struct {
				Network, Rule      string
				At, Roaming, Bytes int64
			}{network, "", ms(now.Truncate(quarter)), 0, neverAgain})
		}
	}
	err = r.durably(ctx, "taking over what was spent", func(tx *transaction) error {
		for _, s := range spent {
			if _, err := tx.Exec(`INSERT INTO ledger VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET bytes = bytes + excluded.bytes`, s.Network, s.At, s.Roaming, s.Rule, s.Bytes); err != nil {
				return err
			}
		}
		return nil
	})
	return lost, err
}

// Doubles counts the safe copies at a destination whose content lies there under another path,
// too, that no copy here has.
func (r *Adopted) Doubles(ctx context.Context, destination string) (n int64, err error) {
	err = r.read.GetContext(ctx, &n, `SELECT count(DISTINCT c.id) FROM found f JOIN copies c ON c.destination = f.destination AND c.bytes = f.size AND c.sha256 = f.sha256 AND c.state = 'safe' AND c.shelf = '' AND c.remote <> f.path
		WHERE f.destination = ? AND f.sha256 <> '' AND NOT EXISTS (SELECT 1 FROM copies o WHERE o.destination = f.destination AND o.remote = f.path AND o.state = 'safe')`, destination)
	if err != nil {
		return 0, fmt.Errorf("counting what lies at %s twice: %w", destination, err)
	}
	return n, nil
}

// KnowFound keeps the hash of a file at a destination as its open record tells it,
// if a file of that size is there. It proves nothing: it is compared before it
// counts.
func (r *Adopted) KnowFound(ctx context.Context, found []Lying) error {
	return r.tx(ctx, "keeping what the record tells", func(tx *transaction) error {
		for _, f := range found {
			if _, err := tx.Exec(`UPDATE found SET sha256 = ?, hashed_at = ? WHERE destination = ? AND path = ? AND size = ?`,
				f.SHA256, f.HashedMS, f.Destination, f.Path, f.Size); err != nil {
				return err
			}
		}
		return nil
	})
}

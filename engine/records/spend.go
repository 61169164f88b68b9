package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"yardtide/core/allowance"
	"yardtide/core/plan"
)

// Spend says what metered bytes are for: the ledger keeps them by it.
type Spend struct {
	Network plan.Network
	Roaming bool
	Rule    string
}

// quarter is how finely the ledger tells time: every zone's day begins at one.
const quarter = 15 * time.Minute

// Limit bounds what may be spent since a time; zero bytes bound nothing. With Roaming only
// what is spent while roaming counts.
type Limit struct {
	plan.Allowance
	Since   time.Time
	Roaming bool
}

// Account reads what was spent over a network since a time, and what is
// reserved on it, by all rules together; with roaming only what was while roaming.
func (r *Ledger) Account(ctx context.Context, network plan.Network, since time.Time,
	roaming bool) (allowance.Account, error) {
	a, err := readAccount(func(into any, query string, args ...any) error {
		return r.read.GetContext(ctx, into, query, args...)
	}, network, since, roaming)
	if err != nil {
		return a, fmt.Errorf("reading what was spent over %s: %w", network, err)
	}
	return a, nil
}

func readAccount(get func(into any, query string, args ...any) error, network plan.Network, since time.Time,
	roaming bool) (a allowance.Account, err error) {
	err = get(&a, `SELECT (SELECT coalesce(sum(bytes), 0) FROM ledger WHERE network = ? AND at >= ? AND roaming >= ?) spent, (SELECT coalesce(sum(bytes), 0) FROM reservations WHERE network = ? AND roaming >= ?) reserved`,
		network, ms(since), roaming, network, roaming)
	return a, err
}

// Reserve sets bytes aside for a copy before the first one leaves. ok is false
// when they do not fit in one of the limits; without any they always fit (an order of the
// keeper's: it is counted, not limited).
// When it returns, the reservation is on disk, so that not even a power cut lets
// more out.
func (r *Ledger) Reserve(ctx context.Context, copy int64, s Spend, limits []Limit, bytes int64,
	now time.Time) (ok bool, err error) {
	err = r.durably(ctx, fmt.Sprintf("reserving %d bytes over %s", bytes, s.Network), func(tx *transaction) error {
		for _, limit := range limits {
			a, err := readAccount(tx.Get, s.Network, limit.Since, limit.Roaming)
			if err != nil {
				return err
			}
			if limit.Bytes == 0 {
				continue
			}
			if _, ok = allowance.Reserve(limit.Allowance, a, bytes); !ok {
				return nil
			}
		}
		ok = true
		_, err := tx.Exec(`INSERT INTO reservations VALUES (?, ?, ?, ?, ?, ?)`, copy, s.Network, ms(now.Truncate(quarter)),
			s.Roaming, s.Rule, bytes)
		return err
	})
	return ok && err == nil, err
}

// Settle ends a copy's reservation with the bytes that really left. Without a
// reservation it does nothing.
func (r *Ledger) Settle(ctx context.Context, copy, actual int64) error {
	return r.tx(ctx, "settling what was sent", func(tx *transaction) error { return settle(tx, copy, &actual) })
}

func settle(tx *transaction, copy int64, actual *int64) error {
	var reserved int64
	err := tx.Get(&reserved, `SELECT bytes FROM reservations WHERE copy = ?`, copy)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if actual == nil {
		actual = &reserved
	}
	spent := allowance.Settle(allowance.Account{Reserved: reserved}, reserved, *actual).Spent
	if _, err := tx.Exec(`INSERT INTO ledger SELECT network, at, roaming, rule, ? FROM reservations WHERE copy = ? ON CONFLICT DO UPDATE SET bytes = bytes + excluded.bytes`, spent, copy); err != nil {
		return err
	}
	_, err = tx.Exec(`DELETE FROM reservations WHERE copy = ?`, copy)
	return err
}

// settleAll counts what is reserved for copies that nobody carries as spent in
// full.
func settleAll(tx *transaction, carried []int64) error {
	query, args, err := sqlx.In(`SELECT copy FROM reservations WHERE copy NOT IN (?)`, carried)
	if err != nil {
		return err
	}
	var copies []int64
	if err := tx.Select(&copies, query, args...); err != nil {
		return err
	}
	for _, c := range copies {
		if err := settle(tx, c, nil); err != nil {
			return err
		}
	}
	return nil
}

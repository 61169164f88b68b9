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

// Account reads what was spent and is reserved on an account in a period.
func (r *Records) Account(ctx context.Context, account string, period time.Time) (allowance.Account, error) {
	a, err := readAccount(func(into any, query string, args ...any) error { return r.read.GetContext(ctx, into, query, args...) }, account, period)
	if err != nil {
		return a, fmt.Errorf("reading the account %s: %w", account, err)
	}
	return a, nil
}

func readAccount(get func(into any, query string, args ...any) error, account string, period time.Time) (a allowance.Account, err error) {
	err = get(&a, `SELECT spent, reserved FROM spend WHERE account = ? AND period = ?`, account, ms(period))
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return a, err
}

// Reserve sets bytes aside for a copy before the first one leaves. ok is false
// when they do not fit in the limit; a limit of zero bytes always fits (an
// order of the keeper's: it is counted, not limited). When it returns, the
// reservation is on disk, so that not even a power cut lets more out.
func (r *Records) Reserve(ctx context.Context, copy int64, account string, limit plan.Allowance, period time.Time, bytes int64) (ok bool, err error) {
	conn, err := r.write.Connx(ctx)
	if err != nil {
		return false, fmt.Errorf("reserving: %w", err)
	}
	defer func() { err = errors.Join(err, conn.Close()) }()
	if _, err := conn.ExecContext(ctx, `PRAGMA synchronous = FULL`); err != nil {
		return false, fmt.Errorf("reserving: %w", err)
	}
	defer func() {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), `PRAGMA synchronous = NORMAL`)
		err = errors.Join(err, back)
	}()
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return false, fmt.Errorf("reserving: %w", err)
	}
	err = func() error {
		a, err := readAccount(tx.Get, account, period)
		if err != nil {
			return err
		}
		if limit.Bytes > 0 {
			if _, ok = allowance.Reserve(limit, a, bytes); !ok {
				return nil
			}
		}
		ok = true
		if _, err := tx.Exec(`INSERT INTO spend (account, period, reserved) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET reserved = reserved + excluded.reserved`, account, ms(period), bytes); err != nil {
			return err
		}
		_, err = tx.Exec(`INSERT INTO reservations VALUES (?, ?, ?, ?)`, copy, account, ms(period), bytes)
		return err
	}()
	if err != nil {
		return false, errors.Join(fmt.Errorf("reserving %d bytes on %s: %w", bytes, account, err), tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return false, fmt.Errorf("reserving %d bytes on %s: %w", bytes, account, err)
	}
	return ok, nil
}

// Settle ends a copy's reservation with the bytes that really left. Without a
// reservation it does nothing.
func (r *Records) Settle(ctx context.Context, copy, actual int64) error {
	return r.tx(ctx, "settling what was sent", func(tx *transaction) error { return settle(tx, copy, &actual) })
}

func settle(tx *transaction, copy int64, actual *int64) error {
	var held struct {
		Account string `db:"account"`
		Period  int64  `db:"period"`
		Bytes   int64  `db:"bytes"`
	}
	err := tx.Get(&held, `SELECT account, period, bytes FROM reservations WHERE copy = ?`, copy)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if actual == nil {
		actual = &held.Bytes
	}
	a, err := readAccount(tx.Get, held.Account, FromMS(held.Period))
	if err != nil {
		return err
	}
	a = allowance.Settle(a, held.Bytes, *actual)
	if _, err := tx.Exec(`UPDATE spend SET spent = ?, reserved = ? WHERE account = ? AND period = ?`, a.Spent, a.Reserved, held.Account, held.Period); err != nil {
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

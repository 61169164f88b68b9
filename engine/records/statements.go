package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"

	"github.com/jmoiron/sqlx"
)

// pool is connections to the file whose statements are parsed once: there are
// few, and most take longer to parse than to run.
type pool struct {
	*sqlx.DB
	mu    sync.Mutex
	known map[string]*sqlx.Stmt
	tells *watches // what it writes, nil where it does not
}

// mostStatements bounds what is kept: lists of numbers make queries of many
// lengths.
const mostStatements = 256

// statement is a query's, nil when it is to be run unparsed.
func (p *pool) statement(ctx context.Context, query string) (*sqlx.Stmt, error) {
	p.mu.Lock()
	s, full := p.known[query], len(p.known) >= mostStatements
	p.mu.Unlock()
	if s != nil || full {
		return s, nil
	}
	// Parsing may wait for the one connection for writing: not with the mutex,
	// which its holder asks for.
	s, err := p.PreparexContext(ctx, query)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if other := p.known[query]; other != nil {
		return other, s.Close()
	}
	if p.known == nil {
		p.known = map[string]*sqlx.Stmt{}
	}
	p.known[query] = s
	return s, nil
}

func (p *pool) GetContext(ctx context.Context, into any, query string, args ...any) error {
	s, err := p.statement(ctx, query)
	if err != nil {
		return err
	}
	if s == nil {
		return p.DB.GetContext(ctx, into, query, args...)
	}
	return s.GetContext(ctx, into, args...)
}

func (p *pool) SelectContext(ctx context.Context, into any, query string, args ...any) error {
	s, err := p.statement(ctx, query)
	if err != nil {
		return err
	}
	if s == nil {
		return p.DB.SelectContext(ctx, into, query, args...)
	}
	return s.SelectContext(ctx, into, args...)
}

func (p *pool) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	s, err := p.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return p.DB.ExecContext(ctx, query, args...)
	}
	return s.ExecContext(ctx, args...)
}

// transaction runs a pool's statements in one transaction. What it does not
// know it runs unparsed, and the pool learns it afterwards: the one connection
// for writing is taken.
type transaction struct {
	*sqlx.Tx
	pool *pool
	new  []string
}

// beginner is what a transaction begins on: a pool, or one connection of it.
type beginner interface {
	BeginTxx(ctx context.Context, options *sql.TxOptions) (*sqlx.Tx, error)
}

// run runs f in a transaction.
func (p *pool) run(ctx context.Context, options *sql.TxOptions, doing string, f func(*transaction) error) error {
	t, err := p.transact(ctx, p, options, doing, f)
	if err != nil {
		return err
	}
	p.learn(ctx, t)
	return nil
}

func (p *pool) transact(ctx context.Context, on beginner, options *sql.TxOptions, doing string,
	f func(*transaction) error) (*transaction, error) {
	begun, err := on.BeginTxx(ctx, options)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	t := &transaction{Tx: begun, pool: p}
	if err := f(t); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", doing, err), t.Rollback())
	}
	if err := t.Commit(); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	p.tells.committed()
	return t, nil
}

// learn parses what a transaction ran unparsed.
func (p *pool) learn(ctx context.Context, t *transaction) {
	for _, query := range t.new {
		if _, err := p.statement(ctx, query); err != nil {
			return // all is done: it is parsed another time
		}
	}
}

func (t *transaction) statement(query string) *sqlx.Stmt {
	t.pool.mu.Lock()
	defer t.pool.mu.Unlock()
	s := t.pool.known[query]
	if s == nil {
		t.new = append(t.new, query)
		return nil
	}
	return t.Stmtx(s)
}

func (t *transaction) Get(into any, query string, args ...any) error {
	if s := t.statement(query); s != nil {
		return s.Get(into, args...)
	}
	return t.Tx.Get(into, query, args...)
}

func (t *transaction) Select(into any, query string, args ...any) error {
	if s := t.statement(query); s != nil {
		return s.Select(into, args...)
	}
	return t.Tx.Select(into, query, args...)
}

func (t *transaction) Exec(query string, args ...any) (sql.Result, error) {
	if s := t.statement(query); s != nil {
		return s.Exec(args...)
	}
	return t.Tx.Exec(query, args...)
}

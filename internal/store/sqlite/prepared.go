package sqlite

import (
	"context"
	"database/sql"
	"sync"
)

// prepared keeps statements that are run again and again: to parse one takes longer than to run it.
type prepared struct {
	mu sync.RWMutex
	by map[string]*sql.Stmt
}

// mostPrepared bounds how many are kept. Statements that differ by the number of their values are many.
const mostPrepared = 256

// statement is a statement, ready to be run; nil where it is better given as a text.
func (d *DB) statement(ctx context.Context, query string) *sql.Stmt {
	p := d.prepared
	p.mu.RLock()
	s, full := p.by[query], len(p.by) >= mostPrepared
	p.mu.RUnlock()
	if s != nil || full {
		return s
	}
	s, err := d.db.PrepareContext(ctx, query)
	if err != nil { // the text will say the same
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if before := p.by[query]; before != nil {
		_ = s.Close() // another was quicker
		return before
	}
	p.by[query] = s
	return s
}

// asking runs statements in a transaction, or where there is none, on the database.
type asking struct {
	of *DB
	tx *sql.Tx
}

func (a asking) statement(ctx context.Context, query string) *sql.Stmt {
	s := a.of.statement(ctx, query)
	if s != nil && a.tx != nil {
		return a.tx.StmtContext(ctx, s)
	}
	return s
}

// QueryRowContext implements Querier.
func (a asking) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	switch s := a.statement(ctx, query); {
	case s != nil:
		return s.QueryRowContext(ctx, args...)
	case a.tx != nil:
		return a.tx.QueryRowContext(ctx, query, args...)
	}
	return a.of.db.QueryRowContext(ctx, query, args...)
}

// QueryContext implements Querier.
func (a asking) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	switch s := a.statement(ctx, query); {
	case s != nil:
		return s.QueryContext(ctx, args...)
	case a.tx != nil:
		return a.tx.QueryContext(ctx, query, args...)
	}
	return a.of.db.QueryContext(ctx, query, args...)
}

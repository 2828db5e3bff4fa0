package sqlite

import (
	"context"
	"database/sql"
	"sync"
)

// prepared keeps statements that are run again and again: to parse one takes longer than to run it.
type prepared struct {
	mu     sync.RWMutex
	by     map[string]*sql.Stmt
	wanted map[string]bool // that were run in a transaction, as a text
}

// mostPrepared bounds how many are kept. Statements that differ by the number of their values are many.
const mostPrepared = 256

// statement is a statement, ready to be run; nil where it is better given as a text. Within a transaction none is made
// ready: that may need a second connection, and a transaction that waits for one may wait for itself.
func (d *DB) statement(query string, within bool) *sql.Stmt {
	p := d.prepared
	p.mu.RLock()
	s, known := p.by[query], p.wanted[query] || len(p.by)+len(p.wanted) >= mostPrepared
	p.mu.RUnlock()
	if s != nil || known {
		return s
	}
	p.mu.Lock()
	p.wanted[query] = true
	p.mu.Unlock()
	if within {
		return nil
	}
	d.prepare()
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.by[query]
}

// prepare makes ready what was wanted. It is called where no transaction of the caller is open.
func (d *DB) prepare() {
	p := d.prepared
	p.mu.Lock()
	if len(p.wanted) == 0 {
		p.mu.Unlock()
		return
	}
	wanted := p.wanted
	p.wanted = map[string]bool{}
	p.mu.Unlock()
	for query := range wanted {
		s, err := d.db.Prepare(query)
		if err != nil { // the text says the same
			continue
		}
		p.mu.Lock()
		if before := p.by[query]; before != nil {
			_ = s.Close() // another was quicker
		} else {
			p.by[query] = s
		}
		p.mu.Unlock()
	}
}

// asking runs statements in a transaction, or where there is none, on the database.
type asking struct {
	of *DB
	tx *sql.Tx
}

func (a asking) statement(ctx context.Context, query string) *sql.Stmt {
	s := a.of.statement(query, a.tx != nil)
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

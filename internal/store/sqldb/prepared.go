package sqldb

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

// ready keeps the statements that are run again within one transaction, which may ask thousands of questions of one
// kind. They are its own connection's, and end with it.
type ready struct {
	line sync.Mutex // where the connection answers one question at a time, of those that ask beside one another

	mu  sync.Mutex
	by  map[string]*sql.Stmt
	was map[string]bool // run once, as a text

	spoilt error // see Change.Spoil
}

// statement is a statement of the transaction, ready to be run; nil where it is run for the first time.
func (r *ready) statement(ctx context.Context, tx Tx, query string) *sql.Stmt {
	own, can := tx.(interface {
		PrepareContext(ctx context.Context, query string) (*sql.Stmt, error)
	})
	if r == nil || !can {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.by[query]; s != nil {
		return s
	}
	if !r.was[query] {
		if r.was == nil {
			r.was, r.by = map[string]bool{}, map[string]*sql.Stmt{}
		}
		r.was[query] = len(r.was) < mostPrepared
		return nil
	}
	s, err := own.PrepareContext(ctx, query)
	if err != nil { // the text says the same
		return nil
	}
	r.by[query] = s
	return s
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

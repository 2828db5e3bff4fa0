package sqldb

import (
	"context"
	"database/sql"
	"fmt"
	"sync/atomic"
)

// asking runs statements in a transaction; without one, on the database.
type asking struct {
	of *DB
	tx Tx

	within *ready
}

// cursors are numbered, so that one can be read while another is.
var cursors atomic.Int64

func (a asking) statement(ctx context.Context, query string) *sql.Stmt {
	if !a.of.Prepares() {
		return nil
	}
	s := a.of.statement(query, a.tx != nil)
	switch {
	case a.tx == nil:
		return s
	case s != nil:
		return a.tx.StmtContext(ctx, s)
	}
	return a.within.statement(ctx, a.tx, query)
}

// query asks the transaction; without one, the database.
func (a asking) query(ctx context.Context, query string, args []any) (*sql.Rows, error) {
	query, args = a.of.Statement(query, args)
	if a.tx != nil {
		return a.tx.QueryContext(ctx, query, args...)
	}
	return a.of.db.QueryContext(ctx, query, args...)
}

// QueryRowContext implements Querier.
func (a asking) QueryRowContext(ctx context.Context, query string, args ...any) Scanner {
	if a.of.Busy() {
		rows, err := a.QueryContext(ctx, query, args...)
		if err != nil {
			return takenRow{err: err}
		}
		return takenRow{rows: rows.(*taken)}
	}
	switch s := a.statement(ctx, query); {
	case s != nil:
		return s.QueryRowContext(ctx, args...)
	case a.tx != nil:
		return a.tx.QueryRowContext(ctx, query, args...)
	}
	return a.of.db.QueryRowContext(ctx, query, args...)
}

// QueryContext implements Querier.
func (a asking) QueryContext(ctx context.Context, query string, args ...any) (Rows, error) {
	if s := a.statement(ctx, query); s != nil {
		return asRows(s.QueryContext(ctx, args...))
	}
	if !a.of.Busy() {
		return asRows(a.query(ctx, query, args))
	}
	out := &taken{}
	ask := func() error {
		defer a.inLine()()
		rows, err := a.query(ctx, query, args)
		if err == nil {
			out.columns, out.list, err = take(rows, a.of.Value)
		}
		return err
	}
	var err error
	if a.tx != nil { // what was asked before in it would have to be asked again
		err = ask()
	} else {
		err = a.of.Again(ctx, ask)
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// StreamContext implements Querier.
func (a asking) StreamContext(ctx context.Context, query string, args ...any) (Rows, error) {
	switch {
	case !a.of.Busy():
		return a.QueryContext(ctx, query, args...)
	case a.tx != nil:
		query, args = a.of.Statement(query, args)
		return a.cursor(ctx, fmt.Sprintf("c%d", cursors.Add(1)), query, args)
	}
	var rows *sql.Rows
	err := a.of.Again(ctx, func() (err error) {
		rows, err = a.query(ctx, query, args)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &decoded{Rows: rows, value: a.of.Value}, nil
}

// inLine waits until no one else asks the transaction, and returns what lets the next one ask.
func (a asking) inLine() (done func()) {
	if a.tx == nil || a.within == nil {
		return func() {}
	}
	a.within.line.Lock()
	return a.within.line.Unlock
}

// asRows keeps a nil of one type from becoming something that is not nil.
func asRows(rows *sql.Rows, err error) (Rows, error) {
	if err != nil {
		return nil, err
	}
	return rows, nil
}

// Package sqldb is what all databases of records have in common: a connection, a moment at which records are read
// (View), and one change at a time (Begin). It knows no table. What a database wants otherwise than the others is its
// Dialect; the packages sqlite and postgres have one each. The questions are in package sqlstore, once for all of them.
package sqldb

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"ironseal/internal/store"
)

// DB is a database of records, or what it held at one moment.
type DB struct {
	Dialect
	db   *sql.DB
	view Tx // what is read is of one moment; nil for whatever is newest

	prepared *prepared
	within   *ready // of the transaction; nil if none exists
}

// New is a database that was opened.
func New(db *sql.DB, d Dialect) *DB {
	return &DB{Dialect: d, db: db, prepared: &prepared{by: map[string]*sql.Stmt{}, wanted: map[string]bool{}}}
}

// SQL is the database itself, for its dialect.
func (d *DB) SQL() *sql.DB { return d.db }

// Querier is what records are read through: the database, or a transaction.
type Querier interface {
	// QueryRowContext asks for one row.
	QueryRowContext(ctx context.Context, query string, args ...any) Scanner
	// QueryContext asks for rows. Another question can be asked before they are read to the end.
	QueryContext(ctx context.Context, query string, args ...any) (Rows, error)
	// StreamContext is QueryContext for rows that may be very many.
	StreamContext(ctx context.Context, query string, args ...any) (Rows, error)
	// Words are the dialect's.
	Words() Words
}

// Scanner is a row that can be read.
type Scanner interface{ Scan(into ...any) error }

// Rows are rows that are read one after another. *sql.Rows are such.
type Rows interface {
	Scanner
	Next() bool
	Err() error
	Close() error
	Columns() ([]string, error)
}

// View lets fn read the records as they are at one moment, while others continue
// writing. The moment is that of the first reading. Where the connection to a server is lost, fn is called again with a
// later moment.
func (d *DB) View(ctx context.Context, fn func(*DB) error) error {
	if d.view != nil {
		return fn(d)
	}
	return d.Again(ctx, func() error { return d.moment(ctx, fn) })
}

// Again tries what only reads until the connection to a server holds, or patience ends.
func (d *DB) Again(ctx context.Context, try func() error) error {
	until := time.Now().Add(d.Patience())
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := try()
		if !d.Lost(err) || time.Now().Add(pause).After(until) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}

func (d *DB) moment(ctx context.Context, fn func(*DB) error) error {
	tx, err := d.db.BeginTx(ctx, d.ViewOptions())
	if err != nil {
		return d.Explain(err)
	}
	defer d.prepare()
	defer tx.Rollback()
	return fn(&DB{d.Dialect, d.db, tx, d.prepared, &ready{}})
}

// Querier is what queries run on: the transaction of a snapshot, or the database.
func (d *DB) Querier() Querier { return asking{d, d.view, d.within} }

// QueryRow asks for one row; what goes wrong is explained.
func (d *DB) QueryRow(ctx context.Context, query string, args ...any) Scanner {
	return explained{d.Querier().QueryRowContext(ctx, query, args...), d}
}

// ReadOnly says why nothing can be recorded, or nil.
func (d *DB) ReadOnly() error {
	if d.Writable() {
		return nil
	}
	return fmt.Errorf("records %s: %w", d.Place(), store.ErrReadOnly)
}

// Close closes the database.
func (d *DB) Close() error { return d.Shut(d.db) }

type explained struct {
	row Scanner
	d   *DB
}

// Scan implements Scanner.
func (e explained) Scan(into ...any) error { return e.d.Explain(e.row.Scan(into...)) }

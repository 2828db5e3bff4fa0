package sqldb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Change is one transaction that writes.
type Change struct {
	Ctx context.Context
	At  time.Time // what it records carries this moment
	tx  Tx
	of  *DB

	within *ready

	first *[]any // the answer to what was asked as the change began; points to nil where it has to be asked
}

// View is the database as the change sees it: what others committed before it, and what it wrote
// itself. It can be read until the change ends.
func (c *Change) View() *DB {
	return &DB{c.of.Dialect, c.of.db, c.tx, c.of.prepared, c.within}
}

// Begin begins a change, once no other is going on. now is asked then.
func (d *DB) Begin(ctx context.Context, now func() time.Time) (*Change, error) {
	return d.BeginAsking(ctx, now, "")
}

// BeginAsking is Begin, with a question of one row. See First.
func (d *DB) BeginAsking(ctx context.Context, now func() time.Time, question string,
	args ...any) (*Change, error) {
	tx, row, err := d.Dialect.Begin(ctx, d.db, question, args...)
	if err != nil {
		return nil, d.Explain(err)
	}
	return &Change{Ctx: ctx, At: now().UTC(), tx: tx, of: d, within: &ready{}, first: &row}, nil
}

// First is the answer to the question with which the change began, once; nil where it has to be asked.
func (c *Change) First() Scanner {
	if c.first == nil || *c.first == nil {
		return nil
	}
	row := *c.first
	*c.first = nil
	return &taken{list: [][]any{row}, at: 1}
}

// For is the change in the name of another act of the same transaction. now is asked for its moment.
func (c *Change) For(ctx context.Context, now func() time.Time) *Change {
	return &Change{Ctx: ctx, At: now().UTC(), tx: c.tx, of: c.of, within: c.within, first: c.first}
}

// Spoil prevents the commit: a statement of the change failed half way. It returns the failure.
func (c *Change) Spoil(err error) error {
	c.within.spoilt = errors.Join(c.within.spoilt, err)
	return err
}

// Commit keeps the change.
func (c *Change) Commit() error {
	if c.within.spoilt != nil {
		return fmt.Errorf("a statement of the change failed, and it is not kept: %w", c.within.spoilt)
	}
	err := c.tx.Commit()
	c.of.prepare()
	return err
}

// Rollback drops the change, unless it was kept.
func (c *Change) Rollback() { _ = c.tx.Rollback() }

// Now is the moment of the change: what it records, and its entries, carry it.
func (c *Change) Now() time.Time { return c.At }

// Querier is the change as something to read from.
func (c *Change) Querier() Querier { return asking{c.of, c.tx, c.within} }

// Words are what the database writes otherwise than others.
func (c *Change) Words() Words { return c.of.Dialect }

// ChangeIn is a change within a transaction that was begun already, for a dialect.
func ChangeIn(ctx context.Context, d *DB, tx Tx) *Change {
	return &Change{Ctx: ctx, tx: tx, of: d, within: &ready{}}
}

// Exec writes.
func (c *Change) Exec(query string, args ...any) (sql.Result, error) {
	if s := (asking{c.of, c.tx, c.within}).statement(c.Ctx, query); s != nil {
		return s.ExecContext(c.Ctx, args...)
	}
	query, args = c.of.Statement(query, args)
	return c.tx.ExecContext(c.Ctx, query, args...)
}

// ExecLater runs a statement whose outcome is not needed, before the next one or with the commit.
func (c *Change) ExecLater(query string, args ...any) error {
	if l, ok := c.tx.(Later); ok {
		query, args = c.of.Statement(query, args)
		l.ExecLater(query, args...)
		return nil
	}
	_, err := c.Exec(query, args...)
	return err
}

// QueryRow asks for one row.
func (c *Change) QueryRow(query string, args ...any) Scanner {
	return c.Querier().QueryRowContext(c.Ctx, query, args...)
}

// Query asks for rows.
func (c *Change) Query(query string, args ...any) (Rows, error) {
	return c.Querier().QueryContext(c.Ctx, query, args...)
}

// Stream asks for rows that may be very many.
func (c *Change) Stream(query string, args ...any) (Rows, error) {
	return c.Querier().StreamContext(c.Ctx, query, args...)
}

// SkipRequests lets request numbers continue at the next thousand, and returns it:
// numbers that were given out after a backup are not used again.
func (c *Change) SkipRequests() (int64, error) { return c.of.SkipRequests(c) }

// OrNull is a relation, or none for 0.
func OrNull(n int64) any {
	if n == 0 {
		return nil
	}
	return n
}

// valuesAtOnce is how many values one statement may have; the database bounds them.
const valuesAtOnce = 900

// manyRows is from how many rows on a database that can be sent rows as such is sent them.
const manyRows = 16

// Insert adds rows to a table. columns are their names, with commas.
func (c *Change) Insert(table, names string, values []any) error {
	list := strings.Split(names, ", ")
	columns := len(list)
	if r, ok := c.tx.(RowsTaker); ok && len(values) >= manyRows*columns {
		return r.TakeRows(c.Ctx, table, list, values)
	}
	into := table + " (" + names + ")"
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", columns), ",") + "),"
	for len(values) > 0 {
		n := min(len(values)/columns, valuesAtOnce/columns)
		if _, err := c.Exec(c.Words().Insert()+into+" VALUES "+strings.TrimSuffix(strings.Repeat(row, n), ","),
			values[:n*columns]...); err != nil {
			return c.Spoil(err)
		}
		values = values[n*columns:]
	}
	return nil
}

package sqlite

import (
	"context"
	"database/sql"
	"strings"
	"time"
)

// Change is one transaction that writes.
type Change struct {
	Ctx context.Context
	At  time.Time // what it records carries this moment
	tx  *sql.Tx
	of  *DB
}

// View is the database as the change sees it: what others committed before it, and what it wrote
// itself. It can be read until the change ends.
func (c *Change) View() *DB { return &DB{c.of.db, c.of.path, c.of.how, c.tx, c.of.prepared} }

// Begin begins a change, once no other is going on. now is asked then.
func (d *DB) Begin(ctx context.Context, now func() time.Time) (*Change, error) {
	tx, err := d.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, d.Explain(err)
	}
	return &Change{Ctx: ctx, At: now().UTC(), tx: tx, of: d}, nil
}

// For is the change in the name of another act of the same transaction. now is asked for its moment.
func (c *Change) For(ctx context.Context, now func() time.Time) *Change {
	return &Change{Ctx: ctx, At: now().UTC(), tx: c.tx, of: c.of}
}

// Commit keeps the change.
func (c *Change) Commit() error {
	err := c.tx.Commit()
	c.of.prepare()
	return err
}

// Rollback drops the change, unless it was kept.
func (c *Change) Rollback() { _ = c.tx.Rollback() }

// Now is the moment of the change: what it records, and its entries, carry it.
func (c *Change) Now() time.Time { return c.At }

// Querier is the change as something to read from.
func (c *Change) Querier() Querier { return asking{c.of, c.tx} }

// Exec writes.
func (c *Change) Exec(query string, args ...any) (sql.Result, error) {
	if s := c.of.statement(query, true); s != nil {
		return c.tx.StmtContext(c.Ctx, s).ExecContext(c.Ctx, args...)
	}
	return c.tx.ExecContext(c.Ctx, query, args...)
}

// QueryRow asks for one row.
func (c *Change) QueryRow(query string, args ...any) *sql.Row {
	return c.Querier().QueryRowContext(c.Ctx, query, args...)
}

// Query asks for rows.
func (c *Change) Query(query string, args ...any) (*sql.Rows, error) {
	return c.Querier().QueryContext(c.Ctx, query, args...)
}

// Prepare prepares a sentence that is said many times.
func (c *Change) Prepare(query string) (*sql.Stmt, error) { return c.tx.PrepareContext(c.Ctx, query) }

// SkipRequests lets request numbers continue at the next thousand, and returns it:
// numbers that were given out after a backup are not used again.
func (t *Change) SkipRequests() (int64, error) {
	var last int64
	if err := t.QueryRow("SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name = 'request'").
		Scan(&last); err != nil {
		return 0, err
	}
	next := (last/1000 + 1) * 1000
	if _, err := t.Exec("DELETE FROM sqlite_sequence WHERE name = 'request'"); err != nil {
		return 0, err
	}
	_, err := t.Exec("INSERT INTO sqlite_sequence (name, seq) VALUES ('request', ?)", next)
	return next + 1, err
}

// OrNull is a relation, or none for 0.
func OrNull(n int64) any {
	if n == 0 {
		return nil
	}
	return n
}

// valuesAtOnce is how many values one statement may have; the database bounds them.
const valuesAtOnce = 900

// Insert adds rows of so many columns each, as many to a statement as may be.
func (c *Change) Insert(into string, columns int, values []any) error {
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", columns), ",") + "),"
	for len(values) > 0 {
		n := min(len(values)/columns, valuesAtOnce/columns)
		if _, err := c.Exec("INSERT INTO "+into+" VALUES "+strings.TrimSuffix(strings.Repeat(row, n), ","),
			values[:n*columns]...); err != nil {
			return err
		}
		values = values[n*columns:]
	}
	return nil
}

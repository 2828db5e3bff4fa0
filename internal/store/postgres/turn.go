package postgres

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"ironseal/internal/store/sqldb"
)

// All other writers wait while one has its turn, so a change is begun by one message (the transaction, the lock, the
// notice for those who listen, and what the change asks first) and ended by one: what is written last goes with the
// commit.

// turn is a transaction that has its turn. It is a sqldb.Tx, and a sqldb.Later.
type turn struct {
	*sql.Conn
	of    *server
	ctx   context.Context
	over  bool
	later pgx.Batch // statements that go with the next, or with the commit
}

var _ sqldb.Later = (*turn)(nil)

// ExecLater implements sqldb.Later.
func (t *turn) ExecLater(query string, args ...any) { t.later.Queue(query, args...) }

// flush sends what was to go with the next statement.
func (t *turn) flush(ctx context.Context) error {
	if t.later.Len() == 0 {
		return nil
	}
	return t.with(func(c *pgx.Conn) error { return t.sendLater(ctx, c, nil) })
}

// sendLater sends the statements that wait, and calls end with what the last did.
func (t *turn) sendLater(ctx context.Context, c *pgx.Conn, end func(did string)) error {
	batch := t.later
	t.later = pgx.Batch{}
	n := batch.Len()
	all := c.SendBatch(ctx, &batch)
	defer all.Close()
	for i := range n {
		tag, err := all.Exec()
		if err != nil {
			return err
		}
		if end != nil && i == n-1 {
			end(tag.String())
		}
	}
	return all.Close()
}

// ExecContext implements sqldb.Tx.
func (t *turn) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := t.flush(ctx); err != nil {
		return nil, err
	}
	return t.Conn.ExecContext(ctx, query, args...)
}

// QueryContext implements sqldb.Tx.
func (t *turn) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := t.flush(ctx); err != nil {
		return nil, err
	}
	return t.Conn.QueryContext(ctx, query, args...)
}

// Begin begins a change, once no other is going on. It waits for as long as the connection says (lock_timeout).
// Listeners get a notice of the change only when it is committed.
func (s *server) Begin(ctx context.Context, db *sql.DB, first string, args ...any) (sqldb.Tx, []any, error) {
	c, err := db.Conn(ctx)
	if err != nil {
		return nil, nil, err
	}
	t := &turn{Conn: c, of: s, ctx: ctx}
	row, err := s.begun(ctx, t, first, args)
	if err != nil {
		return nil, nil, errors.Join(err, t.Rollback())
	}
	return t, row, nil
}

func (s *server) begun(ctx context.Context, t *turn, first string, args []any) (row []any, err error) {
	err = t.with(func(c *pgx.Conn) error {
		var b pgx.Batch
		b.Queue("BEGIN ISOLATION LEVEL READ COMMITTED")
		b.Queue("LOCK TABLE turn IN SHARE ROW EXCLUSIVE MODE")
		b.Queue("NOTIFY " + pgx.Identifier{s.channel}.Sanitize())
		if first != "" {
			text, values := s.Statement(first, args)
			b.Queue(text, values...)
		}
		all := c.SendBatch(ctx, &b)
		defer all.Close()
		for range 3 {
			if _, err := all.Exec(); err != nil {
				return err
			}
		}
		if first != "" {
			rows, err := all.Query()
			if err != nil {
				return err
			}
			if row, err = pgx.CollectOneRow(rows, func(r pgx.CollectableRow) ([]any, error) {
				return r.
					Values()
			}); err != nil {
				return err
			}
		}
		return all.Close()
	})
	for i := range row {
		row[i] = s.Value(row[i])
	}
	return row, err
}

// with lends the connection as the driver has it.
func (t *turn) with(fn func(*pgx.Conn) error) error {
	return t.Raw(func(driver any) error {
		c, ok := driver.(*stdlib.Conn)
		if !ok {
			return errors.ErrUnsupported
		}
		return fn(c.Conn())
	})
}

// TakeRows implements sqldb.RowsTaker.
func (t *turn) TakeRows(ctx context.Context, table string, columns []string, values []any) error {
	if err := t.flush(ctx); err != nil {
		return err
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = strings.Trim(c, `"`)
	}
	return t.with(func(c *pgx.Conn) error {
		_, err := c.CopyFrom(ctx, pgx.Identifier{table}, names, pgx.CopyFromSlice(len(values)/len(columns),
			func(i int) ([]any, error) {
				row := make([]any, len(columns))
				for j := range row {
					row[j] = argument(values[i*len(columns)+j])
				}
				return row, nil
			}))
		return err
	})
}

// StmtContext implements sqldb.Tx. The driver keeps statements ready, so it is never called.
func (t *turn) StmtContext(context.Context, *sql.Stmt) *sql.Stmt { return nil }

// Commit implements sqldb.Tx.
func (t *turn) Commit() error {
	if t.over {
		return sql.ErrTxDone
	}
	if err := t.ctx.Err(); err != nil {
		return errors.Join(err, t.Rollback())
	}
	t.over = true
	t.later.Queue("COMMIT")
	did := ""
	err := t.with(func(c *pgx.Conn) error {
		return t.sendLater(t.ctx, c, func(last string) { did = last })
	})
	if err == nil && did != "COMMIT" { // a statement of it had failed
		err = pgx.ErrTxCommitRollback
	}
	if err != nil && !t.of.Lost(err) {
		err = errors.Join(&sqldb.DroppedError{Err: err}, t.drop())
	}
	return errors.Join(err, t.Close())
}

// endWait is how long the end of a change that is dropped is waited for. The server drops it with the connection.
const endWait = 5 * time.Second

// Rollback implements sqldb.Tx.
func (t *turn) Rollback() error {
	if t.over {
		return sql.ErrTxDone
	}
	t.over = true
	return errors.Join(t.drop(), t.Close())
}

func (t *turn) drop() error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(t.ctx), endWait)
	defer cancel()
	return t.with(func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, "ROLLBACK")
		return err
	})
}

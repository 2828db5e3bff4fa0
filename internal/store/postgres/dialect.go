package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironseal/internal/store/sqldb"
)

// Prepares implements sqldb.Dialect: the driver keeps statements ready on each connection.
func (*server) Prepares() bool { return false }

// Shared implements sqldb.Dialect.
func (*server) Shared() bool { return true }

// Busy implements sqldb.Dialect.
func (*server) Busy() bool { return true }

// ViewOptions implements sqldb.Dialect.
func (*server) ViewOptions() *sql.TxOptions {
	return &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}
}

// Listen calls told when others committed a change, until ctx ends or the connection does.
func (s *server) Listen(ctx context.Context, told func()) error {
	c, err := s.pool.Acquire(ctx)
	if err != nil {
		return s.Explain(err)
	}
	defer c.Release()
	if _, err := c.Exec(ctx, "LISTEN "+pgx.Identifier{s.channel}.Sanitize()); err != nil {
		return s.Explain(err)
	}
	for {
		if _, err := c.Conn().WaitForNotification(ctx); err != nil {
			return s.Explain(err)
		}
		told()
	}
}

// Indexed implements sqldb.Words: the planner finds the index.
func (*server) Indexed(string) string { return "" }

// Among is a condition that a number is among those of its argument.
func (*server) Among(column string) string { return column + " = ANY (?::bigint[])" }

// Numbers is the argument of Among.
func (*server) Numbers(list []int64) (any, error) {
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = fmt.Sprint(n)
	}
	return "{" + strings.Join(texts, ",") + "}", nil
}

// KeysTable is a table k of one column, key.
func (*server) KeysTable() string {
	return "(SELECT decode(unnest(string_to_array(?::text, ',')), 'hex') AS key) k"
}

// Keys is the argument of KeysTable.
func (*server) Keys(list [][32]byte) (any, error) {
	texts := make([]string, len(list))
	for i, k := range list {
		texts[i] = fmt.Sprintf("%x", k)
	}
	return strings.Join(texts, ","), nil
}

// Insert begins a statement that adds rows.
func (*server) Insert() string { return "INSERT INTO " }

// Update begins a statement that changes rows.
func (*server) Update() string { return "UPDATE " }

// InOrder joins tables; the planner finds the order.
func (*server) InOrder() string { return "JOIN" }

// InText is a condition that a text has another in it.
func (*server) InText(column, argument string) string {
	return "strpos(" + column + ", " + argument + ") > 0"
}

// EqualFold is a condition that a text is its argument, where case does not count.
func (*server) EqualFold(column string) string { return "lower(" + column + `) = lower(? COLLATE "C")` }

// Hex is a column of octets as a text, in hex.
func (*server) Hex(column string) string { return "encode(" + column + ", 'hex')" }

// Larger is the larger of two numbers.
func (*server) Larger(a, b string) string { return "greatest(" + a + ", " + b + ")" }

// Lines are the texts of rows, in an order, each on a line.
func (*server) Lines(text, order string) string {
	return "string_agg(" + text + ", chr(10) ORDER BY " + order + ")"
}

// Snapshot implements sqldb.Dialect: whoever copies records knows the tables.
func (*server) Snapshot(context.Context, *sqldb.DB, string) error { return errors.ErrUnsupported }

// SkipRequests implements sqldb.Dialect.
func (*server) SkipRequests(c *sqldb.Change) (next int64, err error) {
	var last, highest int64
	if err := c.QueryRow("SELECT coalesce((SELECT max(number) FROM request), 0), coalesce(pg_sequence_last_value("+
		"pg_get_serial_sequence('request', 'number')::regclass), 0)").Scan(&highest, &last); err != nil {
		return 0, err
	}
	next = (max(last, highest)/1000 + 1) * 1000
	_, err = c.Exec("SELECT setval(pg_get_serial_sequence('request', 'number')::regclass, ?)", next)
	return next + 1, err
}

// LaterRelations implements sqldb.Dialect.
func (*server) LaterRelations(c *sqldb.Change) error {
	_, err := c.Exec("SET CONSTRAINTS ALL DEFERRED")
	return err
}

// numbered are the tables whose rows are numbered by the server.
var numbered = map[string]string{"authority": "id", "request": "number", "generation": "id", "sent": "id",
	"revocation": "id", "waiver": "id", "moduli": "id"}

// Continue implements sqldb.Dialect.
func (*server) Continue(c *sqldb.Change) error {
	for table, column := range numbered {
		if _, err := c.Exec(fmt.Sprintf("SELECT setval(pg_get_serial_sequence('%s', '%s')::regclass, "+
			"greatest((SELECT coalesce(max(%s), 0) FROM %s), 1), (SELECT count(*) > 0 FROM %s))", table, column, column,
			table, table)); err != nil {
			return err
		}
	}
	return nil
}

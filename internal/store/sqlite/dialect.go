package sqlite

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"time"
)

// What SQLite wants otherwise than other databases stands here. The rest of the SQL is shared: inserts say ON CONFLICT
// and RETURNING, which all of them know. Arguments are written as SQLite does, and others write them again.

// Statement implements sqldb.Dialect.
func (*file) Statement(query string, args []any) (string, []any) { return query, args }

// Prepares implements sqldb.Dialect: to parse a statement takes longer here than to run it.
func (*file) Prepares() bool { return true }

// Shared implements sqldb.Dialect.
func (*file) Shared() bool { return false }

// Busy implements sqldb.Dialect.
func (*file) Busy() bool { return false }

// Value implements sqldb.Dialect.
func (*file) Value(v any) any { return v }

// Lost implements sqldb.Dialect: there is no connection that could end.
func (*file) Lost(error) bool { return false }

// Patience implements sqldb.Dialect.
func (*file) Patience() time.Duration { return 0 }

// Listen implements sqldb.Dialect: whoever wants to know looks at the file.
func (*file) Listen(context.Context, func()) error { return nil }

// Larger is the larger of two numbers.
func (*file) Larger(a, b string) string { return "max(" + a + ", " + b + ")" }

// Lines are the texts of rows, in an order, each on a line.
func (*file) Lines(text, order string) string {
	return "group_concat(" + text + ", char(10) ORDER BY " + order + ")"
}

// Hex is a column of octets as a text, in hex.
func (*file) Hex(column string) string { return "lower(hex(" + column + "))" }

// EachRow asks for all rows of a table.
func (*file) EachRow(table string) string {
	return "SELECT rowid AS rowid, * FROM " + table + " ORDER BY rowid"
}

// Indexed names the index that a question uses: SQLite's planner takes another one where an authority has very many
// revocations.
func (*file) Indexed(index string) string { return " INDEXED BY " + index }

// Among is a condition that a number is among those of its argument, see Numbers.
func (*file) Among(column string) string { return column + " IN (SELECT value FROM json_each(?))" }

// Numbers is the argument of Among.
func (*file) Numbers(list []int64) (any, error) {
	text, err := json.Marshal(list)
	return string(text), err
}

// KeysTable is a table k of one column, key, with the keys of its argument, see Keys.
func (*file) KeysTable() string { return "(SELECT unhex(value) AS key FROM json_each(?)) k" }

// Keys is the argument of KeysTable.
func (*file) Keys(list [][32]byte) (any, error) {
	texts := make([]string, len(list))
	for i, k := range list {
		texts[i] = hex.EncodeToString(k[:])
	}
	text, err := json.Marshal(texts)
	return string(text), err
}

// Insert begins a statement that adds rows.
func (*file) Insert() string { return "INSERT OR FAIL INTO " }

// Update begins a statement that changes rows.
func (*file) Update() string { return "UPDATE OR FAIL " }

// InOrder joins tables in the order in which they are written.
func (*file) InOrder() string { return "CROSS JOIN" }

// InText is a condition that a text has another in it.
func (*file) InText(column, argument string) string { return "instr(" + column + ", " + argument + ")" }

// EqualFold is a condition that a text is its argument, where case does not count.
func (*file) EqualFold(column string) string { return column + " = ? COLLATE NOCASE" }

package sqldb

import (
	"context"
	"database/sql"
	"time"
)

// Version is the form of the records that this program reads and writes, whichever database keeps them.
const Version = 7

// Dialect is what a database wants otherwise than the others.
type Dialect interface {
	Words

	// Place names the records in messages. It has no password in it.
	Place() string
	// HeadFile is the file of this machine that notes the journal's newest entry.
	HeadFile() string
	// Writable reports whether anything can be recorded.
	Writable() bool
	// Shared reports whether other machines record in the same place.
	Shared() bool
	// Explain puts the database's commonest troubles into words, as faults of package store.
	Explain(err error) error
	// Lost reports whether an error says that the connection ended, so that a transaction was not committed, or may
	// have been.
	Lost(err error) bool
	// Patience is how long a change is tried again after its connection was lost; 0 where that cannot happen.
	Patience() time.Duration

	// Begin begins a change, once no other is under way. Listeners get a notice when it is committed. first is a
	// question that is asked in the same breath, where that saves time; the row is nil where it does
	// not, or if none exists.
	Begin(ctx context.Context, db *sql.DB, first string, args ...any) (Tx, []any, error)
	// ViewOptions are those of a transaction that reads records of one moment.
	ViewOptions() *sql.TxOptions
	// Prepares reports whether statements are kept ready here; false where the driver does so.
	Prepares() bool
	// Statement is a statement in the database's own writing, with its arguments in that order.
	Statement(query string, args []any) (string, []any)
	// Busy reports whether a connection answers one question at a time, so that rows must be taken off it before
	// the next.
	Busy() bool
	// Value is a value that was read, as it was when it was written.
	Value(v any) any
	// Shut closes the database.
	Shut(db *sql.DB) error

	// Snapshot writes the records as they are at one moment into a new file of SQLite.
	Snapshot(ctx context.Context, d *DB, file string) error
	// CheckIntegrity asks the database to check itself.
	CheckIntegrity(ctx context.Context, d *DB) error
	// Schema says how the tables differ from those that this program makes.
	Schema(ctx context.Context, d *DB) ([]string, error)
	// Rebuild lets fn make tables again in one transaction, those of an earlier form.
	Rebuild(ctx context.Context, d *DB, fn func(*Change) error) error
	// RebuildTables makes every table as this program makes it, with the rows of the table that was there.
	RebuildTables(c *Change) error
	// SkipRequests lets request numbers continue at the next thousand, and returns it.
	SkipRequests(c *Change) (int64, error)
	// LaterRelations lets relations between rows be checked when the change is committed.
	LaterRelations(c *Change) error
	// Continue lets the numbers of rows that are added continue after those that were copied.
	Continue(c *Change) error
	// Listen calls told when others committed a change, until ctx ends. It returns at once if the database sends no
	// notices.
	Listen(ctx context.Context, told func()) error
}

// Tx is a transaction of a database. *sql.Tx is one.
type Tx interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	StmtContext(ctx context.Context, s *sql.Stmt) *sql.Stmt
	Commit() error
	Rollback() error
}

// Later is a Tx that can let a statement wait, to go with the next one or with the commit.
type Later interface {
	// ExecLater writes, later. An error of it is one of the next statement, or a DroppedError of the commit.
	ExecLater(query string, args ...any)
}

// RowsTaker is a Tx that takes many rows faster than statements bring them.
type RowsTaker interface {
	TakeRows(ctx context.Context, table string, columns []string, values []any) error
}

// DroppedError says that a change was not committed, for certain.
type DroppedError struct{ Err error }

func (d *DroppedError) Error() string { return d.Err.Error() }

// Unwrap gives the cause.
func (d *DroppedError) Unwrap() error { return d.Err }

// Words are what databases write otherwise in the middle of a question.
type Words interface {
	// Indexed names the index that a question uses, where the planner takes another one.
	Indexed(index string) string
	// Among is a condition that a number is among those of its argument, see Numbers.
	Among(column string) string
	// Numbers is the argument of Among.
	Numbers(list []int64) (any, error)
	// KeysTable is a table k of one column, key, with the keys of its argument, see Keys.
	KeysTable() string
	// Keys is the argument of KeysTable.
	Keys(list [][32]byte) (any, error)
	// Insert begins a statement that adds rows. Where it fails, the change is not kept, so the database need not be
	// able to take back this statement alone.
	Insert() string
	// Update begins a statement that changes rows, under the same condition.
	Update() string
	// InOrder joins tables in the order in which they are written, where the planner would take another.
	InOrder() string
	// InText is a condition that a text has another in it.
	InText(column, argument string) string
	// EqualFold is a condition that a text is its argument, where case does not count. Only letters from A to Z
	// have a case there.
	EqualFold(column string) string
	// Larger is the larger of two numbers.
	Larger(a, b string) string
	// Lines are the texts of rows, in an order, each on a line.
	Lines(text, order string) string
	// Hex is a column of octets as a text, in hex.
	Hex(column string) string
	// EachRow asks for all rows of a table in the order in which they came, each with its rowid.
	EachRow(table string) string
}

// Words implements Querier.
func (a asking) Words() Words { return a.of.Dialect }

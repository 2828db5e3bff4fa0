package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"ironseal/internal/disk"
	"ironseal/internal/store"
)

// DB is a database of records, or what it held at one moment.
type DB struct {
	db   *sql.DB
	path string
	how  access
	view *sql.Tx // what is read is of one moment; nil for whatever is newest

	prepared *prepared
}

// Querier is what records are read through: the database, or a transaction.
type Querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Scanner is a row that can be read.
type Scanner interface{ Scan(into ...any) error }

// Path is the file of the database.
func (d *DB) Path() string { return d.path }

// Writable reports whether anything can be recorded.
func (d *DB) Writable() bool { return d.how == readWrite }

// View lets fn read the records as they are at one moment, while others continue
// writing. The moment is that of the first reading.
func (d *DB) View(ctx context.Context, fn func(*DB) error) error {
	if d.view != nil {
		return fn(d)
	}
	tx, err := d.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return d.Explain(err)
	}
	defer d.prepare()
	defer tx.Rollback()
	return fn(&DB{d.db, d.path, d.how, tx, d.prepared})
}

// Querier is what queries run on: the transaction of a snapshot, or the database.
func (d *DB) Querier() Querier { return asking{d, d.view} }

// QueryRow asks for one row; what goes wrong is explained.
func (d *DB) QueryRow(ctx context.Context, query string, args ...any) Scanner {
	return explained{d.Querier().QueryRowContext(ctx, query, args...), d}
}

// ReadOnly says why nothing can be recorded, or nil.
func (d *DB) ReadOnly() error {
	if d.Writable() {
		return nil
	}
	return fmt.Errorf("records %s: %w", d.path, store.ErrReadOnly)
}

// Close closes the database.
func (d *DB) Close() error { return d.db.Close() }

// access is how the file is opened.
type access int

const (
	readWrite access = iota
	readOnly         // the directory cannot be written, and the log beside the file is there
	immutable        // nor is there a log: nobody can be writing
)

func open(path string, how access) (*DB, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	// a drive letter must not look like a host
	u := url.URL{Scheme: "file", Path: "/" + strings.TrimPrefix(filepath.ToSlash(abs), "/")}
	q := url.Values{}
	q.Add("_pragma", fmt.Sprintf("busy_timeout(%d)", store.BusyWait.Milliseconds()))
	q.Add("_pragma", "foreign_keys(1)")
	q.Add("_pragma", "trusted_schema(0)")
	switch how {
	case readWrite:
		q.Add("_pragma", "journal_mode(WAL)")
		q.Add("_pragma", "synchronous(FULL)")
		q.Set("_txlock", "immediate")
		q.Set("mode", "rw") // a file that was taken away is not made again, empty
	case immutable:
		q.Set("immutable", "1")
		fallthrough
	case readOnly:
		q.Set("mode", "ro")
	}
	u.RawQuery = q.Encode()
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	db.SetMaxIdleConns(idleConnections)
	ready := &prepared{by: map[string]*sql.Stmt{}, wanted: map[string]bool{}}
	return &DB{db: db, path: path, how: how, prepared: ready}, nil
}

// idleConnections is how many connections a server keeps between requests: to open one takes longer than to ask.
const idleConnections = 16

// accessTo finds out how the records can be opened. Commands that read work on a
// disk that cannot be written; what a writer left in the log is read where it can.
func accessTo(path string) access {
	if disk.Writable(filepath.Dir(path)) {
		return readWrite
	}
	if info, err := os.Stat(path + "-wal"); err != nil || info.Size() == 0 {
		return immutable
	}
	return readOnly
}

// Create makes a database with empty tables. The file is made readable by its owner
// only before anything is written to it.
func Create(ctx context.Context, path string) (*DB, error) {
	f, err := disk.CreateNew(path, 0o600)
	if err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	d, err := open(path, readWrite)
	if err != nil {
		return nil, err
	}
	if _, err = d.db.ExecContext(ctx, schema); err != nil {
		return nil, errors.Join(fmt.Errorf("records %s: %w", path, err), d.Close())
	}
	return d, nil
}

// Open opens a database, and returns the form of its records.
func Open(ctx context.Context, path string) (d *DB, form string, err error) {
	if _, err := os.Stat(path); err != nil {
		return nil, "", fmt.Errorf("records %s: they are missing: restore them from a backup", path)
	}
	if d, err = open(path, accessTo(path)); err != nil {
		return nil, "", err
	}
	if err = d.QueryRow(ctx, "SELECT value FROM meta WHERE key = 'version'").Scan(&form); err == nil {
		return d, form, nil
	}
	var c code
	switch {
	case errors.As(err, &c) && c.Code()&0xff == 1:
		err = fmt.Errorf("records %s: this is a database, and not an estate's records: restore them from a backup",
			path)
	case d.how == readOnly:
		err = fmt.Errorf("%w: acts that were not finished are in the log beside it, which can be read only where it "+
			"can be written: copy the estate to another disk", err)
	}
	return nil, "", errors.Join(err, d.Close())
}

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
	"ironseal/internal/store/sqldb"
)

// file is a database of records in one file. It is a sqldb.Dialect.
type file struct {
	path string
	how  access
}

var _ sqldb.Dialect = (*file)(nil)

// Place is the file of the database.
func (f *file) Place() string { return f.path }

// HeadFile is the file beside the records that notes the journal's newest entry.
func (f *file) HeadFile() string { return f.path + ".head" }

// Writable reports whether anything can be recorded.
func (f *file) Writable() bool { return f.how == readWrite }

// Begin begins a change: it waits for the one that is going on.
func (f *file) Begin(ctx context.Context, db *sql.DB, _ string, _ ...any) (sqldb.Tx, []any, error) {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return nil, nil, err
	}
	return tx, nil, nil
}

// ViewOptions implements sqldb.Dialect.
func (f *file) ViewOptions() *sql.TxOptions { return &sql.TxOptions{ReadOnly: true} }

// Shut closes the database.
func (f *file) Shut(db *sql.DB) error { return db.Close() }

// access is how the file is opened.
type access int

const (
	readWrite access = iota
	readOnly         // the directory cannot be written, and the log beside the file is there
	immutable        // nor is there a log: no one can be writing
)

// checkpointBehind is how many pages of 4 KB the log has when they are written into the database: those of indexes are
// written once instead of again and again. The log is removed where the last program closes the records.
const checkpointBehind = 4000

// spillBehind is how many changed pages of 4 KB a change keeps in memory until it is committed. With more, they are
// written before, and most likely again.
const spillBehind = 1024

func open(path string, how access) (*sqldb.DB, error) {
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
	q.Add("_pragma", fmt.Sprintf("cache_spill(%d)", spillBehind))
	switch how {
	case readWrite:
		q.Add("_pragma", "journal_mode(WAL)")
		q.Add("_pragma", "synchronous(FULL)")
		q.Add("_pragma", fmt.Sprintf("wal_autocheckpoint(%d)", checkpointBehind))
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
	return sqldb.New(db, &file{path, how}), nil
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
func Create(ctx context.Context, path string) (*sqldb.DB, error) {
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
	if _, err = d.SQL().ExecContext(ctx, schema); err != nil {
		return nil, errors.Join(fmt.Errorf("records %s: %w", path, err), d.Close())
	}
	return d, nil
}

// Open opens a database, and returns the form of its records.
func Open(ctx context.Context, path string) (d *sqldb.DB, form string, err error) {
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
	case accessTo(path) == readOnly:
		err = fmt.Errorf("%w: acts that were not finished are in the log beside it, which can be read only where it "+
			"can be written: copy the estate to another disk", err)
	}
	return nil, "", errors.Join(err, d.Close())
}

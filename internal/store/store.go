// Package store keeps an estate's records in SQL, in one file.
//
// Every change is one short transaction that ends by linking its entries into
// the journal, so that nothing is on record without its entry and no entry is
// there without its record. The database is SQLite with a write-ahead log and
// full synchronisation: when Act returns, the change survives a power cut.
// Several programs may work on one estate; a writer waits for the other.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Version is the form of the records that this program reads and writes.
const Version = 2

const schema = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
CREATE TABLE authority (
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL UNIQUE, parent INTEGER REFERENCES authority(id),
  elsewhere INTEGER NOT NULL DEFAULT 0, retired TEXT NOT NULL DEFAULT '', list_number INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE TABLE template (sha256 BLOB PRIMARY KEY, name TEXT NOT NULL, source BLOB NOT NULL) STRICT;
CREATE TABLE request (
  number INTEGER PRIMARY KEY AUTOINCREMENT, sha256 BLOB NOT NULL UNIQUE, der BLOB NOT NULL, title TEXT NOT NULL,
  key_sha256 BLOB NOT NULL, sender TEXT NOT NULL, received TEXT NOT NULL, state TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '',
  decided TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX request_key ON request(key_sha256);
CREATE INDEX request_state ON request(state);
CREATE TABLE certificate (
  id INTEGER PRIMARY KEY, serial TEXT NOT NULL, authority INTEGER REFERENCES authority(id), issuer INTEGER REFERENCES generation(id), der BLOB NOT NULL,
  title TEXT NOT NULL, subject TEXT NOT NULL, not_after INTEGER NOT NULL,
  key_sha256 BLOB NOT NULL, request INTEGER, template BLOB,
  sheet BLOB NOT NULL, staged TEXT NOT NULL DEFAULT '', replaces INTEGER REFERENCES certificate(id),
  replaced_by INTEGER REFERENCES certificate(id)) STRICT;
CREATE UNIQUE INDEX certificate_serial ON certificate(serial, authority);
CREATE INDEX certificate_end ON certificate(not_after);
CREATE INDEX certificate_request ON certificate(request);
CREATE INDEX certificate_key ON certificate(key_sha256);
CREATE TABLE generation (
  id INTEGER PRIMARY KEY, authority INTEGER NOT NULL REFERENCES authority(id), number INTEGER NOT NULL,
  certificate INTEGER NOT NULL REFERENCES certificate(id), issuer INTEGER REFERENCES generation(id),
  staged TEXT NOT NULL DEFAULT '', UNIQUE (authority, number)) STRICT;
CREATE TABLE link (
  certificate INTEGER PRIMARY KEY REFERENCES certificate(id), by_generation INTEGER NOT NULL REFERENCES generation(id),
  to_generation INTEGER NOT NULL REFERENCES generation(id)) STRICT;
CREATE TABLE sent (
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL, parent TEXT NOT NULL, der BLOB NOT NULL, key_sha256 BLOB NOT NULL, made TEXT NOT NULL,
  answered TEXT NOT NULL DEFAULT '', staged TEXT NOT NULL DEFAULT '') STRICT;
CREATE TABLE holder (certificate INTEGER NOT NULL REFERENCES certificate(id), who TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (certificate, who)) STRICT;
CREATE TABLE revocation (
  authority INTEGER NOT NULL REFERENCES authority(id), serial TEXT NOT NULL, at TEXT NOT NULL, reason INTEGER NOT NULL, PRIMARY KEY (authority, serial)) STRICT;
CREATE TABLE carried (id TEXT PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE TABLE name (kind TEXT NOT NULL, value TEXT NOT NULL, certificate INTEGER NOT NULL) STRICT;
CREATE INDEX name_value ON name(value);
CREATE TABLE outside (certificate INTEGER NOT NULL REFERENCES certificate(id), position INTEGER NOT NULL, der BLOB NOT NULL, PRIMARY KEY (certificate, position)) STRICT;
CREATE TABLE draft (key_sha256 BLOB PRIMARY KEY, file TEXT NOT NULL, sealed INTEGER NOT NULL, made TEXT NOT NULL) STRICT;
CREATE TABLE waiver (
  id INTEGER PRIMARY KEY, certificate INTEGER NOT NULL REFERENCES certificate(id), request INTEGER, code TEXT NOT NULL,
  who TEXT NOT NULL, reason TEXT NOT NULL) STRICT;
CREATE TABLE journal (
  seq INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, act TEXT NOT NULL, object TEXT NOT NULL, detail TEXT NOT NULL,
  prev BLOB NOT NULL, hash BLOB NOT NULL) STRICT;
`

// Store is an estate's records.
type Store struct {
	db   *sql.DB
	path string
}

// busyWait is how long one writer waits for another.
const busyWait = 20 * time.Second

func open(path string) (*Store, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	u := url.URL{Scheme: "file", Path: "/" + strings.TrimPrefix(filepath.ToSlash(abs), "/")} // a drive letter must not look like a host
	q := url.Values{}
	q.Add("_pragma", fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds()))
	q.Add("_pragma", "journal_mode(WAL)")
	q.Add("_pragma", "synchronous(FULL)")
	q.Add("_pragma", "foreign_keys(1)")
	q.Add("_pragma", "trusted_schema(0)")
	q.Set("_txlock", "immediate")
	u.RawQuery = q.Encode()
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	return &Store{db: db, path: path}, nil
}

// Create makes the records of a new estate. The file is made readable by its
// owner only before anything is written to it.
func Create(ctx context.Context, path, estateID string) (*Store, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	s, err := open(path)
	if err != nil {
		return nil, err
	}
	_, err = s.db.ExecContext(ctx, schema)
	if err == nil {
		_, err = s.db.ExecContext(ctx, "INSERT INTO meta VALUES ('version', ?), ('estate', ?)", fmt.Sprint(Version), estateID)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("records %s: %w", path, err)
	}
	return s, nil
}

// Open opens the records of an estate. Records of another form, and files that
// are no records, are refused.
func Open(ctx context.Context, path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("records %s: they are missing: restore them from a backup", path)
	}
	s, err := open(path)
	if err != nil {
		return nil, err
	}
	var version string
	err = s.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = 'version'").Scan(&version)
	switch {
	case err != nil:
		s.Close()
		var c sqliteCode
		if errors.As(err, &c) && c.Code()&0xff == 1 {
			return nil, fmt.Errorf("records %s: this is a database, and not an estate's records: restore them from a backup", path)
		}
		return nil, s.explain(err)
	case version != fmt.Sprint(Version):
		s.Close()
		return nil, fmt.Errorf("records %s: they have form %s; this program reads form %d: use the program that made them", path, version, Version)
	}
	return s, nil
}

// Close closes the records.
func (s *Store) Close() error { return s.db.Close() }

// EstateID is the random name that the estate was given when it was made.
func (s *Store) EstateID(ctx context.Context) (string, error) {
	var id string
	err := s.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = 'estate'").Scan(&id)
	return id, err
}

// Snapshot writes the records as they are at one moment into a new file, while
// others go on working.
func (s *Store) Snapshot(ctx context.Context, file string) error {
	if _, err := s.db.ExecContext(ctx, "VACUUM INTO ?", file); err != nil {
		return s.explain(err)
	}
	return nil
}

// Sound asks the database to check itself.
func (s *Store) Sound(ctx context.Context) error {
	var word string
	if err := s.db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&word); err != nil {
		return s.explain(err)
	}
	if word != "ok" {
		return fmt.Errorf("the database is damaged: %s", word)
	}
	return nil
}

// ListNumber is the number of the last revocation list of an authority; 0 when
// there was none.
func (s *Store) ListNumber(ctx context.Context, handle string) (int64, error) {
	var n int64
	err := s.db.QueryRowContext(ctx, "SELECT list_number FROM authority WHERE handle = ?", handle).Scan(&n)
	return n, err
}

// SkipRequests lets request numbers go on at the next thousand, and returns it:
// numbers that were given out after a backup are not used again.
func (t *Tx) SkipRequests() (int64, error) {
	var last int64
	if err := t.tx.QueryRowContext(t.ctx, "SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name = 'request'").Scan(&last); err != nil {
		return 0, err
	}
	next := (last/1000 + 1) * 1000
	if _, err := t.tx.ExecContext(t.ctx, "DELETE FROM sqlite_sequence WHERE name = 'request'"); err != nil {
		return 0, err
	}
	_, err := t.tx.ExecContext(t.ctx, "INSERT INTO sqlite_sequence (name, seq) VALUES ('request', ?)", next)
	return next + 1, err
}

// MarkRehearsal makes the records those of a rehearsal, for good.
func (t *Tx) MarkRehearsal() error {
	_, err := t.tx.ExecContext(t.ctx, "INSERT INTO meta VALUES ('rehearsal', 'yes')")
	return err
}

// IsRehearsal reports whether the records are those of a rehearsal.
func (s *Store) IsRehearsal(ctx context.Context) (bool, error) {
	var n int
	err := s.db.QueryRowContext(ctx, "SELECT count(*) FROM meta WHERE key = 'rehearsal'").Scan(&n)
	return n > 0, err
}

// LimitPages bounds the size of the database, to try what happens on a full disk.
func (s *Store) LimitPages(ctx context.Context) error {
	s.db.SetMaxOpenConns(1)
	var pages int
	if err := s.db.QueryRowContext(ctx, "PRAGMA page_count").Scan(&pages); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	return err
}

// Tx is one transaction.
type Tx struct {
	ctx context.Context
	tx  *sql.Tx
}

// Act runs one change: fn writes records and returns the entries that tell of
// it, which are linked into the journal last. Nothing is kept unless all is.
// before is called when all is written and nothing is committed yet, after when
// it is committed; either may be nil, and exists so that tests can stop there.
func (s *Store) Act(ctx context.Context, at time.Time, actor string, before func() error, fn func(*Tx) ([]Entry, error)) (Head, error) {
	sqlTx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Head{}, s.explain(err)
	}
	defer sqlTx.Rollback()
	tx := &Tx{ctx, sqlTx}
	entries, err := fn(tx)
	if err != nil {
		return Head{}, s.explain(err)
	}
	last, err := newest(ctx, sqlTx)
	if err != nil {
		return Head{}, s.explain(err)
	}
	head := last.head()
	for _, e := range entries {
		e.At, e.Actor = at.UTC(), actor
		if head, err = tx.link(e); err != nil {
			return Head{}, s.explain(err)
		}
	}
	if before != nil {
		if err := before(); err != nil {
			return Head{}, err
		}
	}
	if err := sqlTx.Commit(); err != nil {
		return Head{}, s.explain(err)
	}
	return head, nil
}

// sqliteCode is what the driver's errors offer.
type sqliteCode interface{ Code() int }

// explain puts the database's commonest troubles into words.
func (s *Store) explain(err error) error {
	var c sqliteCode
	if !errors.As(err, &c) {
		return err
	}
	switch c.Code() & 0xff {
	case 5, 6:
		return fmt.Errorf("records %s: another ironseal has been writing for more than %d seconds: try again: %w", s.path, int(busyWait.Seconds()), err)
	case 8, 14:
		return fmt.Errorf("records %s: they cannot be written here: check the owner and the permissions of the directory: %w", s.path, err)
	case 13:
		return fmt.Errorf("records %s: the disk is full; nothing was changed: make room and try again: %w", s.path, err)
	case 11, 26:
		return fmt.Errorf("records %s: the file is damaged: restore it from a backup: %w", s.path, err)
	}
	return fmt.Errorf("records %s: %w", s.path, err)
}

const layout = "2006-01-02T15:04:05.000000000Z"

func stamp(t time.Time) string { return t.UTC().Format(layout) }

func unstamp(s string) time.Time {
	t, err := time.Parse(layout, s)
	if err != nil {
		return time.Time{} // the journal's own verification names such a record
	}
	return t
}

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

	"ironseal/internal/disk"
)

// Version is the form of the records that this program reads and writes.
const Version = 3

const schema = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
CREATE TABLE authority (
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL UNIQUE, parent INTEGER REFERENCES authority(id),
  elsewhere INTEGER NOT NULL DEFAULT 0, retired TEXT NOT NULL DEFAULT '',
  list_number INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE TABLE template (sha256 BLOB PRIMARY KEY, name TEXT NOT NULL, source BLOB NOT NULL) STRICT;
CREATE TABLE request (
  number INTEGER PRIMARY KEY AUTOINCREMENT, sha256 BLOB NOT NULL UNIQUE, der BLOB NOT NULL, title TEXT NOT NULL,
  key_sha256 BLOB NOT NULL, sender TEXT NOT NULL, received TEXT NOT NULL, state TEXT NOT NULL,
  reason TEXT NOT NULL DEFAULT '',
  decided TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX request_key ON request(key_sha256);
CREATE INDEX request_state ON request(state);
CREATE TABLE certificate (
  id INTEGER PRIMARY KEY, serial TEXT NOT NULL, authority INTEGER REFERENCES authority(id),
  issuer INTEGER REFERENCES generation(id), der BLOB NOT NULL,
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
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL, parent TEXT NOT NULL, der BLOB NOT NULL, key_sha256 BLOB NOT NULL,
  made TEXT NOT NULL,
  answered TEXT NOT NULL DEFAULT '', staged TEXT NOT NULL DEFAULT '') STRICT;
CREATE TABLE holder (certificate INTEGER NOT NULL REFERENCES certificate(id), who TEXT NOT NULL, at TEXT NOT NULL,
  PRIMARY KEY (certificate, who)) STRICT;
CREATE TABLE revocation (
  authority INTEGER NOT NULL REFERENCES authority(id), serial TEXT NOT NULL, at TEXT NOT NULL,
  reason INTEGER NOT NULL, PRIMARY KEY (authority, serial)) STRICT;
CREATE TABLE carried (id TEXT PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE TABLE name (kind TEXT NOT NULL, value TEXT NOT NULL, certificate INTEGER NOT NULL) STRICT;
CREATE INDEX name_value ON name(value);
CREATE TABLE outside (certificate INTEGER NOT NULL REFERENCES certificate(id), position INTEGER NOT NULL,
  der BLOB NOT NULL, PRIMARY KEY (certificate, position)) STRICT;
CREATE TABLE draft (key_sha256 BLOB PRIMARY KEY, file TEXT NOT NULL, sealed INTEGER NOT NULL,
  made TEXT NOT NULL) STRICT;
CREATE TABLE waiver (
  id INTEGER PRIMARY KEY, certificate INTEGER NOT NULL REFERENCES certificate(id), request INTEGER, code TEXT NOT NULL,
  who TEXT NOT NULL, reason TEXT NOT NULL) STRICT;
CREATE TABLE journal (
  seq INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, act TEXT NOT NULL, object TEXT NOT NULL,
  detail TEXT NOT NULL,
  prev BLOB NOT NULL, hash BLOB NOT NULL) STRICT;
CREATE INDEX journal_at ON journal(at);
CREATE TABLE moduli (id INTEGER PRIMARY KEY, keys BLOB NOT NULL, product BLOB NOT NULL) STRICT;
CREATE TABLE flaw (key_sha256 BLOB NOT NULL, code TEXT NOT NULL, message TEXT NOT NULL, PRIMARY KEY (key_sha256,
  code)) STRICT;
`

// Store is an estate's records.
type Store struct {
	db   *sql.DB
	path string
	how  access
	view *sql.Tx // what is read is of one moment; nil for whatever is newest
}

// View lets fn read the records as they are at one moment, while others go on writing.
// The moment is that of the first reading.
func (s *Store) View(ctx context.Context, fn func(*Store) error) error {
	if s.view != nil {
		return fn(s)
	}
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback()
	return fn(&Store{s.db, s.path, s.how, tx})
}

// q is where questions go.
func (s *Store) q() querier {
	if s.view != nil {
		return s.view
	}
	return s.db
}

// ReadOnly says why nothing can be recorded, or nil.
func (s *Store) ReadOnly() error {
	if s.how == readWrite {
		return nil
	}
	return fmt.Errorf("records %s: %w", s.path, ErrReadOnly)
}

// busyWait is how long one writer waits for another.
const busyWait = 20 * time.Second

// access is how the file is opened.
type access int

const (
	readWrite access = iota
	readOnly         // the directory cannot be written, and the log beside the file is there
	immutable        // nor is there a log: nobody can be writing
)

func open(path string, how access) (*Store, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	// a drive letter must not look like a host
	u := url.URL{Scheme: "file", Path: "/" + strings.TrimPrefix(filepath.ToSlash(abs), "/")}
	q := url.Values{}
	q.Add("_pragma", fmt.Sprintf("busy_timeout(%d)", busyWait.Milliseconds()))
	q.Add("_pragma", "foreign_keys(1)")
	q.Add("_pragma", "trusted_schema(0)")
	switch how {
	case readWrite:
		q.Add("_pragma", "journal_mode(WAL)")
		q.Add("_pragma", "synchronous(FULL)")
		q.Set("_txlock", "immediate")
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
	return &Store{db: db, path: path, how: how}, nil
}

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
	s, err := open(path, readWrite)
	if err != nil {
		return nil, err
	}
	_, err = s.db.ExecContext(ctx, schema)
	if err == nil {
		_, err = s.db.ExecContext(ctx, "INSERT INTO meta VALUES ('version', ?), ('estate', ?)", fmt.Sprint(Version),
			estateID)
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
	how := accessTo(path)
	s, err := open(path, how)
	if err != nil {
		return nil, err
	}
	var version string
	err = s.row(ctx, "SELECT value FROM meta WHERE key = 'version'").Scan(&version)
	if err == nil && takesUp(version) && how == readWrite {
		if err := s.takeUp(ctx, version); err != nil {
			s.Close()
			return nil, err
		}
		version = fmt.Sprint(Version)
	}
	switch {
	case err != nil:
		s.Close()
		var c sqliteCode
		if errors.As(err, &c) && c.Code()&0xff == 1 {
			return nil, fmt.Errorf("records %s: this is a database, and not an estate's records: restore them from "+
				"a backup", path)
		}
		if how == readOnly {
			return nil, fmt.Errorf("%w: acts that were not finished are in the log beside it, which can be read "+
				"only where it can be written: copy the estate to another disk", err)
		}
		return nil, err
	case version != fmt.Sprint(Version):
		s.Close()
		return nil, otherForm(path, version)
	}
	return s, nil
}

// otherForm says why records of another form are not opened.
func otherForm(path, form string) error {
	if takesUp(form) {
		return fmt.Errorf("records %s: they have form %s, and would be taken up to form %d, but nothing can be "+
			"written here: open them once where it can", path, form, Version)
	}
	return fmt.Errorf("records %s: they have form %s, made by a newer program: this one reads forms up to %d: use "+
		"the newer program", path, form, Version)
}

// Close closes the records.
func (s *Store) Close() error { return s.db.Close() }

// EstateID is the random name that the estate was given when it was made.
func (s *Store) EstateID(ctx context.Context) (string, error) {
	var id string
	err := s.row(ctx, "SELECT value FROM meta WHERE key = 'estate'").Scan(&id)
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
	if err := s.row(ctx, "PRAGMA quick_check(1)").Scan(&word); err != nil {
		return s.explain(err)
	}
	if word != "ok" {
		return fmt.Errorf("the database is damaged: %s", word)
	}
	return related(ctx, s.q())
}

// related reports whether every row's relations are there.
func related(ctx context.Context, q querier) error {
	var table string
	err := q.QueryRowContext(ctx, "SELECT \"table\" FROM pragma_foreign_key_check LIMIT 1").Scan(&table)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	}
	return fmt.Errorf("a row of %s refers to something that is not there", table)
}

// ListNumber is the number of the last revocation list of an authority; 0 when
// there was none.
func (s *Store) ListNumber(ctx context.Context, handle string) (int64, error) {
	var n int64
	err := s.row(ctx, "SELECT list_number FROM authority WHERE handle = ?", handle).Scan(&n)
	return n, err
}

// SkipRequests lets request numbers go on at the next thousand, and returns it:
// numbers that were given out after a backup are not used again.
func (t *Tx) SkipRequests() (int64, error) {
	var last int64
	if err := t.tx.QueryRowContext(t.ctx, "SELECT coalesce(max(seq),0) FROM sqlite_sequence "+
		"WHERE name = 'request'").Scan(&last); err != nil {
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
	err := s.row(ctx, "SELECT count(*) FROM meta WHERE key = 'rehearsal'").Scan(&n)
	return n > 0, err
}

// LimitPages bounds the size of the database, to try what happens on a full disk.
func (s *Store) LimitPages(ctx context.Context) error {
	s.db.SetMaxOpenConns(1)
	var pages int
	if err := s.row(ctx, "PRAGMA page_count").Scan(&pages); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	return err
}

// Tx is one transaction.
type Tx struct {
	ctx  context.Context
	tx   *sql.Tx
	at   time.Time
	keys *moduli // what is known of RSA keys; nil until it is needed
	more []Entry // what came out on the way
}

// Now is the moment of the change: what it records, and its entries, carry it.
func (t *Tx) Now() time.Time { return t.at }

// querier is what the records are read through: the database, or a transaction.
type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Act runs one change: fn writes records and returns the entries that tell of
// it, which are linked into the journal last. Nothing is kept unless all is, and
// unless the records that come out of it load. now is asked once the change has
// its turn; a clock behind the latest entry refuses every change.
// before is called when all is written and nothing is committed yet, and may be nil;
// it exists so that tests can stop there. An error of the kind ErrUncertain leaves
// open whether the change is on record.
func (s *Store) Act(ctx context.Context, now func() time.Time, actor string, before func() error,
	fn func(*Tx) ([]Entry, error)) (Head, error) {
	sqlTx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Head{}, s.explain(err)
	}
	defer sqlTx.Rollback()
	tx := &Tx{ctx: ctx, tx: sqlTx, at: now().UTC()}
	head, err := tx.change(actor, fn)
	if err != nil {
		return Head{}, s.explain(err)
	}
	if before != nil {
		if err := before(); err != nil {
			return Head{}, err
		}
	}
	if err := sqlTx.Commit(); err != nil {
		return Head{}, fmt.Errorf("%w: %w", ErrUncertain, s.explain(err))
	}
	s.note(head)
	return head, nil
}

func (t *Tx) change(actor string, fn func(*Tx) ([]Entry, error)) (Head, error) {
	entries, err := fn(t)
	if err != nil {
		return Head{}, err
	}
	if err := t.keys.flush(t); err != nil {
		return Head{}, err
	}
	if _, err := loadHierarchy(t.ctx, t.tx); err != nil {
		return Head{}, fmt.Errorf("nothing was changed, since the records would not load any more: %w", err)
	}
	last, err := newest(t.ctx, t.tx)
	if err != nil {
		return Head{}, err
	}
	if err := t.timely(entries); err != nil {
		return Head{}, err
	}
	head := last.head()
	for _, e := range append(entries, t.more...) {
		e.At, e.Actor = t.at, actor
		if head, err = t.link(e); err != nil {
			return Head{}, err
		}
	}
	return head, nil
}

// timely refuses a change by a clock that is behind the records, but for the entry
// that says that the records are ahead.
func (t *Tx) timely(entries []Entry) error {
	latest, err := latest(t.ctx, t.tx)
	if err != nil {
		return err
	}
	if len(entries) == 1 && entries[0].Act == ClockAct {
		_, err := t.tx.ExecContext(t.ctx, "INSERT OR REPLACE INTO meta SELECT 'clock', coalesce(max(seq),0)+1 FROM "+
			"journal")
		return err
	}
	if t.at.Before(latest.Add(-time.Second)) {
		return &BehindError{Now: t.at, Latest: latest}
	}
	return nil
}

// Errors that callers tell apart.
var (
	// ErrUncertain says that a commit failed in a way that leaves its outcome open.
	ErrUncertain = errors.New("whether this is on record is not certain: look with: ironseal journal list")
	// ErrBusy says that another program kept the records to itself for too long.
	ErrBusy = fmt.Errorf("another ironseal has been writing for more than %d seconds: try again",
		int(busyWait.Seconds()))
	// ErrFull says that the disk is full.
	ErrFull = errors.New("the disk is full; nothing was changed: make room and try again")
	// ErrReadOnly says that the records can only be read.
	ErrReadOnly = errors.New("they cannot be written here: check the owner and the permissions of the directory, or " +
		"whether the disk can only be read")
)

// BehindError says that the clock is behind the latest entry of the journal.
type BehindError struct{ Now, Latest time.Time }

func (b *BehindError) Error() string {
	return fmt.Sprintf("nothing was changed: the clock says %s, and the latest record is of %s: set this machine's "+
		"clock; if the record was dated by a wrong clock: ironseal journal clock --because TEXT",
		b.Now.Format(time.RFC3339), b.Latest.Format(time.RFC3339))
}

// sqliteCode is what the driver's errors offer.
type sqliteCode interface{ Code() int }

// ioShmSize is SQLite's code for a shared index that cannot be given its size.
const ioShmSize = 10 | 19<<8

// explain puts the database's commonest troubles into words.
func (s *Store) explain(err error) error {
	var c sqliteCode
	if !errors.As(err, &c) {
		return err
	}
	kind := map[int]error{5: ErrBusy, 6: ErrBusy, 8: ErrReadOnly, 14: ErrReadOnly, 13: ErrFull,
		11: errors.New("the file is damaged: restore it from a backup"),
		26: errors.New("the file is damaged: restore it from a backup")}[c.Code()&0xff]
	if c.Code() == ioShmSize { // the shared index beside the log could not grow
		kind = ErrFull
	}
	if kind == nil && c.Code()&0xff == 10 {
		kind = errors.New("the disk could not be read or written: it may be full, or failing")
	}
	if kind == nil {
		return fmt.Errorf("records %s: %w", s.path, err)
	}
	return fmt.Errorf("records %s: %w: %w", s.path, kind, err)
}

// row reads one row; what goes wrong is explained.
func (s *Store) row(ctx context.Context, query string, args ...any) scanner {
	return explained{s.q().QueryRowContext(ctx, query, args...), s}
}

type explained struct {
	row *sql.Row
	s   *Store
}

// Scan implements scanner.
func (e explained) Scan(into ...any) error { return e.s.explain(e.row.Scan(into...)) }

const layout = "2006-01-02T15:04:05.000000000Z"

func stamp(t time.Time) string { return t.UTC().Format(layout) }

func unstamp(s string) time.Time {
	t, err := time.Parse(layout, s)
	if err != nil {
		return time.Time{} // the journal's own verification names such a record
	}
	return t
}

package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"sync"
	"time"

	"ironseal/internal/store/sqlite"
	"ironseal/pki/journal"
)

// link adds an entry behind another, and returns it as it is on record.
func (t *Tx) link(e, last journal.Entry) (journal.Entry, error) {
	e = e.After(last)
	if _, err := t.Exec("INSERT INTO journal VALUES (?,?,?,?,?,?,?,?)", e.Seq, journal.Stamp(e.At), e.Actor, e.Act,
		e.Object, e.Detail, e.Prev, e.Hash); err != nil {
		return e, err
	}
	return e, t.derive(e)
}

func newest(ctx context.Context, q sqlite.Querier) (journal.Entry, error) {
	e, err := scanEntry(q.QueryRowContext(ctx,
		"SELECT seq,at,actor,act,object,detail,prev,hash FROM journal ORDER BY seq DESC LIMIT 1"))
	if errors.Is(err, sql.ErrNoRows) {
		return journal.Entry{}, nil
	}
	return e, err
}

func scanEntry(row sqlite.Scanner) (journal.Entry, error) {
	var e journal.Entry
	var at string
	err := row.Scan(&e.Seq, &at, &e.Actor, &e.Act, &e.Object, &e.Detail, &e.Prev, &e.Hash)
	e.At = journal.Unstamp(at)
	return e, err
}

// times remembers the latest time of the entries that were committed up to one of them. Entries are only added, so what
// is asked is about those behind it alone.
type times struct {
	mu    sync.Mutex
	seq   int64
	clock int64 // the entry from which times count, see latest
	at    time.Time
}

// latest is the latest time on record. The newest entry need not have it: a clock
// that was set back writes on. What a ClockAct has settled does not count.
func (k *times) latest(ctx context.Context, q sqlite.Querier) (at time.Time, clock int64, err error) {
	k.mu.Lock()
	seq, known, before := k.seq, k.clock, k.at
	k.mu.Unlock()
	ask := func(from int64) error {
		var text sql.NullString
		err := q.QueryRowContext(ctx, "SELECT (SELECT max(at) FROM journal WHERE seq > ? AND seq >= coalesce((SELECT "+
			"CAST(value AS INTEGER) FROM meta WHERE key = 'clock'), 0)), coalesce((SELECT CAST(value AS INTEGER) FROM "+
			"meta WHERE key = 'clock'), 0)", from).Scan(&text, &clock)
		at = journal.Unstamp(text.String)
		return err
	}
	if err := ask(seq); err != nil || clock == known {
		if before.After(at) {
			at = before
		}
		return at, clock, err
	}
	return at, clock, ask(0) // others count since
}

// learn remembers what was read of the entries up to one that is committed.
func (k *times) learn(seq, clock int64, at time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if seq >= k.seq {
		k.seq, k.clock, k.at = seq, clock, at
	}
}

// Newest returns the journal's head and the latest time on record.
func (s *Store) Newest(ctx context.Context) (journal.Head, time.Time, error) {
	e, err := newest(ctx, s.Querier())
	if err != nil {
		return journal.Head{}, time.Time{}, s.Explain(err)
	}
	at, clock, err := s.times.latest(ctx, s.Querier())
	if err == nil {
		s.times.learn(e.Seq, clock, at)
	}
	return e.Head(), at, s.Explain(err)
}

// Entries calls fn for the entries from number from on, oldest first, at most
// limit of them; 0 means all.
func (s *Store) Entries(ctx context.Context, from int64, limit int, fn func(journal.Entry) error) error {
	if limit == 0 {
		limit = -1
	}
	return s.entries(ctx, fn, "seq >= ? ORDER BY seq LIMIT ?", from, limit)
}

func (s *Store) entries(ctx context.Context, fn func(journal.Entry) error, where string, args ...any) error {
	rows, err := s.Querier().QueryContext(ctx, entryQuestion+where, args...)
	return s.Explain(errors.Join(err, eachEntry(rows, fn)))
}

func eachEntry(rows *sql.Rows, fn func(journal.Entry) error) error {
	if rows == nil { // the question failed
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		e, err := scanEntry(rows)
		if err != nil {
			return err
		}
		if err := fn(e); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Backwards lists the entries at which the journal's times run backwards.
func (s *Store) Backwards(ctx context.Context) ([]journal.Backwards, error) {
	var times journal.Times
	err := s.Entries(ctx, 0, 0, func(e journal.Entry) error {
		times.Add(e)
		return nil
	})
	return times.Found, err
}

// EntriesOf reads the entries of one act, in their order.
func (s *Store) EntriesOf(ctx context.Context, act string, fn func(journal.Entry) error) error {
	return s.entries(ctx, fn, "act = ? ORDER BY seq", act)
}

// EntriesOf reads the entries of one act as they are inside an act, in their order.
func (t *Tx) EntriesOf(_ context.Context, act string, fn func(journal.Entry) error) error {
	rows, err := t.Query(entryQuestion+"act = ? ORDER BY seq", act)
	return errors.Join(err, eachEntry(rows, fn))
}

const entryQuestion = "SELECT seq,at,actor,act,object,detail,prev,hash FROM journal WHERE "

// VerifyJournal checks every link of the journal and, where known is given,
// that the entry it names is still the one it was. The error is a *journal.Break
// when the journal is not whole.
func (s *Store) VerifyJournal(ctx context.Context, known *journal.Head) (journal.Head, error) {
	v := journal.Verifier{Known: known}
	if err := s.Entries(ctx, -1<<62, 0, v.Add); err != nil {
		return journal.Head{}, err
	}
	return v.End()
}

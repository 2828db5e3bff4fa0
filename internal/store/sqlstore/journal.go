package sqlstore

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"math"
	"strconv"
	"sync"
	"time"

	"ironseal/internal/store/sqldb"
	"ironseal/pki/journal"
)

// link adds an entry behind another, and returns it as it is on record.
func (t *Tx) link(e, last journal.Entry) (journal.Entry, error) {
	e = e.After(last)
	if err := t.ExecLater("INSERT INTO journal VALUES (?,?,?,?,?,?,?,?)", e.Seq, journal.Stamp(e.At), e.Actor, e.Act,
		e.Object, e.Detail, e.Prev, e.Hash); err != nil {
		return e, err
	}
	return e, t.derive(e)
}

// linkAll adds entries one behind another, and makes them those that are on record.
func (t *Tx) linkAll(list []journal.Entry, last journal.Entry) (journal.Entry, error) {
	const few = 4
	if len(list) < few {
		for i := range list {
			var err error
			if last, err = t.link(list[i], last); err != nil {
				return last, err
			}
			list[i] = last
		}
		return last, nil
	}
	rows := make([]any, 0, 8*len(list))
	for i, e := range list {
		last = e.After(last)
		list[i] = last
		rows = append(rows, last.Seq, journal.Stamp(last.At), last.Actor, last.Act, last.Object, last.Detail, last.Prev,
			last.Hash)
	}
	if err := t.Insert("journal", "seq, at, actor, act, object, detail, prev, hash", rows); err != nil {
		return last, err
	}
	for _, e := range list {
		if err := t.derive(e); err != nil {
			return last, err
		}
	}
	return last, nil
}

func newest(ctx context.Context, q sqldb.Querier) (journal.Entry, error) {
	e, err := scanEntry(q.QueryRowContext(ctx,
		"SELECT seq,at,actor,act,object,detail,prev,hash FROM journal ORDER BY seq DESC LIMIT 1"))
	if errors.Is(err, sql.ErrNoRows) {
		return journal.Entry{}, nil
	}
	return e, err
}

func scanEntry(row sqldb.Scanner) (journal.Entry, error) {
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

// end is what a change that is about to be linked asks of the records.
type end struct {
	newest journal.Entry // the zero Entry in an empty journal
	latest time.Time     // see latest
	moved  string        // where the records are kept since they were moved; "" while they are kept here
}

// end asks all of it by one question: on a server each takes its time, while all others wait.
func (k *times) end(c *sqldb.Change) (end, error) {
	k.mu.Lock()
	known, clock, before := k.seq, k.clock, k.at
	k.mu.Unlock()
	var out end
	var moved, settled, latest, seq, at, actor, act, object, detail, prev, hash sql.NullString
	row := c.First()
	if row == nil {
		row = c.QueryRow(endQuestion(c, known), endArguments(known)...)
	}
	if err := row.Scan(&moved, &settled, &latest, &seq, &at, &actor, &act, &object, &detail, &prev,
		&hash); err != nil {
		return out, err
	}
	out.moved = moved.String
	if seq.Valid {
		var errs [3]error
		out.newest.Seq, errs[0] = strconv.ParseInt(seq.String, 10, 64)
		out.newest.Prev, errs[1] = hex.DecodeString(prev.String)
		out.newest.Hash, errs[2] = hex.DecodeString(hash.String)
		if err := errors.Join(errs[:]...); err != nil {
			return out, err
		}
		out.newest.At, out.newest.Actor = journal.Unstamp(at.String), actor.String
		out.newest.Act, out.newest.Object, out.newest.Detail = act.String, object.String, detail.String
	}
	if settled.Valid && settled.String != strconv.FormatInt(clock, 10) || !settled.Valid && clock != 0 {
		var err error // others count since
		out.latest, _, err = k.latest(c.Ctx, c.Querier())
		return out, err
	}
	if out.latest = journal.Unstamp(latest.String); before.After(out.latest) {
		out.latest = before
	}
	return out, nil
}

// latestBehind asks for the latest time of the entries behind one; it has that entry as its argument, where there is
// one. Without one, the index of times has it: to look at all entries would take long. With one there are few entries
// or none, and what is asked for is no column: in the index of times, a database would look for them from end to end.
func latestBehind(known int64) string {
	const since = "coalesce((SELECT CAST(value AS BIGINT) FROM meta WHERE key = 'clock'), 0)"
	if known == 0 {
		return "SELECT at FROM journal WHERE seq >= " + since + " ORDER BY at DESC LIMIT 1"
	}
	return "SELECT max(at || '') FROM journal WHERE seq > ? AND seq >= " + since
}

// endArguments are those of endQuestion.
func endArguments(known int64) []any {
	if known == 0 {
		return nil
	}
	return []any{known}
}

// endQuestion asks for what end tells, all as texts. Its argument is the entry behind which times are asked for.
func endQuestion(w interface{ Words() sqldb.Words }, known int64) string {
	return "SELECT (SELECT value FROM meta WHERE key = 'moved'), (SELECT value FROM meta WHERE key = 'clock'), " +
		"(" + latestBehind(known) + "), CAST(j.seq AS TEXT), j.at, j.actor, j.act, j.object, j.detail, " +
		w.Words().Hex("j.prev") + ", " + w.Words().Hex("j.hash") + " FROM (SELECT 1 AS one) o LEFT JOIN (SELECT * " +
		"FROM " +
		"journal ORDER BY seq DESC LIMIT 1) j ON 1 = 1"
}

// known is the entry whose time, and that of all before it, is remembered.
func (k *times) known() int64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.seq
}

// latest is the latest time on record. The newest entry need not have it: a clock
// that was set back writes on. What a ClockAct has settled does not count.
func (k *times) latest(ctx context.Context, q sqldb.Querier) (at time.Time, clock int64, err error) {
	k.mu.Lock()
	seq, known, before := k.seq, k.clock, k.at
	k.mu.Unlock()
	ask := func(from int64) error {
		var text sql.NullString
		err := q.QueryRowContext(ctx, "SELECT ("+latestBehind(from)+"), coalesce((SELECT CAST(value AS BIGINT) FROM "+
			"meta WHERE key = 'clock'), 0)", endArguments(from)...).Scan(&text, &clock)
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
	s.flushNote()
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
		limit = math.MaxInt64
	}
	return s.entries(ctx, fn, "seq >= ? ORDER BY seq LIMIT ?", from, limit)
}

func (s *Store) entries(ctx context.Context, fn func(journal.Entry) error, where string, args ...any) error {
	rows, err := s.Querier().StreamContext(ctx, entryQuestion+where, args...)
	return s.Explain(errors.Join(err, eachEntry(rows, fn)))
}

func eachEntry(rows sqldb.Rows, fn func(journal.Entry) error) error {
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
	rows, err := t.Stream(entryQuestion+"act = ? ORDER BY seq", act)
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

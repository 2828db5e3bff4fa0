package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironseal/pki/label"
)

// Entry is one act on record. Entries are linked: each carries the hash of the
// one before, so that changing, removing or inserting one is seen.
type Entry struct {
	Seq    int64     `json:"number"`
	At     time.Time `json:"time"`
	Actor  string    `json:"actor"`
	Act    string    `json:"act"`
	Object string    `json:"object"`
	Detail string    `json:"detail"` // JSON or plain text; never a secret
	Prev   []byte    `json:"-"`
	Hash   []byte    `json:"-"`
}

// digest is the hash of an entry, over all its fields and the hash before.
func (e Entry) digest() [32]byte {
	h := sha256.New()
	h.Write([]byte("ironseal journal v1\n"))
	for _, f := range [][]byte{
		binary.BigEndian.AppendUint64(nil, uint64(e.Seq)), []byte(stamp(e.At)), []byte(e.Actor), []byte(e.Act),
		[]byte(e.Object), []byte(e.Detail), e.Prev,
	} {
		h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(f))))
		h.Write(f)
	}
	var out [32]byte
	h.Sum(out[:0])
	return out
}

// Head names the newest entry and, through the links, every entry before it.
type Head struct {
	Seq  int64
	Code string // 80 bits of the entry's hash, as a check code
}

// String writes a head the way it is printed on sheets: "J12:7K2M-9QXT-04HB-W3ZE".
func (h Head) String() string {
	if h.Seq == 0 {
		return "J0"
	}
	return fmt.Sprintf("J%d:%s", h.Seq, h.Code)
}

// MarshalText writes the head as String does.
func (h Head) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// ParseHead reads a head as it was printed; case, blanks and hyphens do not count.
func ParseHead(s string) (Head, error) {
	number, code, ok := strings.Cut(strings.TrimSpace(s), ":")
	n, err := strconv.ParseInt(strings.TrimLeft(number, "Jj"), 10, 64)
	code = label.ReadCode(code)
	if !ok || err != nil || n < 1 || len(code) != 19 {
		return Head{}, fmt.Errorf("%q is not a journal head: it looks like J12:7K2M-9QXT-04HB-W3ZE", s)
	}
	return Head{n, code}, nil
}

func (e Entry) head() Head {
	if e.Seq == 0 {
		return Head{}
	}
	var sum [32]byte
	copy(sum[:], e.Hash)
	return Head{e.Seq, label.Code(sum)}
}

func (t *Tx) link(e Entry) (Head, error) {
	last, err := newest(t.ctx, t.tx)
	if err != nil {
		return Head{}, err
	}
	e.Seq, e.Prev = last.Seq+1, last.Hash
	if e.Prev == nil {
		e.Prev = make([]byte, 32)
	}
	sum := e.digest()
	e.Hash = sum[:]
	_, err = t.tx.ExecContext(t.ctx, "INSERT INTO journal VALUES (?,?,?,?,?,?,?,?)", e.Seq, stamp(e.At), e.Actor, e.Act,
		e.Object, e.Detail, e.Prev, e.Hash)
	return e.head(), err
}

func newest(ctx context.Context, q querier) (Entry, error) {
	e, err := scanEntry(q.QueryRowContext(ctx,
		"SELECT seq,at,actor,act,object,detail,prev,hash FROM journal ORDER BY seq DESC LIMIT 1"))
	if errors.Is(err, sql.ErrNoRows) {
		return Entry{}, nil
	}
	return e, err
}

type scanner interface{ Scan(...any) error }

func scanEntry(row scanner) (Entry, error) {
	var e Entry
	var at string
	err := row.Scan(&e.Seq, &at, &e.Actor, &e.Act, &e.Object, &e.Detail, &e.Prev, &e.Hash)
	e.At = unstamp(at)
	return e, err
}

// ClockAct is the act of an entry that says that the entries before it were dated by
// a clock that was ahead, and that time goes on from here.
const ClockAct = "settle clock"

// latest is the latest time on record. The newest entry need not have it: a clock
// that was set back writes on. What a ClockAct has settled does not count.
func latest(ctx context.Context, q querier) (time.Time, error) {
	var at sql.NullString
	err := q.QueryRowContext(ctx, "SELECT max(at) FROM journal WHERE seq >= coalesce((SELECT CAST(value AS INTEGER) "+
		"FROM meta WHERE key = 'clock'), 0)").Scan(&at)
	return unstamp(at.String), err
}

// Newest returns the journal's head and the latest time on record.
func (s *Store) Newest(ctx context.Context) (Head, time.Time, error) {
	e, err := newest(ctx, s.q())
	if err != nil {
		return Head{}, time.Time{}, s.explain(err)
	}
	at, err := latest(ctx, s.q())
	return e.head(), at, s.explain(err)
}

// Entries calls fn for the entries from number from on, oldest first, at most
// limit of them; 0 means all.
func (s *Store) Entries(ctx context.Context, from int64, limit int, fn func(Entry) error) error {
	if limit == 0 {
		limit = -1
	}
	rows, err := s.q().QueryContext(ctx, "SELECT seq,at,actor,act,object,detail,prev,hash FROM journal WHERE seq >= "+
		"? ORDER BY seq LIMIT ?", from, limit)
	if err != nil {
		return s.explain(err)
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
	return s.explain(rows.Err())
}

// Backwards is an entry that is dated before an earlier one.
type Backwards struct {
	Seq        int64     `json:"number"`
	At, Before time.Time `json:"-"`
	Settled    bool      `json:"settled"` // a later entry says that the clock was wrong, or it is that entry
}

// Backwards lists the entries at which the journal's times run backwards.
func (s *Store) Backwards(ctx context.Context) ([]Backwards, error) {
	var out []Backwards
	var high time.Time
	err := s.Entries(ctx, 0, 0, func(e Entry) error {
		if e.Act == ClockAct {
			for i := range out {
				out[i].Settled = true
			}
			if e.At.Before(high) {
				out = append(out, Backwards{e.Seq, e.At, high, true})
			}
			high = e.At
			return nil
		}
		if e.At.Before(high.Add(-time.Second)) {
			out = append(out, Backwards{Seq: e.Seq, At: e.At, Before: high})
		}
		if e.At.After(high) {
			high = e.At
		}
		return nil
	})
	return out, err
}

// Break is where a journal stops being whole.
type Break struct {
	Seq int64
	Why string
}

func (b *Break) Error() string { return fmt.Sprintf("entry %d: %s", b.Seq, b.Why) }

// VerifyJournal checks every link of the journal and, where known is given,
// that the entry it names is still the one it was. The error is a *Break when
// the journal is not whole.
func (s *Store) VerifyJournal(ctx context.Context, known *Head) (Head, error) {
	var last Entry
	last.Hash = make([]byte, 32)
	err := s.Entries(ctx, -1<<62, 0, func(e Entry) error {
		sum := e.digest()
		switch {
		case e.Seq != last.Seq+1:
			return &Break{e.Seq, fmt.Sprintf("it follows entry %d: entries in between are gone", last.Seq)}
		case !bytes.Equal(e.Prev, last.Hash):
			return &Break{e.Seq, "its link does not match the entry before: one of the two was changed"}
		case !bytes.Equal(e.Hash, sum[:]):
			return &Break{e.Seq, "its content does not match its hash: it was changed"}
		case known != nil && known.Seq == e.Seq && known.Code != e.head().Code:
			return &Break{e.Seq, fmt.Sprintf("it is %s now and was %s: the journal was rewritten", e.head(), known)}
		}
		last = e
		return nil
	})
	if err != nil {
		return Head{}, err
	}
	if last.Seq == 0 {
		return Head{}, &Break{0, "it is empty: every estate begins with an entry"}
	}
	if known != nil && known.Seq > last.Seq {
		return Head{}, &Break{last.Seq, fmt.Sprintf("the journal ends here, and the head given is entry %d: its end "+
			"was cut off, or this is an older copy", known.Seq)}
	}
	return last.head(), nil
}

// Package journal links what was done into a chain: each entry carries the hash of the
// one before, so that changing, removing or inserting one is seen. It is pure: where
// entries are kept is someone else's business.
package journal

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironseal/pki/label"
)

// Entry is one act on record.
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
		binary.BigEndian.AppendUint64(nil, uint64(e.Seq)), []byte(Stamp(e.At)), []byte(e.Actor), []byte(e.Act),
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

// Head names the entry.
func (e Entry) Head() Head {
	if e.Seq == 0 {
		return Head{}
	}
	var sum [32]byte
	copy(sum[:], e.Hash)
	return Head{e.Seq, label.Code(sum)}
}

// After is the entry with its number and its link, as it follows another; the
// zero Entry is before the first.
func (e Entry) After(last Entry) Entry {
	e.Seq, e.Prev = last.Seq+1, last.Hash
	if e.Prev == nil {
		e.Prev = make([]byte, 32)
	}
	sum := e.digest()
	e.Hash = sum[:]
	return e
}

// ClockAct is the act of an entry that says that the entries before it were dated by
// a clock that was ahead, and that time continues from here.
const ClockAct = "settle clock"

// layout is a time to the nanosecond, which sorts as text.
const layout = "2006-01-02T15:04:05.000000000Z"

// Stamp writes a time as it is hashed and kept.
func Stamp(t time.Time) string { return t.UTC().Format(layout) }

// StampOrNone writes a time; "" for none.
func StampOrNone(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return Stamp(t)
}

// Unstamp reads what Stamp wrote; anything else is no time.
func Unstamp(s string) time.Time {
	t, err := time.Parse(layout, s)
	if err != nil {
		return time.Time{} // the journal's own verification names such a record
	}
	return t
}

package store

import (
	"context"
	"time"

	"ironseal/internal/event"
	"ironseal/pki/journal"
)

// Row is one row of a table, by column: int64, string or []byte.
type Row map[string]any

// Text is a column's text; "" where it holds none.
func (r Row) Text(column string) string { s, _ := r[column].(string); return s }

// Int is a column's number; 0 where it holds none.
func (r Row) Int(column string) int64 { n, _ := r[column].(int64); return n }

// Bytes are a column's bytes; nil where it holds none.
func (r Row) Bytes(column string) []byte { b, _ := r[column].([]byte); return b }

// DerivedReader finds the entries of the journal that count today, by what they are about (event.Marks). What is
// derived is written with the entry, and can be made again from the journal.
type DerivedReader interface {
	// Derived calls fn for every thing of a kind, in the order of the entries that count.
	Derived(ctx context.Context, kind event.Kind, fn func(name string, en journal.Entry) error) error
	// DerivedOf is the entry that counts about one thing; false if none exists.
	DerivedOf(ctx context.Context, kind event.Kind, name string) (journal.Entry, bool, error)
}

// JournalReader answers questions about the journal.
type JournalReader interface {
	DerivedReader
	// NotedHead is the head that was noted beside the records; false if none exists.
	NotedHead() (journal.Head, bool)
	// Newest returns the journal's head and the latest time on record.
	Newest(ctx context.Context) (journal.Head, time.Time, error)
	// Entries calls fn for the entries from number from on, oldest first, at most
	// limit of them; 0 means all.
	Entries(ctx context.Context, from int64, limit int, fn func(journal.Entry) error) error
	// Backwards lists the entries at which the journal's times run backwards.
	Backwards(ctx context.Context) ([]journal.Backwards, error)
	// EntriesOf reads the entries of one act, in their order.
	EntriesOf(ctx context.Context, act string, fn func(journal.Entry) error) error
	// VerifyJournal checks every link of the journal and, where known is given,
	// that the entry it names is still the one it was. The error is a *journal.Break
	// when the journal is not whole.
	VerifyJournal(ctx context.Context, known *journal.Head) (journal.Head, error)
}

// JournalWriter records changes of the journal.
type JournalWriter interface {
	DerivedReader
	// ActAs lets the change be recorded in the name of someone who vouches for it: vouch makes the entry that does so,
	// from the entries of the change as they are linked.
	ActAs(actor string, vouch func(entries []journal.Entry) (journal.Entry, error))
	// EntriesOf reads the entries of one act as they are inside an act, in their order.
	EntriesOf(ctx context.Context, act string, fn func(journal.Entry) error) error
}

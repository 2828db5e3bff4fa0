// Package store says what an estate keeps on record, and what can be asked and changed. It
// holds interfaces and the types of rows. A database below it implements them, and nothing
// above it knows which database that is.
//
// Every change is one short transaction (Act) that ends by linking its entries into the
// journal. So nothing is on record without its entry, and no entry is there without its
// record. When Act returns, the change survives a power cut. Several programs may work on
// one estate; a writer waits for the other. What must agree is read at one moment (View).
package store

import (
	"context"
	"time"

	"ironseal/pki/finding"
	"ironseal/pki/journal"
)

// Place is where records are kept.
type Place struct {
	At   string // a file, or the address of a database on a server (postgresql://...)
	Head string // the file of this machine that notes the newest entry; "" for one beside a file of records
}

// File is the place of records in a file.
func File(path string) Place { return Place{At: path} }

// Reader answers questions about what is on record. All answers are of the newest records, or of one moment
// within a View.
type Reader interface {
	RequestsReader
	CertificatesReader
	AuthoritiesReader
	RevocationsReader
	JournalReader

	// EstateID is the random name that the estate was given when it was made.
	EstateID(ctx context.Context) (string, error)
	// IsRehearsal reports whether the records are those of a rehearsal.
	IsRehearsal(ctx context.Context) (bool, error)
	// Sealed is a sealed key by the name of its file; an error of the kind fault.NotFound if none exists.
	Sealed(ctx context.Context, name string) ([]byte, error)
	// SealedNames lists the sealed keys.
	SealedNames(ctx context.Context) ([]string, error)
	// Flaws lists what is known against keys, by fingerprint.
	Flaws(ctx context.Context) (map[[32]byte]finding.List, error)
}

// Tx is one change. All of it is committed, or none.
type Tx interface {
	RequestsWriter
	CertificatesWriter
	AuthoritiesWriter
	RevocationsWriter
	JournalWriter

	// Now is the moment of the change: what it records, and its entries, carry it.
	Now() time.Time
	// Context is the context of the act.
	Context() context.Context
	// Reads are the records as the change sees them, for what has to be asked again inside it. They are not to
	// be kept beyond it.
	Reads() Store
	// PutSealed replaces a sealed key, which must be as it was: nil for one that is not there before, or after.
	PutSealed(name string, was, is []byte) error
	// MarkMoved notes that the records are kept elsewhere from now on, so that no other act is recorded here; "" takes
	// the note back.
	MarkMoved(to string) error
	// MarkRehearsal makes the records those of a rehearsal, permanently.
	MarkRehearsal() error
	// AddFlaw keeps what was found out about a key, by its fingerprint.
	AddFlaw(key [32]byte, f finding.Finding) error
	// SkipRequests lets request numbers continue at the next thousand, and returns it: numbers that were given out
	// after a backup are not used again.
	SkipRequests() (int64, error)
}

// Store is the records of one estate.
type Store interface {
	Reader
	Inspector

	// View lets fn read the records as they are at one moment, while others keep writing.
	View(ctx context.Context, fn func(Store) error) error
	// Act runs one change: fn writes records and returns the entries that tell of it, which are linked into the
	// journal last. now is asked once the change has its turn; a clock behind the latest entry refuses every
	// change. before is called when all is written and nothing is committed yet, and may be nil; tests stop there.
	// An error of the kind ErrUncertain leaves open whether the change is on record.
	Act(ctx context.Context, now func() time.Time, actor string, before func() error,
		fn func(Tx) ([]journal.Entry, error)) (journal.Head, error)
	// Listen calls told when another program committed a change, until ctx ends or the connection does. It returns at
	// once where the records are a file: whoever wants to know looks at it.
	Listen(ctx context.Context, told func()) error
	// ReadOnly says why nothing can be recorded, or nil.
	ReadOnly() error
	// PutSealed is a change of its own that replaces a sealed key, which must be as it was: nil for one that is not
	// there before, or after. No entry of the journal tells of it: the act that it belongs to does.
	PutSealed(ctx context.Context, name string, was, is []byte) error
	// Snapshot writes the records as they are at one moment into a new file.
	Snapshot(ctx context.Context, file string) error
	// CopyTo writes all records to a new place of any kind, and opens them there.
	CopyTo(ctx context.Context, place Place) (Store, error)
	// MovedTo is where the records are kept since they were moved; "" while they are kept here.
	MovedTo(ctx context.Context) (string, error)
	// Newer reports, for records on a server, whether they have all that this machine knows of: a *BehindNoteError
	// where they end before it, or tell otherwise.
	Newer(ctx context.Context) error
	// Close ends the use of the records.
	Close() error
}

// Inspector reads the records as they are stored, for a check that believes nothing.
type Inspector interface {
	// Form is the number of the form that the records have.
	Form() int
	// HeadFile is the file beside the records that notes the journal's newest entry.
	HeadFile() string
	// CheckIntegrity asks the database to check itself.
	CheckIntegrity(ctx context.Context) error
	// Schema says how the tables differ from those that this program makes.
	Schema(ctx context.Context) ([]string, error)
	// EachRow calls fn for every row of a table as it is stored.
	EachRow(ctx context.Context, table string, fn func(Row) error) error
	// CheckModuli compares the products of moduli with the keys that they are made of, and says what does not
	// fit; "" when everything does.
	CheckModuli(ctx context.Context) (string, error)
}

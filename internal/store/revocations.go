package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"time"
)

// Revocation is a certificate of an authority that was revoked. Those that were released
// from hold stay on record, and on no list.
type Revocation struct {
	ID       int64 // in the order in which they came; never given twice
	Serial   string
	At       time.Time
	Reason   int
	Invalid  time.Time // since when it is to be taken as bad; zero where it is not told
	Ends     time.Time // of the certificate; zero where it is not known
	Part     int       // which part of the authority's lists it is on; 0: the whole only
	Released time.Time // zero while it is revoked
	Again    bool      // it was on record before, on hold or released
}

// RevocationFilter chooses among what was revoked of an authority.
type RevocationFilter struct {
	Handle   string
	Part     int   // a part; -1 for all
	After    int64 // those only that came after this one
	Released bool  // those only that were released
}

// ListEntry is what a list tells of one revocation, as the records write it. Its texts hold until
// the next.
type ListEntry struct {
	ID                  int64
	Serial, At, Invalid []byte
	Reason              int
	Again               bool
}

// DigestLine is what Digest takes of one revocation; at is as the records write it.
func DigestLine(serial, at string, reason int) string {
	return fmt.Sprintf("%s %s %d\n", serial, at, reason)
}

// Digest is a hash over the number of a list and lines in the order of their serials.
func Digest(number int64, lines []string) string {
	h := sha256.New()
	fmt.Fprintf(h, "list %d\n", number)
	for _, l := range lines {
		h.Write([]byte(l))
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// RevocationsReader answers questions about revocations.
type RevocationsReader interface {
	// RevocationOf tells what is on record of a serial of an authority as revoked, or
	// released since; false where nothing is.
	RevocationOf(ctx context.Context, handle, serial string) (Revocation, bool, error)
	// EachRevocation calls fn for what was revoked, in the order in which it came.
	EachRevocation(ctx context.Context, some RevocationFilter, fn func(Revocation) error) error
	// EachListEntry calls fn for what is on a list: what was not released, and did not end before
	// a moment, in the order in which it came. Nothing is made of the rows, since there may be a
	// million.
	EachListEntry(ctx context.Context, handle string, part int, after, cut int64, fn func(ListEntry) error) error
	// Leaving is what lists of a part lose: those that were released since a moment, and those that
	// ended between two.
	Leaving(ctx context.Context, handle string, part int, since, from, to time.Time) (serials []string, err error)
	// LastRevocation tells the last revocation of a part of an authority's lists, of all of them for -1, and
	// when one was last released.
	LastRevocation(ctx context.Context, handle string, part int) (last int64, released time.Time, err error)
	// CountRevoked counts what is revoked of an authority's certificates.
	CountRevoked(ctx context.Context, handle string) (int, error)
	// ListNumber is the number of the last revocation list of an authority; 0 before
	// the first.
	ListNumber(ctx context.Context, handle string) (int64, error)
	// CountListed counts what is on an authority's list for certificates that had not ended at a
	// moment, or whose end is not known; part -1 is all.
	CountListed(ctx context.Context, handle string, part int, at time.Time) (n int, err error)
	// CompromisedKeys are the keys of certificates that were revoked because someone else has, or may
	// have, the key (keyCompromise and cACompromise, RFC 5280 section 5.3.1), each with the serial
	// of one of them.
	CompromisedKeys(ctx context.Context) (map[[32]byte]string, error)
}

// RevocationsWriter records changes of revocations.
type RevocationsWriter interface {
	// AddRevocations records what a revocation list says of an authority's certificates, and
	// the list's number. Serials are lower-case hex. What is on record already stays.
	AddRevocations(handle string, number int64, serials []string, at []time.Time, reasons []int) error
	// Revoke records that a certificate of an authority was revoked, and returns what was on
	// record of it: one that was on hold, or was released, and is revoked now.
	Revoke(handle string, r Revocation, holds func(reason int) bool) (was *Revocation, err error)
	// Release records that a certificate that was on hold stands again; it must still be.
	Release(handle, serial string, hold int) error
	// NumberList records the number of an authority's newest list. The one before it must still
	// be the newest.
	NumberList(handle string, after, number int64) error
	// RevocationsDigest is Digest over all that is on record as revoked of an authority's
	// certificates, and the number of its last list, for the journal.
	RevocationsDigest(handle string) (sum string, number int64, err error)
	// CompromisedAmong is CompromisedKeys for some keys only, as they are inside an act.
	CompromisedAmong(keys [][32]byte) (map[[32]byte]string, error)
}

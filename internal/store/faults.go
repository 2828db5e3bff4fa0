package store

import (
	"errors"
	"fmt"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
)

// BusyWait is how long one writer waits for another.
const BusyWait = 20 * time.Second

// Faults of any database. They are wrapped with the name of the records.
var (
	// ErrBusy says that another program kept the records to itself for longer than BusyWait.
	ErrBusy error = fault.New(fault.Busy, "another program has been writing for more than %d seconds: try again",
		int(BusyWait.Seconds()))
	// ErrFull says that the disk is full.
	ErrFull error = fault.New(fault.Unavailable, "the disk is full; nothing was changed: make room and try again")
	// ErrReadOnly says that the records can only be read.
	ErrReadOnly error = fault.New(fault.Unavailable, "they cannot be written here: check the owner and the "+
		"permissions of the directory, or whether the disk can only be read")
	// ErrDamaged says that the file of the records is not whole.
	ErrDamaged error = fault.New(fault.Internal, "the file is damaged").
			Then(advice.To("restore it from a backup", advice.RestoreEstate))
	// ErrDisk says that the disk failed.
	ErrDisk error = fault.New(fault.Unavailable, "the disk could not be read or written: it may be full, or failing")
	// ErrForbidden says that the database does not let its user do this.
	ErrForbidden error = fault.New(fault.Refused, "the database does not allow this to the user that you connect as")
	// ErrNotLetIn says that the server did not accept the user.
	ErrNotLetIn error = fault.New(fault.Refused, "the server did not accept the user or the password: look at the "+
		"address in the settings, and at the password file")
	// ErrNoDatabase says that the server has no database of the name.
	ErrNoDatabase error = fault.New(fault.NotFound, "the server has no database with this name")
	// ErrNoneFree says that the server has no connection left.
	ErrNoneFree error = fault.New(fault.Busy, "the server has no connection left: try again")
	// ErrUnreachable says that the server could not be reached, or ended the connection.
	ErrUnreachable error = fault.New(fault.Unavailable, "the server cannot be reached, or ended the connection")
	// ErrCorrupt says that the server found its own files damaged.
	ErrCorrupt error = fault.New(fault.Internal, "the server found its own files damaged: restore the database")
	// ErrUncertain says that a commit failed in a way that leaves its outcome open.
	ErrUncertain error = fault.New(fault.Unavailable, "whether this is on record is not certain").
			Then(advice.To("look whether it is", advice.ListJournal))
)

// Permanent reports whether an error is about the database as a whole, so that another change would
// fail as well.
func Permanent(err error) bool {
	for _, kind := range []error{ErrBusy, ErrFull, ErrReadOnly, ErrDamaged, ErrDisk, ErrUncertain, ErrForbidden,
		ErrNotLetIn, ErrNoDatabase, ErrNoneFree, ErrUnreachable, ErrCorrupt} {
		if errors.Is(err, kind) {
			return true
		}
	}
	_, behind := errors.AsType[*BehindError](err)
	_, moved := errors.AsType[*MovedError](err)
	return behind || moved
}

// MovedError says that the records are kept elsewhere.
type MovedError struct{ To string }

func (m *MovedError) Error() string {
	return fmt.Sprintf("these records were moved to %s: nothing is recorded here any more", m.To)
}

// BehindNoteError says that the records on a server end before what this machine saw of them, or tell otherwise.
type BehindNoteError struct{ Seen, Have journal.Head }

func (b *BehindNoteError) Error() string {
	return fmt.Sprintf("this machine saw the entry %s of the journal, and the database does not have it (its "+
		"newest is "+
		"%s): an older copy was put in its place, or the end was cut off, or these are another estate's records",
		b.Seen, b.Have)
}

// Unwrap gives what to do.
func (b *BehindNoteError) Unwrap() error {
	return fault.New(fault.Refused, "the records are not those that this machine knows").Then(
		advice.To("see what is missing", advice.CheckEstate),
		advice.Say("bring the newer records back; if they are lost for good, compare the newest entry with one "+
			"that was "+
			"printed, and take the note of this machine away (records.head)"))
}

// BehindError says that the clock is behind the latest entry of the journal.
type BehindError struct{ Now, Latest time.Time }

func (b *BehindError) Error() string {
	return fmt.Sprintf("nothing was changed: the clock says %s, and the latest record is of %s: set this machine's "+
		"clock", b.Now.Format(time.RFC3339), b.Latest.Format(time.RFC3339))
}

// Unwrap gives what to do where the record was dated by a wrong clock.
func (b *BehindError) Unwrap() error {
	return fault.New(fault.Refused, "the clock is behind the records").Then(advice.To(
		"if the record was dated by a wrong clock", advice.SettleClock, "because", advice.Asked))
}

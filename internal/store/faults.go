package store

import (
	"errors"
	"fmt"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
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
	// ErrUncertain says that a commit failed in a way that leaves its outcome open.
	ErrUncertain error = fault.New(fault.Unavailable, "whether this is on record is not certain").
			Then(advice.To("look whether it is", advice.ListJournal))
)

// Permanent reports whether an error is about the database as a whole, so that another change would
// fail as well.
func Permanent(err error) bool {
	for _, kind := range []error{ErrBusy, ErrFull, ErrReadOnly, ErrDamaged, ErrDisk, ErrUncertain} {
		if errors.Is(err, kind) {
			return true
		}
	}
	_, behind := errors.AsType[*BehindError](err)
	return behind
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

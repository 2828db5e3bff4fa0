package sqlite

import (
	"database/sql"
	"errors"
	"fmt"

	"ironseal/internal/fault"
)

// Errors that callers tell apart.
var (
	// ErrBusy says that another program kept the records to itself for too long.
	ErrBusy = fault.Of(fault.ErrBusy, "another ironseal has been writing for more than %d seconds: try again",
		int(busyWait.Seconds()))
	// ErrFull says that the disk is full.
	ErrFull = errors.New("the disk is full; nothing was changed: make room and try again")
	// ErrReadOnly says that the records can only be read.
	ErrReadOnly = errors.New("they cannot be written here: check the owner and the permissions of the directory, or " +
		"whether the disk can only be read")
)

// code is what the driver's errors offer.
type code interface{ Code() int }

// ioShmSize is SQLite's code for a shared index that cannot be given its size.
const ioShmSize = 10 | 19<<8

// Explain puts the database's commonest troubles into words.
func (d *DB) Explain(err error) error {
	var c code
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
		return fmt.Errorf("records %s: %w", d.path, err)
	}
	return fmt.Errorf("records %s: %w: %w", d.path, kind, err)
}

type explained struct {
	row *sql.Row
	d   *DB
}

// Scan implements Scanner.
func (e explained) Scan(into ...any) error { return e.d.Explain(e.row.Scan(into...)) }

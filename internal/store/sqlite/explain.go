package sqlite

import (
	"errors"
	"fmt"

	"ironseal/internal/store"
)

// code is what the driver's errors offer.
type code interface{ Code() int }

// ioShmSize is SQLite's code for a shared index that cannot be given its size.
const ioShmSize = 10 | 19<<8

// Explain puts the database's commonest troubles into words.
func (f *file) Explain(err error) error {
	var c code
	if !errors.As(err, &c) {
		return err
	}
	kind := map[int]error{5: store.ErrBusy, 6: store.ErrBusy, 8: store.ErrReadOnly, 14: store.ErrReadOnly,
		13: store.ErrFull,
		11: store.ErrDamaged, 26: store.ErrDamaged}[c.Code()&0xff]
	if c.Code() == ioShmSize { // the shared index beside the log could not grow
		kind = store.ErrFull
	}
	if kind == nil && c.Code()&0xff == 10 {
		kind = store.ErrDisk
	}
	if kind == nil {
		return fmt.Errorf("records %s: %w", f.path, err)
	}
	return fmt.Errorf("records %s: %w: %w", f.path, kind, err)
}

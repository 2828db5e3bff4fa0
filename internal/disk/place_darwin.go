package disk

import (
	"errors"

	"golang.org/x/sys/unix"
)

// place gives a file its name, which no one has yet, in one step where the file system can.
func place(from, to string) error {
	err := unix.RenamexNp(from, to, unix.RENAME_EXCL)
	switch {
	case errors.Is(err, unix.EEXIST):
		return ErrExists
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOTSUP):
		return placeSlowly(from, to)
	}
	return err
}

// swap lets two folders exchange their names in one step, where the file system can.
func swap(a, b string) error {
	err := unix.RenamexNp(a, b, unix.RENAME_SWAP)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return swapSlowly(a, b)
	}
	return err
}

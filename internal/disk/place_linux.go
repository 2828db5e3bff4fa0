package disk

import (
	"errors"

	"golang.org/x/sys/unix"
)

// place gives a file its name, which no one has yet, in one step where the file
// system can.
func place(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	switch {
	case errors.Is(err, unix.EEXIST):
		return ErrExists
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.ENOTSUP),
		errors.Is(err, unix.EPERM):
		return placeSlowly(from, to)
	}
	return err
}

// swap lets two folders exchange their names in one step.
func swap(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		return swapSlowly(a, b)
	}
	return err
}

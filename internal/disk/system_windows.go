package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/windows"

	"ironseal/pki/label"
)

// long is a path as the system's own calls take it: whole, and of any length.
func long(path string) (*uint16, error) {
	whole, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	const most = 247 // of a folder's path; files have 12 more
	switch {
	case len(whole) <= most || strings.HasPrefix(whole, `\\?\`) || strings.HasPrefix(whole, `\\.\`):
	case strings.HasPrefix(whole, `\\`):
		whole = `\\?\UNC\` + whole[2:]
	default:
		whole = `\\?\` + whole
	}
	return windows.UTF16PtrFromString(whole)
}

// patience is how long a file is waited for that another program holds for a moment, as
// virus scanners and indexers do with every new file.
const patience = time.Second

// patiently does something again for a moment while another program holds the file.
func patiently(do func() error) error {
	for wait, until := time.Millisecond, time.Now().Add(patience); ; wait *= 2 {
		err := do()
		if !isHeld(err) || time.Now().Add(wait).After(until) {
			return err
		}
		time.Sleep(wait)
	}
}

// isHeld reports whether another program has a file open. Access denied is also what the system says of a
// file that is replaced or removed while it is open.
func isHeld(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) ||
		errors.Is(err, windows.ERROR_ACCESS_DENIED) || errors.Is(err, windows.ERROR_DELETE_PENDING) ||
		errors.Is(err, windows.ERROR_DIR_NOT_EMPTY) // of a folder whose files are about to be removed
}

// move gives a file or folder another name. It is on the disk when it returns.
func move(from, to string, flags uint32) error {
	a, err := long(from)
	if err != nil {
		return err
	}
	b, err := long(to)
	if err != nil {
		return err
	}
	err = patiently(func() error { return windows.MoveFileEx(a, b, flags|windows.MOVEFILE_WRITE_THROUGH) })
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

// rename gives a file its name, in place of another of that name.
func rename(from, to string) error { return move(from, to, windows.MOVEFILE_REPLACE_EXISTING) }

// place gives a file its name, which no one has yet, in one step.
func place(from, to string) error {
	err := move(from, to, 0)
	if errors.Is(err, windows.ERROR_ALREADY_EXISTS) || errors.Is(err, windows.ERROR_FILE_EXISTS) {
		return ErrExists
	}
	return err
}

// swap lets two folders exchange their names: the system has no single step for it.
func swap(a, b string) error { return swapSlowly(a, b) }

// turn lets one program at a time replace a folder: between the two steps of a swap it is missing.
func turn(dir string) (release func(), err error) { return lock(filepath.Clean(dir), true) }

// syncFolder does nothing: the names of a folder are on the disk when a move returns.
func syncFolder(string) error { return nil }

// openPlain opens what is a file on a disk. Devices have names in every folder (NUL, CON, COM1).
func openPlain(path string) (f *os.File, err error) {
	if err := Reserved(path); err != nil {
		return nil, err
	}
	if f, err = openFor(path); err != nil {
		return nil, err
	}
	if kind, err := windows.GetFileType(windows.Handle(f.Fd())); err == nil && kind != windows.FILE_TYPE_DISK {
		f.Close()
		return nil, fmt.Errorf("this is no plain file: %w", fs.ErrInvalid)
	}
	return f, nil
}

// openFor opens a file to be read. Others may move or remove it meanwhile, as on other systems.
func openFor(path string) (*os.File, error) {
	name, err := long(path)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
		return os.Open(path) // a folder, a device, or the error that the caller expects
	}
	var h windows.Handle
	err = patiently(func() error {
		var err error
		h, err = windows.CreateFile(name, windows.GENERIC_READ,
			windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING,
			windows.FILE_ATTRIBUTE_NORMAL, 0)
		return err
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(h), path), nil
}

func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL) ||
		errors.Is(err, windows.ERROR_DISK_QUOTA_EXCEEDED)
}

func isReadOnly(err error) bool { return errors.Is(err, windows.ERROR_WRITE_PROTECT) }

// Writable reports whether files can be made in a directory.
func Writable(dir string) bool {
	f, err := os.CreateTemp(dir, tempPrefix+"*")
	if err != nil {
		return false
	}
	f.Close()
	os.Remove(f.Name())
	return true
}

// ErrReserved says that the system does not keep a name as it is.
var ErrReserved = errors.New("the name is reserved on Windows: choose another")

// Reserved is ErrReserved for a path of which a part is the name of a device, or ends with a dot or a blank,
// which the system leaves out.
func Reserved(path string) error {
	rest := path[len(filepath.VolumeName(path)):]
	for _, part := range strings.FieldsFunc(rest, func(r rune) bool { return r == '/' || r == '\\' }) {
		if part == "." || part == ".." {
			continue
		}
		if label.IsDevice(part) || !filepath.IsLocal(part) || strings.TrimRight(part, ". ") != part {
			return fmt.Errorf("%q: %w", part, ErrReserved)
		}
	}
	return nil
}

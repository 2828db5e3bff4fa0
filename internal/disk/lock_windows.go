package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/windows"
)

// lockPrefix begins the names of locks. A folder cannot be locked here, and a file that is open cannot be
// moved. So what is being made is locked by a file beside it, which the system removes when the program ends,
// however it ends.
const lockPrefix = tempPrefix + "lock-"

func lockOf(path string) string {
	dir, name := filepath.Split(path)
	if strings.HasPrefix(name, lockPrefix) {
		return path
	}
	return filepath.Join(dir, lockPrefix+name)
}

// lock locks a file or folder. With wait it waits for the holder of the lock.
func lock(path string, wait bool) (release func(), err error) {
	name, err := long(lockOf(path))
	if err != nil {
		return nil, err
	}
	for until := time.Now().Add(10 * patience); ; time.Sleep(time.Millisecond) {
		h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE|windows.DELETE,
			windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, private(), windows.OPEN_ALWAYS,
			windows.FILE_ATTRIBUTE_HIDDEN|windows.FILE_FLAG_DELETE_ON_CLOSE|
				windows.FILE_FLAG_OPEN_REPARSE_POINT, 0) // a link by this name is removed, and not what it leads to
		if err == nil {
			how := uint32(windows.LOCKFILE_EXCLUSIVE_LOCK)
			if !wait {
				how |= windows.LOCKFILE_FAIL_IMMEDIATELY
			}
			if err = windows.LockFileEx(h, how, 0, 1, 0, new(windows.Overlapped)); err != nil {
				return nil, errors.Join(err, windows.CloseHandle(h))
			}
			return func() { _ = windows.CloseHandle(h) }, nil // the system removes the file
		}
		// The lock of someone who has just let go is about to be removed.
		if !wait || !isHeld(err) || time.Now().After(until) {
			return nil, &fs.PathError{Op: "lock", Path: path, Err: err}
		}
	}
}

// Lock locks a file or folder until release is called, or the program ends. Where someone took it away
// before it was locked, that is fs.ErrNotExist.
func Lock(path string) (release func(), err error) {
	if release, err = lock(path, true); err != nil {
		return nil, fmt.Errorf("%s: %w", path, Explain(err))
	}
	if _, err := os.Lstat(path); err != nil {
		release()
		return nil, fmt.Errorf("%s: %w", path, Explain(err))
	}
	return release, nil
}

// begin locks a name of its own in a folder, and then makes what has it: no one sees it unlocked.
func begin(dir, prefix string, make func(path string) error) (path string, release func(), err error) {
	for {
		path = filepath.Join(dir, fmt.Sprintf("%s%d", prefix, rand.Uint64()))
		if release, err = lock(path, true); err != nil {
			return "", nil, err
		}
		if err = make(path); err == nil {
			return path, release, nil
		}
		if release(); !errors.Is(err, fs.ErrExist) {
			return "", nil, err
		}
	}
}

// beginFile makes a file and holds it.
func beginFile(dir string, mode fs.FileMode) (f *os.File, release func(), err error) {
	_, release, err = begin(dir, tempPrefix, func(path string) (err error) {
		f, err = CreateNew(path, mode)
		return err
	})
	return f, release, err
}

// beginFolder makes a folder and holds it.
func beginFolder(parent string) (making string, release func(), err error) {
	return begin(parent, makingPrefix, makeFolder)
}

// take locks a file or folder that no one holds, until release is called.
func take(path string) (release func(), ok bool) {
	if _, err := os.Lstat(path); err != nil {
		return nil, false
	}
	release, err := lock(path, false)
	return release, err == nil
}

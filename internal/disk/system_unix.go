//go:build unix

package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// Lock locks a file or folder until release is called, or the program ends. Where someone took it away
// before it was locked, that is fs.ErrNotExist.
func Lock(path string) (release func(), err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, Explain(err))
	}
	if release, err = holdOpen(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return release, f.Close()
}

// beginFile makes a file and holds it. Whoever sweeps between the two takes it away; then another is made.
func beginFile(dir string, _ fs.FileMode) (f *os.File, release func(), err error) {
	for {
		if f, err = os.CreateTemp(dir, tempPrefix+"*"); err != nil {
			return nil, nil, err
		}
		if release, err = holdOpen(f); err == nil {
			return f, release, nil
		}
		if f.Close(); !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, errors.Join(err, os.Remove(f.Name()))
		}
	}
}

// beginFolder makes a folder and holds it. Whoever sweeps between the two takes it away; then another is made.
func beginFolder(parent string) (making string, release func(), err error) {
	for {
		making = filepath.Join(parent, fmt.Sprintf("%s%d", makingPrefix, rand.Uint64()))
		if err = os.Mkdir(making, 0o700); errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", nil, err
		}
		release, err := Lock(making)
		if err == nil || !errors.Is(err, fs.ErrNotExist) {
			if release == nil { // it cannot be opened; then no one sweeps it
				release = func() {}
			}
			return making, release, nil
		}
	}
}

// holdOpen locks what is open, until release is called: the file itself may be closed before. Who looks
// whether it is held has the lock for a moment, and is waited for. A file system without locks is no
// hindrance: what is left behind there is reported, and not removed.
func holdOpen(f *os.File) (release func(), err error) {
	_ = unix.Flock(int(f.Fd()), unix.LOCK_EX)
	if !there(f) {
		return nil, fmt.Errorf("%s: %w", f.Name(), fs.ErrNotExist)
	}
	duplicate, err := unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return func() { _ = unix.Close(duplicate) }, nil
}

// there reports whether what was opened still has its name.
func there(f *os.File) bool {
	a, err := f.Stat()
	if err != nil {
		return false
	}
	b, err := os.Lstat(f.Name())
	return err == nil && os.SameFile(a, b)
}

// take locks a file or folder that no one holds, until release is called.
func take(path string) (release func(), ok bool) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, false
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		f.Close()
		return nil, false
	}
	return func() { f.Close() }, true
}

// patiently does something: here no program keeps another from a file.
func patiently(do func() error) error { return do() }

// turn lets one program at a time replace a folder. Here a swap is one step, and no one waits.
func turn(string) (release func(), err error) { return func() {}, nil }

// rename gives a file its name, in place of another of that name.
func rename(from, to string) error { return os.Rename(from, to) }

// placeSlowly gives a file its name, which no one has yet, on file systems that
// cannot do it in one step: by a link, and where there are no links (memory sticks)
// by looking first.
func placeSlowly(from, to string) error {
	err := os.Link(from, to)
	switch {
	case err == nil:
		return os.Remove(from)
	case errors.Is(err, fs.ErrExist):
		return ErrExists
	}
	if _, err := os.Lstat(to); err == nil {
		return ErrExists
	}
	return os.Rename(from, to)
}

// CreateNew makes a file that must not exist.
func CreateNew(path string, mode fs.FileMode) (*os.File, error) {
	return os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
}

// makeFolder makes a folder that only the user may read.
func makeFolder(path string) error { return os.Mkdir(path, 0o700) }

// setMode gives a file that was just made its mode. That always works, but for file systems that know none:
// Exposed tells whether it took.
func setMode(f *os.File, mode fs.FileMode) error {
	if err := f.Chmod(mode); !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}

// SetMode gives a file or folder its mode.
func SetMode(path string, mode fs.FileMode) error { return os.Chmod(path, mode) }

// syncFolder puts the names in a folder onto the disk.
func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// mine reports whether a file belongs to the user who runs the program.
func mine(_ string, info fs.FileInfo) bool {
	s, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(s.Uid) == os.Geteuid()
}

// OwnerOf is the owner of a file in brackets, for messages; "" where that is not known.
func OwnerOf(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	id := strconv.Itoa(int(s.Uid))
	if u, err := user.LookupId(id); err == nil {
		return " (" + u.Username + ")"
	}
	return " (user " + id + ")"
}

func openPlain(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
}

func openFor(path string) (*os.File, error) { return os.Open(path) }

func isFull(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

func isReadOnly(err error) bool { return errors.Is(err, unix.EROFS) }

// Writable reports whether files can be made in a directory.
func Writable(dir string) bool { return unix.Access(dir, unix.W_OK) == nil }

// Exposed says who may read a file beside its owner, or "": a memory stick may know no modes.
func Exposed(path string) string {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ""
	case err != nil:
		return "who may read it cannot be determined: " + Explain(err).Error()
	case info.Mode().Perm()&0o077 != 0:
		return fmt.Sprintf("others may read it (mode %04o)", info.Mode().Perm())
	}
	return ""
}

// Untrusted says why a file or directory could have been put there by someone
// else, or "": it belongs to another user, or others may write to it.
func Untrusted(path string) string {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return ""
	case !mine(path, info):
		return "it belongs to another user"
	case info.Mode().Perm()&0o022 != 0:
		return "others may write to it (mode " + info.Mode().Perm().String() + ")"
	}
	return ""
}

// Closing is the command that closes a file to others.
func Closing(path string) string { return "chmod 600 " + path }

// Guarding is the command that keeps others from changing a file or folder.
func Guarding(path string) string { return "chmod go-w " + path }

// Reserved is nil: every name can be a file's here.
func Reserved(string) error { return nil }

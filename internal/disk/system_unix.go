//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// hold locks what is being made. Who looks whether it is held has the lock for a moment, and is waited for.
// A file system without locks is no hindrance: what is left behind there is reported, and not removed.
func hold(f *os.File) { _ = unix.Flock(int(f.Fd()), unix.LOCK_EX) }

// take locks a file or folder that nobody holds, until release is called.
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

// unheld reports whether nobody holds a lock on a file or folder.
func unheld(path string) bool {
	release, ok := take(path)
	if ok {
		release()
	}
	return ok
}

// mine reports whether a file belongs to the user who runs the program.
func mine(info fs.FileInfo) bool {
	s, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(s.Uid) == os.Geteuid()
}

// Mine reports whether a file or directory belongs to the user who runs the program.
func Mine(path string) bool {
	info, err := os.Stat(path)
	return err != nil || mine(info)
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

func isFull(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

func isReadOnly(err error) bool { return errors.Is(err, unix.EROFS) }

// Writable reports whether files can be made in a directory.
func Writable(dir string) bool { return unix.Access(dir, unix.W_OK) == nil }

// Untrusted says why a file or directory could have been put there by somebody
// else, or "": it belongs to another user, or others may write to it.
func Untrusted(path string) string {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return ""
	case !mine(info):
		return "it belongs to another user"
	case info.Mode().Perm()&0o022 != 0:
		return "others may write to it (mode " + info.Mode().Perm().String() + ")"
	}
	return ""
}

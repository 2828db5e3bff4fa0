package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// What is being made has a name of its own until it is whole. When the program is
// killed meanwhile, that name is left behind, and may hold a private key. So every
// maker holds a lock on what it makes, and whoever comes next into the same
// directory removes what no one holds any more.
const (
	tempPrefix   = ".ironseal-"        // files
	makingPrefix = ".ironseal-making-" // folders
)

// Mine reports whether a file or directory belongs to the user who runs the program.
func Mine(path string) bool {
	info, err := os.Stat(path)
	return err != nil || mine(path, info)
}

// OwnDir makes a directory that only its owner may read, where it is missing. The one above it must be there.
func OwnDir(path string) error {
	if err := makeFolder(path); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s: %w", path, unwritten(err))
	}
	return nil
}

// Dir makes a directory, and those above it, where they are missing.
func Dir(path string) error {
	if err := Reserved(path); err != nil {
		return err
	}
	if err := os.MkdirAll(path, 0o755); err != nil {
		return fmt.Errorf("%s: %w", path, unwritten(err))
	}
	return nil
}

// NewFolder makes a folder all at once: write fills it under another name beside
// it, and only then it gets its own. A folder that is there already is not touched.
func NewFolder(dir string, write func(into string) error) error {
	if _, err := os.Lstat(dir); err == nil {
		return fmt.Errorf("%s: %w: move it away, or choose another", dir, ErrExists)
	}
	return Aside(dir, func(making string) error {
		if err := write(making); err != nil {
			return err
		}
		if err := place(making, dir); err != nil {
			return fmt.Errorf("%s: %w", dir, Explain(err))
		}
		return nil
	})
}

// ReplaceFolder makes a folder all at once in place of one that holds nothing but plain
// files of known names; that one is removed once the new one has its name. A link to a folder
// stays a link: the folder that it leads to is replaced.
func ReplaceFolder(dir string, known []string, write func(into string) error) error {
	if to, err := filepath.EvalSymlinks(dir); err == nil {
		dir = to
	}
	if err := Dir(filepath.Dir(filepath.Clean(dir))); err != nil {
		return err
	}
	release, err := turn(dir)
	if err != nil {
		return fmt.Errorf("%s: %w", dir, Explain(err))
	}
	defer release()
	list, err := Entries(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return NewFolder(dir, write)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", dir, Explain(err))
	}
	for _, f := range list {
		if !f.Type().IsRegular() {
			return fmt.Errorf("%s: it holds %q, which is no plain file: move it away, or choose another", dir, f.Name())
		}
		if !slices.Contains(known, f.Name()) {
			return fmt.Errorf("%s: it holds %q, which would be lost: move it away, or choose another", dir, f.Name())
		}
	}
	return Aside(dir, func(making string) error {
		if err := write(making); err != nil {
			return err
		}
		if err := swap(making, dir); err != nil {
			return fmt.Errorf("%s: %w", dir, Explain(err))
		}
		return nil // the earlier one has the name that is removed
	})
}

// Entries lists a folder that others may be replacing: one that was replaced while it was read reads as missing, and
// is read again.
func Entries(dir string) (list []fs.DirEntry, err error) {
	for range 100 {
		if list, err = os.ReadDir(dir); !errors.Is(err, fs.ErrNotExist) {
			return list, err
		}
		if _, gone := os.Lstat(dir); gone != nil {
			return nil, err
		}
	}
	return list, err
}

// swapSlowly lets two folders exchange their names where no system call does: b goes aside, into a folder
// that is held, so that no one sweeps it away. Where the program is killed between the two steps, b is
// missing until it is made again.
func swapSlowly(a, b string) error {
	making, release, err := beginFolder(filepath.Dir(a))
	if err != nil {
		return err
	}
	defer release()
	defer os.Remove(making) // it is empty, unless something could not be put back
	aside := filepath.Join(making, "earlier")
	if err := rename(b, aside); err != nil {
		return err
	}
	if err := rename(a, b); err != nil {
		return errors.Join(err, rename(aside, b))
	}
	return rename(aside, a)
}

// Aside gives write a folder of its own beside a target, on the same file system,
// to be read by its owner only. It is removed in the end, unless it was renamed.
func Aside(target string, write func(making string) error) error {
	parent := filepath.Dir(filepath.Clean(target))
	if err := Dir(parent); err != nil {
		return err
	}
	if _, err := Sweep(parent); err != nil { // what a run that was killed left in the same place
		return err
	}
	making, release, err := beginFolder(parent)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", parent, Explain(err))
	}
	defer release()
	defer func() { _ = patiently(func() error { return os.RemoveAll(making) }) }()
	if err := write(making); err != nil {
		return err
	}
	return Disk{}.syncDir(parent)
}

// TryLock locks a file or folder that no one holds, until release is called; false where someone does, or it
// is not there.
func TryLock(path string) (release func(), ok bool) { return take(path) }

// unheld reports whether no one holds a lock on a file or folder.
func unheld(path string) bool {
	release, ok := take(path)
	if ok {
		release()
	}
	return ok
}

// Rename gives a file its name, in place of another of that name.
func Rename(from, to string) error { return rename(from, to) }

// Place moves a file that was made aside to its name, which must be free.
func Place(from, to string) error {
	if err := place(from, to); err != nil {
		return fmt.Errorf("%s: %w", to, Explain(err))
	}
	return nil
}

// settled is how long what was left behind must have been there: a maker needs a
// moment between making a name and holding it.
const settled = 2 * time.Second

// Leftovers names what acts that were cut off left behind in a directory, and what
// no one works on any more.
func Leftovers(dir string) []string { return leftovers(dir, settled) }

func leftovers(dir string, settled time.Duration) []string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil // there is no such directory, or it is not ours to read
	}
	var out []string
	for _, x := range entries {
		if !strings.HasPrefix(x.Name(), tempPrefix) {
			continue
		}
		path := filepath.Join(dir, x.Name())
		if info, err := x.Info(); err == nil && time.Since(info.ModTime()) > settled &&
			(x.IsDir() || x.Type().IsRegular()) && mine(path, info) && unheld(path) {
			out = append(out, path)
		}
	}
	return out
}

// Sweep removes the leftovers of a directory, and returns what it removed.
func Sweep(dir string) (removed []string, err error) { return sweep(Leftovers(dir)) }

// SweepNow is Sweep for a directory in which something was cut off for certain: nothing is waited for.
func SweepNow(dir string) (removed []string, err error) { return sweep(leftovers(dir, 0)) }

func sweep(list []string) (removed []string, err error) {
	for _, path := range list {
		release, ok := take(path)
		if !ok {
			continue // someone works on it, or was quicker
		}
		e := patiently(func() error { return os.RemoveAll(path) })
		if release(); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, fmt.Errorf("removing %s: %w", path, Explain(e)))
			continue
		}
		removed = append(removed, path)
	}
	return removed, err
}

// Package disk writes files so that a crash leaves either the old file or the
// new one, never half of one.
//
// Every file that matters is written to a temporary name in the same directory,
// synced, moved to its name, and the directory is synced. The steps are named,
// and a test can make any of them fail.
package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
)

// Step is one of the steps of writing a file.
type Step string

const (
	StepCreate  Step = "create"
	StepWrite   Step = "write"
	StepSync    Step = "sync"
	StepPlace   Step = "place"
	StepSyncDir Step = "sync directory"
)

// Disk is the file system. The zero value is the real one.
type Disk struct {
	// Fault is asked before every step; an error makes the step fail. For tests.
	Fault func(step Step, path string) error
}

func (d Disk) fault(s Step, path string) error {
	if d.Fault == nil {
		return nil
	}
	return d.Fault(s, path)
}

// ErrExists says that a file is there already and was not to be replaced.
var ErrExists = errors.New("the file is there already")

// New writes a file that must not exist yet.
func (d Disk) New(path string, data []byte, mode fs.FileMode) error {
	return d.write(path, data, mode, false)
}

// Replace writes a file whether or not it exists. What is no file, a device or a
// pipe, is written to and stays what it is.
func (d Disk) Replace(path string, data []byte, mode fs.FileMode) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return writeInto(path, data)
	}
	return d.write(path, data, mode, true)
}

func writeInto(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, Plain(err))
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", path, Plain(err))
	}
	return nil
}

func (d Disk) write(path string, data []byte, mode fs.FileMode, replace bool) (err error) {
	if _, statErr := os.Lstat(path); statErr == nil && !replace {
		return fmt.Errorf("%s: %w", path, ErrExists)
	}
	dir := filepath.Dir(path)
	if err := d.fault(StepCreate, path); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	f, err := os.CreateTemp(dir, ".ironseal-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, Plain(err))
	}
	defer func() {
		if err != nil {
			os.Remove(f.Name())
			err = fmt.Errorf("writing %s: %w", path, Plain(err))
		}
	}()
	if err := d.fill(f, path, data, mode); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := d.fault(StepPlace, path); err != nil {
		return err
	}
	if replace {
		err = os.Rename(f.Name(), path)
	} else if err = os.Link(f.Name(), path); err == nil {
		os.Remove(f.Name())
	} else if errors.Is(err, fs.ErrExist) {
		err = ErrExists
	} else if !errors.Is(err, fs.ErrPermission) {
		err = os.Rename(f.Name(), path) // a file system without links
	}
	if err != nil {
		return err
	}
	return d.syncDir(dir)
}

func (d Disk) fill(f *os.File, path string, data []byte, mode fs.FileMode) error {
	if err := f.Chmod(mode); err != nil && runtime.GOOS != "windows" {
		return err
	}
	if err := d.fault(StepWrite, path); err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		return err
	}
	if err := d.fault(StepSync, path); err != nil {
		return err
	}
	return f.Sync()
}

func (d Disk) syncDir(dir string) error {
	if err := d.fault(StepSyncDir, dir); err != nil {
		return err
	}
	if runtime.GOOS == "windows" {
		return nil // directories cannot be synced there
	}
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Plain takes the operation and the path out of a file system error, for use
// where the message names them already.
func Plain(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	var l *os.LinkError
	if errors.As(err, &l) {
		return l.Err
	}
	return err
}

// Read reads a file of at most limit bytes. A directory, a missing file and one
// that is too large are told as such.
func Read(path string, limit int64) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s: there is no such file", path)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", path, Plain(err))
	case info.IsDir():
		return nil, fmt.Errorf("%s: this is a directory, and a file is needed", path)
	case info.Size() > limit:
		return nil, fmt.Errorf("%s: %d bytes; the most that is read is %d", path, info.Size(), limit)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, Plain(err))
	}
	return data, nil
}

// Remove deletes a file; a missing one is no error.
func (d Disk) Remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing %s: %w", path, Plain(err))
	}
	return nil
}

// NewFolder makes a folder all at once: write fills it under another name beside
// it, and only then it gets its own. A folder that is there already is not touched.
func NewFolder(dir string, write func(into string) error) error {
	if _, err := os.Lstat(dir); err == nil {
		return fmt.Errorf("%s: %w: move it away, or choose another", dir, ErrExists)
	}
	parent := filepath.Dir(filepath.Clean(dir))
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return fmt.Errorf("%s: %w", parent, Plain(err))
	}
	making, err := os.MkdirTemp(parent, ".ironseal-making-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", parent, Plain(err))
	}
	defer os.RemoveAll(making)
	if err := write(making); err != nil {
		return err
	}
	if err := os.Rename(making, dir); err != nil {
		return fmt.Errorf("%s: %w", dir, Plain(err))
	}
	return nil
}

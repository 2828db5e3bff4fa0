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

	"golang.org/x/sync/errgroup"
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
	if err := Reserved(path); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return writeInto(path, data)
	}
	return d.write(path, data, mode, true)
}

func writeInto(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, Explain(err))
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", path, Explain(err))
	}
	return nil
}

func (d Disk) write(path string, data []byte, mode fs.FileMode, replace bool) error {
	m, err := d.begin(path, data, mode, replace)
	if err != nil {
		return err
	}
	return m.complete()
}

func notWritten(path string, err error) error {
	return fmt.Errorf("writing %s: %w", path, unwritten(err))
}

// File is a file to be written.
type File struct {
	Path string
	Data []byte
	Mode fs.FileMode
}

// NewAll writes files that must not exist yet, as New does, and lets the disk catch up
// with all of them at once. It returns what went wrong with each.
func (d Disk) NewAll(files []File) []error {
	faults, made := make([]error, len(files)), make([]*making, len(files))
	for i, f := range files {
		made[i], faults[i] = d.begin(f.Path, f.Data, f.Mode, false)
	}
	synced := make([]error, len(files))
	var all errgroup.Group
	all.SetLimit(16) // a disk that is asked for many at once writes them in one go
	for i := range files {
		if made[i] != nil {
			all.Go(func() error {
				synced[i] = made[i].sync()
				return nil
			})
		}
	}
	_ = all.Wait() // each file keeps its own failure
	dirs := map[string]error{}
	for i, f := range files {
		if made[i] != nil {
			faults[i] = made[i].finish(synced[i])
		}
		dirs[filepath.Dir(f.Path)] = nil
	}
	for dir := range dirs {
		dirs[dir] = d.syncDir(dir)
	}
	for i, f := range files {
		if err := dirs[filepath.Dir(f.Path)]; err != nil && faults[i] == nil {
			faults[i] = notWritten(f.Path, err)
		}
	}
	return faults
}

// making is a file that has all it will hold, and not its name.
type making struct {
	d       Disk
	f       *os.File
	release func() // lets go of the lock on it
	path    string
	replace bool
}

func (d Disk) begin(path string, data []byte, mode fs.FileMode, replace bool) (*making, error) {
	if _, statErr := os.Lstat(path); statErr == nil && !replace {
		return nil, fmt.Errorf("%s: %w", path, ErrExists)
	}
	if err := errors.Join(Reserved(path), d.fault(StepCreate, path)); err != nil {
		return nil, fmt.Errorf("writing %s: %w", path, err)
	}
	f, release, err := beginFile(filepath.Dir(path), mode)
	if err != nil {
		return nil, notWritten(path, err)
	}
	m := &making{d, f, release, path, replace}
	if err := d.fill(f, path, data, mode); err != nil {
		return nil, m.drop(err)
	}
	return m, nil
}

func (m *making) sync() error {
	if err := m.d.fault(StepSync, m.path); err != nil {
		return err
	}
	return m.f.Sync()
}

// finish gives the file its name, unless something went wrong before. It is closed then, as not every system
// moves what is open, and the lock is held.
func (m *making) finish(err error) error {
	if err == nil {
		err = m.d.fault(StepPlace, m.path)
	}
	if closing := m.f.Close(); err == nil {
		err = closing
	}
	switch {
	case err != nil:
	case m.replace:
		err = rename(m.f.Name(), m.path)
	default:
		err = place(m.f.Name(), m.path)
	}
	if err != nil {
		return m.drop(err)
	}
	m.release()
	return nil
}

// complete gives the file its name as soon as the disk has it.
func (m *making) complete() error {
	if err := m.finish(m.sync()); err != nil {
		return err
	}
	if err := m.d.syncDir(filepath.Dir(m.path)); err != nil {
		return notWritten(m.path, err)
	}
	return nil
}

func (m *making) drop(why error) error {
	m.discard()
	return notWritten(m.path, why)
}

func (m *making) discard() {
	m.f.Close() // where it was closed before, that says so, and does nothing
	os.Remove(m.f.Name())
	m.release()
}

func (d Disk) fill(f *os.File, path string, data []byte, mode fs.FileMode) error {
	if err := setMode(f, mode); err != nil {
		return err
	}
	if err := d.fault(StepWrite, path); err != nil {
		return err
	}
	_, err := f.Write(data)
	return err
}

func (d Disk) syncDir(dir string) error {
	if err := d.fault(StepSyncDir, dir); err != nil {
		return err
	}
	return syncFolder(dir)
}

// Explain takes the operation and the path out of a file system error, for use
// where the message names them already, and calls the commonest troubles by name.
func Explain(err error) error {
	var p *fs.PathError
	var l *os.LinkError
	switch {
	case errors.As(err, &p):
		err = p.Err
	case errors.As(err, &l):
		err = l.Err
	}
	switch {
	case isFull(err):
		return fmt.Errorf("the disk is full: make room and try again: %w", err)
	case isReadOnly(err):
		return fmt.Errorf("it cannot be written: the disk can only be read: %w", err)
	}
	return err
}

// unwritten is Explain for what could not be written.
func unwritten(err error) error {
	if err = Explain(err); errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("it cannot be written here: %w", err)
	}
	return err
}

// Remove deletes a file; a missing one is no error.
func (d Disk) Remove(path string) error {
	if err := patiently(func() error { return os.Remove(path) }); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing %s: %w", path, Explain(err))
	}
	return nil
}

// Package unfinished notes in which places outside of an estate something is being made.
//
// A program that is killed leaves what it was making behind, a private key perhaps. The next run finds the
// place by the note, wherever it is, and removes what was left.
package unfinished

import (
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/disk"
)

// Dir is the folder of the notes.
type Dir string

// Note notes that something is being made in a directory. done takes the note away, and is called whatever
// happened.
func (d Dir) Note(at disk.Disk, random io.Reader, dir string) (done func(), err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	notes := string(d)
	if err := disk.OwnDir(notes); err != nil {
		return nil, err
	}
	name := make([]byte, 8)
	if _, err := io.ReadFull(random, name); err != nil {
		return nil, err
	}
	note := filepath.Join(notes, hex.EncodeToString(name)+".txt")
	release := func() {}
	for locked := false; !locked; { // another program may take a note away that no one holds yet
		if err := at.New(note, []byte(dir+"\n"), 0o600); err != nil {
			return nil, err
		}
		release, err = disk.Lock(note)
		if locked = err == nil; err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return func() {
		_ = at.Remove(note) // what stays is taken for left behind, and found harmless
		release()
	}, nil
}

// Tidy removes what killed runs left behind in the places that they had noted, and names it.
func (d Dir) Tidy(at disk.Disk) (removed []string, err error) {
	notes := string(d)
	list, readErr := os.ReadDir(notes)
	if readErr != nil {
		return nil, nil // nothing was noted yet
	}
	if _, err = disk.SweepNow(notes); err != nil { // notes that were never whole: nothing was begun yet
		return nil, err
	}
	for _, n := range list {
		if !strings.HasSuffix(n.Name(), ".txt") || strings.HasPrefix(n.Name(), ".") {
			continue // no note, or a lock on one
		}
		gone, clearErr := cleared(at, filepath.Join(notes, n.Name()))
		removed, err = append(removed, gone...), errors.Join(err, clearErr)
	}
	slices.Sort(removed)
	return slices.Compact(removed), err
}

// cleared removes what the program of a note left behind, and the note. A note that is held is left alone: its
// program runs.
func cleared(at disk.Disk, note string) (removed []string, err error) {
	release, ok := disk.TryLock(note)
	if !ok {
		return nil, nil
	}
	defer release()
	data, err := disk.ReadRegular(note, 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // its program has just ended, and taken it away
	}
	if err != nil {
		return nil, err
	}
	removed, err = disk.SweepNow(strings.TrimSuffix(string(data), "\n"))
	if err == nil {
		err = at.Remove(note)
	}
	return removed, err
}

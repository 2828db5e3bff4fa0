package estate

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/disk"
)

// underWayDir is where an estate notes in which places outside of it something is being made. A program
// that is killed leaves what it was making behind, a private key perhaps: the next run finds the
// place by the note, wherever it is.
const underWayDir = "under-way"

// UnderWay notes that something is being made in a directory. done takes the note away, and is
// called whatever happened.
func (e *Estate) UnderWay(dir string) (done func(), err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	notes := filepath.Join(e.Dir, underWayDir)
	if err := os.MkdirAll(notes, 0o700); err != nil {
		return nil, fmt.Errorf("%s: %w", notes, disk.Plain(err))
	}
	name := make([]byte, 8)
	if _, err := io.ReadFull(e.World.Random, name); err != nil {
		return nil, err
	}
	note := filepath.Join(notes, hex.EncodeToString(name)+".txt")
	if err := e.World.Disk.New(note, []byte(dir+"\n"), 0o600); err != nil {
		return nil, err
	}
	release, err := disk.Hold(note)
	if err != nil {
		return nil, err
	}
	return func() {
		release()
		_ = os.Remove(note) // what stays is taken for left behind, and found harmless
	}, nil
}

// Tidy removes what killed runs left behind in the places that they had noted, and names it.
func (e *Estate) Tidy() (removed []string, err error) {
	notes := filepath.Join(e.Dir, underWayDir)
	list, readErr := os.ReadDir(notes)
	if readErr != nil {
		return nil, nil // nothing was noted yet
	}
	for _, n := range list {
		note := filepath.Join(notes, n.Name())
		if !strings.HasSuffix(n.Name(), ".txt") || disk.Held(note) {
			continue
		}
		data, readErr := disk.ReadRegular(note, 64<<10)
		if readErr != nil {
			continue // its program has just ended, and taken it away
		}
		dir := strings.TrimSuffix(string(data), "\n")
		gone, sweepErr := disk.SweepNow(dir)
		removed = append(removed, gone...)
		if err = errors.Join(err, sweepErr); sweepErr == nil {
			err = errors.Join(err, e.World.Disk.Remove(note))
		}
	}
	slices.Sort(removed)
	return slices.Compact(removed), err
}

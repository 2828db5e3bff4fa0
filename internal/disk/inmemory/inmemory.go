// Package inmemory lets tests keep their temporary folders in memory. Acts wait for the disk at every commit and every
// file; tests make thousands of both. Only tests import it.
package inmemory

import (
	"os"
	"runtime"
)

// place is where Linux keeps files in memory.
const place = "/dev/shm"

// Prefer makes the folders of t.TempDir in memory, where the system has such a place and no one chose another by
// TMPDIR. Call it in TestMain, before the first test.
func Prefer() {
	if runtime.GOOS != "linux" || os.Getenv("TMPDIR") != "" {
		return
	}
	dir, err := os.MkdirTemp(place, "ironseal-")
	if err != nil {
		return
	}
	if os.Remove(dir) == nil {
		_ = os.Setenv("TMPDIR", place) // a name that cannot be set leaves the disk, which is slower and no error
	}
}

//go:build !unix

package disk

import (
	"io/fs"
	"os"
	"time"
)

func hold(*os.File) {}

// take gives what nobody works on.
func take(path string) (release func(), ok bool) { return func() {}, unheld(path) }

// unheld goes by age where there are no locks: nothing is being made for a day.
func unheld(path string) bool {
	info, err := os.Stat(path)
	return err == nil && time.Since(info.ModTime()) > 24*time.Hour
}

func mine(fs.FileInfo) bool { return true }

func openPlain(path string) (*os.File, error) { return os.Open(path) }

func isFull(error) bool { return false }

func isReadOnly(error) bool { return false }

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

// Mine reports whether a file belongs to the user who runs the program: not known on this system.
func Mine(string) bool { return true }

// OwnerOf is the owner of a file: not known on this system.
func OwnerOf(string) string { return "" }

// Untrusted says why a file or directory could have been put there by somebody
// else; modes tell nothing of it on this system.
func Untrusted(string) string { return "" }

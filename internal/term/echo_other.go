//go:build !unix

package term

import (
	"os"

	xterm "golang.org/x/term"
)

// quieten is left to the reading of a secret here.
func quieten(int) error { return nil }

// readHidden reads a line that is not shown.
func readHidden(f *os.File) ([]byte, error) { return xterm.ReadPassword(int(f.Fd())) }

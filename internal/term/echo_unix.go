//go:build unix

package term

import (
	"os"

	"golang.org/x/sys/unix"
)

// quieten lets a terminal show no longer what is typed; Ctrl-C still counts, and a line
// is a line.
func quieten(fd int) error {
	t, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return err
	}
	t.Lflag &^= unix.ECHO
	t.Lflag |= unix.ICANON | unix.ISIG
	t.Iflag |= unix.ICRNL
	return unix.IoctlSetTermios(fd, setTermios, t)
}

// readHidden reads a line from a terminal that was quietened. It leaves the terminal
// alone: where the program is stopped meanwhile, the echo that was restored stays.
func readHidden(f *os.File) ([]byte, error) { return readLine(f) }

//go:build unix

package term

import "golang.org/x/sys/unix"

// quieten lets a terminal show no longer what is typed; Ctrl-C still counts.
func quieten(fd int) error {
	t, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return err
	}
	t.Lflag &^= unix.ECHO
	return unix.IoctlSetTermios(fd, setTermios, t)
}

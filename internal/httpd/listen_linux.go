package httpd

import (
	"errors"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// deferred lets a socket hand over a connection only once the client has sent something.
func deferred(_, _ string, c syscall.RawConn) error {
	var err error
	return errors.Join(c.Control(func(fd uintptr) {
		err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_DEFER_ACCEPT, int(headerTime/time.Second))
	}), err)
}

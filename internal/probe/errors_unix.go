//go:build unix

package probe

import "syscall"

// What the system says of a port on which nothing listens, and of a connection that the peer ended.
var (
	refused = []error{syscall.ECONNREFUSED}
	cutOff  = []error{syscall.ECONNRESET, syscall.ECONNABORTED, syscall.EPIPE}
)

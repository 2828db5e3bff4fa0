package probe

import "golang.org/x/sys/windows"

// What the system says of a port on which nothing listens, and of a connection that the peer ended.
var (
	refused = []error{windows.WSAECONNREFUSED}
	cutOff  = []error{windows.WSAECONNRESET, windows.WSAECONNABORTED, windows.WSAENETRESET}
)
